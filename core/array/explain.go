package array

import (
	"cmp"
	"fmt"
	"math"
	"strings"

	"patientheron/core/quantity"
)

// Use is a kind of load, as far as ceilings need to know it.
type Use struct {
	Name       string
	Write      bool
	Sequential bool
	Block      quantity.Bytes
}

// Uses are the four loads that every explanation shows.
var Uses = []Use{
	{"small random reads", false, false, 4 * quantity.KiB},
	{"small random writes", true, false, 4 * quantity.KiB},
	{"large sequential reads", false, true, quantity.MiB},
	{"large sequential writes", true, true, quantity.MiB},
}

// Explanation is what a description comes to, in words and ceilings.
type Explanation struct {
	Name   string         `json:"name"`
	Usable quantity.Bytes `json:"usableBytes" doc:"Capacity for data"`
	Price  float64        `json:"price,omitempty" doc:"In an invented currency"`
	Words  []string       `json:"words" doc:"What it is and what it survives, in sentences"`
	Uses   []UseCeilings  `json:"uses"`
}

// UseCeilings is the hops of an array for one use.
type UseCeilings struct {
	Use   string         `json:"use"`
	Block quantity.Bytes `json:"blockBytes"`
	Hops  []Hop          `json:"hops" doc:"From the initiator to the media, caches aside"`
	Limit string         `json:"limit" doc:"Name of the hop with the lowest ceiling"`
}

// Explain says in words and ceilings what d describes.
func (d Description) Explain() Explanation {
	e := Explanation{Name: d.Name, Usable: d.Usable(), Price: d.Price, Words: d.Words()}
	for _, u := range Uses {
		hops := d.Ceilings(u)
		e.Uses = append(e.Uses, UseCeilings{Use: u.Name, Block: u.Block, Hops: hops, Limit: Limit(hops).Name})
	}
	return e
}

// Hop is one stage on the way of an operation and the most it can pass.
type Hop struct {
	Name    string          `json:"name"`
	Station string          `json:"station" doc:"What its busy share is called among the counters from inside: the beginning of their names"`
	Rate    quantity.OpRate `json:"rate" doc:"Operations per second it can pass at most; 0 when it sets no limit"`
	Formula string          `json:"formula" doc:"How that is worked out"`
}

// Ceilings lists the hops of an operation from the initiator to the media with
// the most each can pass of a use for long, caches, tiers and the drives' own
// buffers aside: those can answer without what is behind them.
func (d Description) Ceilings(u Use) []Hop {
	d = d.completed()
	var hops []Hop
	block := float64(u.Block)
	if l := d.Link; l.Rate > 0 {
		payload := PayloadShare(min(l.MTU[0], l.MTU[1]))
		links := 1
		if l.Combined == Multipath {
			links = l.Count
		}
		hops = append(hops, Hop{"link", "link", quantity.OpRate(float64(l.Rate) * float64(payload) * float64(links) / block),
			fmt.Sprintf("%d × %s × %s payload at MTU %d ÷ %s", links, l.Rate, payload, min(l.MTU[0], l.MTU[1]), u.Block)})
		if cost := float64(l.PerOp) + float64(l.PerByte)*block; cost > 0 {
			hops = append(hops, Hop{"transport", "link", quantity.OpRate(float64(links) / cost),
				fmt.Sprintf("%d connections ÷ %s of one core for each operation", links, quantity.Seconds(cost))})
		}
	}
	limit, formula := math.Inf(1), ""
	if d.Controller.Operations > 0 {
		limit, formula = float64(d.Controller.Operations), fmt.Sprintf("%s at most", d.Controller.Operations)
	}
	if t := d.Controller.Throughput; t > 0 && float64(t)/block < limit {
		limit, formula = float64(t)/block, fmt.Sprintf("%s ÷ %s", t, u.Block)
	}
	if formula != "" {
		hops = append(hops, Hop{"controller", "controller", quantity.OpRate(limit), formula})
	}
	return append(hops, d.mediaCeiling(u))
}

// mediaCeiling is what the members can do together.
func (d Description) mediaCeiling(u Use) Hop {
	members := d.expandedMembers()
	l := newLayout(d.Layout, members, 0)
	slowest := math.Inf(1)
	sum := 0.0
	for _, m := range members {
		r := m.ceiling(u)
		slowest, sum = min(slowest, r), sum+r
	}
	n := float64(len(members))
	each := slowest
	if d.Layout.Level == Concatenation {
		each = sum / n
	}
	name := fmt.Sprintf("%d members", len(members))
	switch {
	case u.Write && !u.Sequential:
		cost := map[Level]float64{Mirror: n, MirrorStripe: 2, Parity: 4, DoubleParity: 6}[d.Layout.Level]
		cost = max(cost, 1)
		return Hop{name, "member", quantity.OpRate(n * each / cost), fmt.Sprintf("%g × %s ÷ %g member operations a write", n, quantity.OpRate(each), cost)}
	case u.Write:
		data := float64(max(l.data, 1))
		return Hop{name, "member", quantity.OpRate(data * each), fmt.Sprintf("%g members with data × %s", data, quantity.OpRate(each))}
	}
	return Hop{name, "member", quantity.OpRate(n * each), fmt.Sprintf("%g × %s", n, quantity.OpRate(each))}
}

