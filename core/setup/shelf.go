package setup

import (
	"fmt"
	"strings"

	"patientheron/core/quantity"
)

// shelvesCeiling is what the expanders of all shelves carry, in the busier direction: what is read
// of members for an operation comes, and what is written goes; nil where that is not known, or where
// a tier answers without them.
func (s Setup) shelvesCeiling(u Use) *Hop {
	shelves, rate := s.Number("layout.shelves"), s.ByteRate("layout.shelfRate")
	g := s.geometry(u)
	if shelves < 1 || rate == 0 || s.Text("tier.size") != "" || s.Is("pool.compresses") || s.Is("pool.deduplicates") || g.members <= g.missing || g.missing > g.parity() && g.missing > 0 && g.parity() > 0 {
		return nil
	}
	reads, writes, _ := s.costs(g, u)
	total := reads.times(float64(u.Reads)).plus(writes.times(float64(1 - u.Reads)))
	busier, way := total.readBytes, "come"
	if total.writtenBytes > busier {
		busier, way = total.writtenBytes, "go"
	}
	if busier <= 0 {
		return nil
	}
	together := shelves
	switch g.level { // all members do as much, and the fullest shelf limits
	case "raid0", "raid10", "raid5", "raid6":
		fullest := (g.members + int(shelves) - 1) / int(shelves)
		together = float64(g.members-g.missing) / float64(fullest)
	}
	formula := fmt.Sprintf("%.3g × %s ÷ %s that %s for each", together, rate, quantity.Bytes(busier), way)
	return new(hop("shelves", shelfStation, quantity.OpRate(together*float64(rate)/busier), formula))
}

// withoutShelf says whether data stay when any one shelf fails with all members in it.
func (s Setup) withoutShelf() (Answer, string) {
	shelves := int(s.Number("layout.shelves"))
	members, known := s.members()
	level := s.level()
	if _, of := mayMiss(level, members); shelves < 1 || !known || !of {
		return NotKnown, "how the members stand in shelves is not known; tell layout.shelves, layout.shelved, media[0].count and layout.level"
	}
	if shelves == 1 {
		return No, "there is one shelf"
	}
	for shelf := range shelves {
		var gone []int
		for m := range int(members) {
			in := m * shelves / int(members)
			if s.Text("layout.shelved") == "in turn" {
				in = m % shelves
			}
			if in == shelf {
				gone = append(gone, m)
			}
		}
		if why := s.lost(level, int(members), gone); why != "" {
			return No, fmt.Sprintf("shelf %d holds %s", shelf, why)
		}
	}
	if missing := s.Number("layout.missing"); missing > 0 {
		return NotKnown, fmt.Sprintf("no shelf holds too many members, but %g is missing already", missing)
	}
	return Yes, "no shelf holds more members than may fail"
}

// lost says why data are lost with some members; "" where they are not.
func (s Setup) lost(level string, members int, gone []int) string {
	numbers := func(of []int) string {
		return "members " + strings.Trim(strings.ReplaceAll(fmt.Sprint(of), " ", ", "), "[]")
	}
	switch level {
	case "raid1":
		if len(gone) == members {
			return "all members"
		}
		return ""
	case "raid10":
		for i := 1; i < len(gone); i++ {
			for _, other := range gone[:i] {
				if other/2 == gone[i]/2 {
					return fmt.Sprintf("both copies of what is on %s", numbers([]int{other, gone[i]}))
				}
			}
		}
		return ""
	case "raid5", "raid6":
		most, _ := mayMiss(level, float64(members))
		groups := max(int(s.Number("layout.groups")), 1)
		for group := range groups {
			var here []int
			for _, m := range gone {
				if m*groups/members == group {
					here = append(here, m)
				}
			}
			if len(here) > most {
				return fmt.Sprintf("%s, and %s of them may fail", numbers(here), upTo(most))
			}
		}
		return ""
	}
	return numbers(gone)
}
