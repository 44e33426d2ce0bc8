package setup

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/quantity"
)

// TierAt is the beginning of the keys of a tier: the fastest is 0, and further ones lie between it
// and the members below.
func TierAt(i int) string {
	if i == 0 {
		return "tier."
	}
	return fmt.Sprintf("lowerTier[%d].", i-1)
}

// TierName is what a tier is called.
func TierName(i int) string {
	if i == 0 {
		return "tier"
	}
	return fmt.Sprintf("lower tier %d", i)
}

// tiers is how many there are.
func (s Setup) tiers() int {
	if s.Text("tier.size") == "" {
		return 0
	}
	return 1 + s.Count("lowerTier")
}

// tierCeiling puts the members of tiers beside those below them: at first any share of all may lie
// there, for long as much as each has room for, what is used most on the fastest.
func (s Setup) tierCeiling(u Use, members []Hop) []Hop {
	count := s.tiers()
	if count == 0 || len(members) != 1 {
		return members
	}
	below := members[0]
	name := "tier and " + below.Name
	if count > 1 {
		name = "tiers and " + below.Name
	}
	h := hop(name, memberStation, 0, below.Formula)
	h.tiered = s.Count("cache") == 0
	if below.Rate == 0 {
		return []Hop{h}
	}
	var words []string
	sum, least := below.Rate, quantity.OpRate(math.Inf(1))
	room, above := quantity.Bytes(0), quantity.Share(0)
	for i := range count {
		rate, why := s.tierRate(u, i)
		if rate == 0 {
			h.Formula = why
			return []Hop{h}
		}
		room += s.Bytes(TierAt(i) + "size")
		share := s.within(u, room) - above
		above += share
		switch {
		case !u.Long:
			sum += rate
			words = append(words, fmt.Sprintf("%s on the %s (%s)", rate, TierName(i), why))
		case share > 0:
			least = min(least, rate/quantity.OpRate(share))
			words = append(words, fmt.Sprintf("%s on the %s for %s of it", rate, TierName(i), share))
		}
	}
	if !u.Long {
		h.Rate, h.Formula = sum, fmt.Sprintf("%s + %s below (%s)", strings.Join(words, " + "), below.Rate, below.Formula)
		return []Hop{h}
	}
	if above < 1 {
		least = min(least, below.Rate/quantity.OpRate(1-above))
	}
	h.Rate, h.Formula = least, fmt.Sprintf("%s, %s below for the rest", strings.Join(words, ", "), below.Rate)
	return []Hop{h}
}

// tierRate is what the members of a tier pass, and how that is worked out; 0 where it is not known.
func (s Setup) tierRate(u Use, i int) (quantity.OpRate, string) {
	at := TierAt(i)
	kind := s.Text(at + "medium")
	if kind == "hard disk" {
		return 0, "what the " + TierName(i) + " passes is not known of hard disks"
	}
	count := int(s.Number(at + "count"))
	m := s.medium(u, at)
	m.count, m.size = float64(count), float64(s.Bytes(at+"size"))
	g := geometry{level: s.Text(at + "level"), members: count, chunk: 64 << 10, gathers: s.gathers(u)}
	if g.level == "raid10" && count > 0 {
		m.size *= 2 / float64(count)
	} else if data := count - g.parity(); g.parity() > 0 && data > 0 {
		m.size /= float64(data)
	}
	if u.Long {
		within := u
		within.Span = 0 // all of the tier is in use
		m.wear(s, within, at, kind)
	}
	switch {
	case m.unknownForLong:
		return 0, unknownForLong
	case m.lacks != "" || count < 1:
		return 0, "what the " + TierName(i) + " passes is not known; tell " + m.lacks
	}
	rate, formula := g.rate(u, []medium{m}, g.cost(int64(u.Block), false, u.Sequential), g.cost(int64(u.Block), true, u.Sequential), float64(count))
	if !(rate > 0) || math.IsInf(rate, 0) {
		return 0, "what is told of the " + TierName(i) + " does not fit together"
	}
	return quantity.OpRate(rate), formula
}

// within is the share of a use that falls on so much of what it uses most.
func (s Setup) within(u Use, room quantity.Bytes) quantity.Share {
	usable, _ := s.Usable()
	span := u.Span
	if span == 0 || span > usable {
		span = usable
	}
	if room >= span || span == 0 {
		return 1
	}
	hot := float64(span) * float64(u.HotSpan)
	switch {
	case hot <= 0 || hot >= float64(span) || u.HotAccesses <= 0:
		return quantity.Share(room) / quantity.Share(span)
	case float64(room) < hot:
		return u.HotAccesses * quantity.Share(float64(room)/hot)
	}
	return u.HotAccesses + (1-u.HotAccesses)*quantity.Share((float64(room)-hot)/(float64(span)-hot))
}

// tierFields are the fields of the members of a tier, of which most is told as of media.
func tierFields(part string) (of []FactField) {
	of = append(of, FactField{Key: part + ".medium", Label: "medium", Kind: "choice", Choices: fields[0].Choices})
	for _, f := range fields {
		if name, media := strings.CutPrefix(f.Key, "media[]."); media && !slices.Contains([]string{"kind", "count", "size", "model"}, name) {
			f.Key = part + "." + name
			of = append(of, f)
		}
	}
	return of
}