// queueGain is the most that ordering a full queue by position gains over
// serving a disk's random commands one by one.
const queueGain = 2.5

// ceiling is the most one member can do of a use.
func (g Group) ceiling(u Use) float64 {
	block := float64(u.Block)
	pages := math.Ceil(block / pageSize)
	switch {
	case g.Medium == HardDisk && u.Sequential:
		return float64(g.OuterRate) / block / g.Slow
	case g.Medium == HardDisk:
		one := float64(g.SeekAverage) + 30/g.RPM + float64(g.Overhead) + block/float64(g.OuterRate)
		return queueGain / one / g.Slow
	case g.Medium == LowLatency:
		return min(float64(g.Units)/float64(g.ReadTime)/g.Slow, float64(g.Interface)/block)
	case u.Write:
		program := g.ProgramTime
		if g.FastRegion > 0 {
			program = min(program, g.FastProgram)
		}
		return min(float64(g.Dies)/float64(program)/pages/g.Slow, float64(g.Interface)/block)
	}
	return min(float64(g.Dies)/float64(g.ReadTime)/pages/g.Slow, float64(g.Interface)/block)
}

// Limit is the hop with the lowest ceiling; nil when no hop sets one.
func Limit(hops []Hop) *Hop {
	var lowest *Hop
	for i := range hops {
		if hops[i].Rate > 0 && (lowest == nil || hops[i].Rate < lowest.Rate) {
			lowest = &hops[i]
		}
	}
	return lowest
}

// Words says in sentences what the array is and what it survives.
func (d Description) Words() []string {
	d = d.completed()
	var words []string
	for _, g := range d.Members {
		words = append(words, g.words())
	}
	words = append(words, fmt.Sprintf("They form %s with chunks of %s and leave %s for data.", d.Layout.Level, d.Layout.Chunk, d.Usable()))
	for _, c := range d.Caches {
		words = append(words, c.words())
	}
	if t := d.Tier; t != nil {
		words = append(words, fmt.Sprintf("What is used most lies on a tier of %s That is %s as %s, moved by %s every %s at %s.",
			t.Members.words(), t.usable(), t.form().Level, cmp.Or(t.Extent, tierExtent), cmp.Or(t.Every, tierEvery), cmp.Or(t.Rate, tierRate)))
	}
	if l := d.Link; l.Rate > 0 {
		text := fmt.Sprintf("Operations come over %d × %s with an MTU of %d and %d at its ends and a round trip of %s", l.Count, l.Rate, l.MTU[0], l.MTU[1], l.RoundTrip)
		if l.Count > 1 {
			text += fmt.Sprintf(", as a %s", l.Combined)
		}
		words = append(words, text+".")
		if l.MTU[0] != l.MTU[1] {
			words = append(words, "The two ends of the link disagree about the MTU: both use the smaller one.")
		}
	}
	if r := d.Replica; r != nil {
		words = append(words, fmt.Sprintf("Every write must also reach a copy %g km away, which adds %s of light and %s of service.",
			r.Kilometres, quantity.Seconds(2*r.Kilometres*lightPerKilometre/1e9), r.Service))
	}
	for _, f := range d.Faults {
		words = append(words, fmt.Sprintf("At %s: %s (member %d).", f.At, f.Kind, f.Member))
	}
	return append(words, d.survives())
}

func (g Group) words() string {
	full := g.completed()
	text := fmt.Sprintf("%d × %s of %s", g.Count, g.Medium, g.Capacity)
	switch g.Medium {
	case HardDisk:
		text += fmt.Sprintf(", %g turns a minute, %s average seek, %s to %s from the outer to the inner tracks", full.RPM, full.SeekAverage, full.OuterRate, full.InnerRate)
	case Flash:
		text += fmt.Sprintf(", %d dies, %s to read and %s to program a page, %s over-provisioned", full.Dies, full.ReadTime, full.ProgramTime, full.OverProvision)
	case LowLatency:
		text += fmt.Sprintf(", %d operations at a time, %s each", full.Units, full.ReadTime)
	}
	if full.Slow > 1 {
		text += fmt.Sprintf(", %g times slower than they should be", full.Slow)
	}
	return text + "."
}

func (c Cache) words() string {
	text := fmt.Sprintf("In front of them: %s, %s, %s", c.Name, c.Size, c.Mode)
	if c.Mode == WriteBack {
		if c.Protected {
			text += ", protected: what is dirty survives a power cut"
		} else {
			text += ", not protected: a power cut loses what is dirty"
		}
	}
	return text + "."
}

func (d Description) survives() string {
	total := len(d.expandedMembers())
	var unsafe []string
	for _, c := range d.Caches {
		if c.Mode == WriteBack && !c.Protected {
			unsafe = append(unsafe, c.Name)
		}
	}
	lost := map[Level]string{
		Concatenation: "the loss of no member", Stripe: "the loss of no member", Parity: "the loss of any one member",
		DoubleParity: "the loss of any two members", MirrorStripe: "the loss of one member of each pair",
		Mirror: fmt.Sprintf("the loss of any %d members", total-1),
	}[d.Layout.Level]
	if len(unsafe) == 0 {
		return fmt.Sprintf("It survives %s and a power cut.", lost)
	}
	return fmt.Sprintf("It survives %s, but not a power cut: %s would lose what is dirty.", lost, strings.Join(unsafe, " and "))
}
