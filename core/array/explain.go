package array

import (
	"cmp"
	"fmt"
	"math"
	"strings"
	"time"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// Explanation is what a description comes to, in words and ceilings.
type Explanation struct {
	Name   string              `json:"name"`
	Usable quantity.Bytes      `json:"usableBytes" doc:"Capacity for data"`
	Price  float64             `json:"price,omitempty" doc:"In an invented currency"`
	Words  []string            `json:"words" doc:"What it is and what it survives, in sentences"`
	Uses   []setup.UseCeilings `json:"uses"`
}

// Explain says in words and ceilings what d describes.
func (d Description) Explain() Explanation {
	e := Explanation{Name: d.Name, Usable: d.Usable(), Price: d.Price, Words: d.Words(), Uses: d.Setup().Explained()}
	return e
}

// Setup is d as facts of a setup, with what each member can do alone by the
// same rules as the simulation.
func (d Description) Setup() setup.Setup {
	d = d.completed()
	var s setup.Setup
	know := func(key string, value any) { s.Know(key, value, setup.Simulated, time.Time{}) }
	for i, g := range d.Members {
		at := fmt.Sprintf("media[%d].", i)
		full := g.completed()
		know(at+"kind", g.Medium)
		know(at+"count", g.Count)
		know(at+"size", g.Capacity)
		know(at+"randomReadRate", quantity.OpRate(math.Ceil(full.ceiling(false, false, pageSize))))
		know(at+"randomWriteRate", quantity.OpRate(math.Ceil(full.ceiling(true, false, pageSize))))
		know(at+"readRate", inMegabytes(full.ceiling(false, true, quantity.MiB)))
		know(at+"writeRate", inMegabytes(full.ceiling(true, true, quantity.MiB)))
	}
	know("layout.level", d.Layout.Level)
	know("layout.chunk", d.Layout.Chunk)
	if failed := d.failedFromStart(); failed > 0 {
		know("layout.missing", failed)
	}
	if d.Controller.Operations > 0 {
		know("controller.operations", d.Controller.Operations)
	}
	if d.Controller.Throughput > 0 {
		know("controller.throughput", d.Controller.Throughput)
	}
	for i, c := range d.Caches {
		at := fmt.Sprintf("cache[%d].", i)
		know(at+"name", c.Name)
		know(at+"mode", c.Mode)
		know(at+"size", c.Size)
		know(at+"throughput", c.Throughput)
		know(at+"hitTime", c.HitTime)
		medium := "memory"
		if c.Devices > 0 {
			medium = "ssd"
			know(at+"devices", c.Devices)
		}
		know(at+"medium", medium)
		if c.Mode == WriteBack {
			know(at+"protected", yesNo(c.Protected))
		}
	}
	if t := d.Tier; t != nil {
		unit := quantity.Bytes(1e6)
		if t.usable() > 1e11 { // as drives are sold, but for what is left of an extent
			unit = 1e9
		}
		know("tier.size", (t.usable()+unit/2)/unit*unit)
		know("tier.count", t.Members.Count)
		know("tier.level", t.form().Level)
	}
	if l := d.Link; l.Rate > 0 {
		know("link[0].rate", l.Rate)
		know("link[0].count", l.Count)
		if l.Count > 1 {
			know("link[0].combined", l.Combined)
		}
		know("link[0].mtuHere", l.MTU[0])
		know("link[0].mtuThere", l.MTU[1])
		know("link[0].roundTrip", l.RoundTrip)
		if l.PerOp > 0 {
			know("transport.operationTime", l.PerOp)
		}
		if l.PerByte > 0 {
			know("transport.byteTime", l.PerByte)
		}
	}
	if r := d.Replica; r != nil {
		know("replication.mode", "synchronous")
		know("replication.kilometres", r.Kilometres)
		if r.Rate > 0 {
			know("replication.rate", r.Rate)
		}
	}
	if d.Price > 0 {
		know("cost.price", d.Price)
	}
	return s
}

// Layers describes the way from the initiator down to the members.
func (d Description) Layers() setup.Layer {
	d = d.completed()
	var layers []setup.Layer
	if l := d.Link; l.Rate > 0 {
		layers = append(layers, setup.Layer{Kind: "link", Name: "link", Words: fmt.Sprintf("%d × %s, round trip %s", l.Count, l.Rate, l.RoundTrip)})
	}
	layers = append(layers, setup.Layer{Kind: "controller", Name: "controller", Words: "simulated"})
	for _, c := range d.Caches {
		layers = append(layers, setup.Layer{Kind: "cache", Name: c.Name, Words: fmt.Sprintf("%s, %s", c.Size, c.Mode)})
	}
	if t := d.Tier; t != nil {
		layers = append(layers, setup.Layer{Kind: "tier", Name: "tier", Words: fmt.Sprintf("%s as %s of %d members", t.usable(), t.form().Level, t.Members.Count)})
	}
	bottom := setup.Layer{Kind: "raid", Name: string(d.Layout.Level), Words: fmt.Sprintf("in chunks of %s", d.Layout.Chunk), Below: []setup.Layer{}}
	for _, g := range d.Members {
		bottom.Below = append(bottom.Below, setup.Layer{Kind: string(g.Medium), Name: fmt.Sprintf("%d members", g.Count), Words: fmt.Sprintf("%s each", g.Capacity), Below: []setup.Layer{}})
	}
	for i := len(layers) - 1; i >= 0; i-- {
		layers[i].Below = []setup.Layer{bottom}
		bottom = layers[i]
	}
	return bottom
}

// failedFromStart is the number of members that are gone before anything is
// measured.
func (d Description) failedFromStart() (n int) {
	for _, f := range d.Faults {
		if f.Kind == MemberFails && f.At == 0 {
			n++
		}
	}
	return n
}

// inMegabytes is the throughput of so many operations of 1 MiB a second, as a
// data sheet would give it.
func inMegabytes(rate float64) quantity.ByteRate {
	return quantity.ByteRate(math.Ceil(rate*float64(quantity.MiB)/1e6-1e-9) * 1e6)
}

func yesNo(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// queueGain is the most that ordering a full queue by position gains over
// serving a disk's random commands one by one.
const queueGain = 2.5

// ceiling is the most one member can do of operations of one block size, each
// second.
func (g Group) ceiling(write, sequential bool, size quantity.Bytes) float64 {
	block := float64(size)
	pages := math.Ceil(block / pageSize)
	switch {
	case g.Medium == HardDisk && sequential:
		return float64(g.OuterRate) / block / g.Slow
	case g.Medium == HardDisk:
		one := float64(g.SeekAverage) + 30/g.RPM + float64(g.Overhead) + block/float64(g.OuterRate)
		return queueGain / one / g.Slow
	case g.Medium == LowLatency:
		return min(float64(g.Units)/float64(g.ReadTime)/g.Slow, float64(g.Interface)/block)
	case write:
		program := g.ProgramTime
		if g.FastRegion > 0 {
			program = min(program, g.FastProgram)
		}
		return min(float64(g.Dies)/float64(program)/pages/g.Slow, float64(g.Interface)/block)
	}
	return min(float64(g.Dies)/float64(g.ReadTime)/pages/g.Slow, float64(g.Interface)/block)
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
