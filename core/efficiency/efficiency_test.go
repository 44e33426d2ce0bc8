package efficiency_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"patientheron/core/array"
	"patientheron/core/compare"
	"patientheron/core/efficiency"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/storage/simulated"
)

// load is a plain load.
func load(block quantity.Bytes, reads quantity.Share, order workload.Order, depth int) workload.Spec {
	l := workload.Default()
	l.Blocks, l.Reads, l.Order, l.Depth = workload.Block(block), reads, order, depth
	l.Span, l.For, l.WarmUp = 16*quantity.GiB, 2, 0.2
	return l
}

// side is what was measured under one load: one sample for each rate.
func side(name string, l workload.Spec, rates ...float64) compare.Side {
	s := compare.Side{Name: name, Runs: []int64{1}}
	for i, rate := range rates {
		sum := &measure.Summary{}
		sum.Total.Throughput = quantity.ByteRate(rate)
		s.Samples = append(s.Samples, compare.Sample{Run: 1, Measurement: int64(i + 1), Stage: "lookups", Load: l, Summary: sum})
	}
	return s
}

func of(level string, s compare.Side) compare.Side {
	s.Setup.Know("layout.level", level, setup.Told, time.Time{})
	return s
}

// Three members do 100, 110 and 90, and an array of them 270: that is nine tenths, and with
// repeats that are a hundredth up and down, the interval is that of Student's of two degrees of
// freedom, put together by squares.
func TestHowMuchAnArrayMakesOfItsMembers(t *testing.T) {
	l := load(4096, 1, workload.Random, 8)
	around := func(rate float64) []float64 { return []float64{rate * math.Exp(-0.01), rate, rate * math.Exp(0.01)} }
	members := []compare.Side{side("a", l, around(100)...), side("b", l, around(110)...), side("c", l, around(90)...)}
	deep := l
	deep.Depth = 24
	r := efficiency.Of(of("raid0", side("pool", deep, around(270)...)), members, nil)
	if len(r.Points) != 1 {
		t.Fatalf("%+v", r)
	}
	p := r.Points[0]
	// Half of an interval is 4.303 · 0.01 / √3.
	half := 4.3027 * 0.01 / math.Sqrt(3)
	ofSum := half * math.Sqrt(100*100+110*110+90*90) / 300
	for name, c := range map[string]struct{ got, want float64 }{
		"sum": {p.Sum.Mean, 300}, "array": {p.Array.Mean, 270}, "efficiency": {p.Efficiency.Mean, 0.9}, "leaves": {p.Leaves, 1},
		"half": {math.Log(p.Efficiency.High/p.Efficiency.Low/1) / 2, math.Hypot(half, ofSum)},
	} {
		if math.Abs(c.got/c.want-1) > 0.002 {
			t.Errorf("%s is %g, not %g", name, c.got, c.want)
		}
	}
	if p.Member == "" || len(r.Odd) != 0 || !strings.Contains(strings.Join(r.Words, "\n"), "c does 90.0 B/s, and b 110 B/s") || !strings.HasPrefix(r.Words[0], "pool reaches 90 % of what its RAID level leaves") {
		t.Errorf("%+v", r)
	}
	deep.Depth = 26 // of which 8 are not a third
	if r := efficiency.Of(side("pool", deep, 270), members, nil); len(r.Points) != 0 {
		t.Errorf("%+v", r.Points)
	}
	// Where members were measured as deep as the array, that is what there is.
	if r := efficiency.Of(side("pool", l, 270), members, nil); len(r.Points) != 1 || r.Points[0].Member != "" || r.Points[0].Leaves != 0 || r.Points[0].Efficiency.Known {
		t.Errorf("%+v", r)
	}
}

// The member that is not like the others is named, and what members do at once.
func TestTheOddMemberAndWhatTheyShare(t *testing.T) {
	l := load(4096, 1, workload.Random, 8)
	members, atOnce := []compare.Side{}, []compare.Side{}
	for i, rate := range []float64{100, 101, 60, 99} {
		name := fmt.Sprintf("disk %d", i+1)
		members = append(members, side(name, l, rate*0.999, rate, rate*1.001))
		atOnce = append(atOnce, side(name, l, rate*0.7*0.999, rate*0.7, rate*0.7*1.001))
	}
	r := efficiency.Of(side("pool", l, 244, 244.8, 245), members, atOnce)
	if len(r.Odd) != 1 || r.Odd[0].Member != 2 || math.Abs(r.Odd[0].Times-60.0/99) > 0.001 || r.Odd[0].Words != `disk 3 is an outlier: 39.4 % less than any of the others under "lookups".` {
		t.Errorf("%+v", r.Odd)
	}
	if p := r.Points[0]; p.AtOnce == nil || math.Abs(p.AtOnce.Mean-0.7) > 0.001 {
		t.Errorf("%+v", p)
	}
	words := strings.Join(r.Words, "\n")
	// 244.6 of 360 at all, of the 252 that they do at once: 97 %.
	if !strings.Contains(words, "Together the members reach 70") || !strings.Contains(words, "The array reaches 97") {
		t.Error(words)
	}
	if r = efficiency.Of(side("pool", l, 350, 351), members, members); !strings.Contains(strings.Join(r.Words, "\n"), "Members do not slow each other down") {
		t.Error(r.Words)
	}
	atOnce[0] = side("disk 1", l, 60, 100, 160)
	for i := range 3 {
		atOnce[i+1] = members[i+1]
	}
	if r = efficiency.Of(side("pool", l, 350, 351), members, atOnce); !strings.Contains(strings.Join(r.Words, "\n"), "slow each other down is not shown") {
		t.Error(r.Words)
	}
}

// What cannot be set side by side is named with the reason.
func TestWhatIsLeftOut(t *testing.T) {
	l, paced, other := load(4096, 1, workload.Random, 8), load(4096, 1, workload.Random, 8), load(8192, 1, workload.Random, 8)
	paced.Rate = 100
	pool := side("pool", l, 100, 101)
	for _, more := range []workload.Spec{paced, other} {
		pool.Samples = append(pool.Samples, side("pool", more, 50).Samples...)
	}
	doubted := side("b", l, 50, 51)
	doubted.Samples[1].Doubts = []judge.Finding{{Weight: judge.Unreliable, Figure: "all", Sentence: "Memory answered."}}
	members := []compare.Side{side("a", l, 50, 51), doubted}
	swept := side("pool", load(512, 1, workload.Random, 8), 900)
	swept.Samples[0].Point = []plan.Setting{{Field: "members.count", Value: "9"}}
	pool.Samples = append(pool.Samples, swept.Samples...) // of another array, which is not spoken of
	members[0].Samples = append(members[0].Samples, side("a", paced, 50).Samples...)
	r := efficiency.Of(pool, members, nil)
	if len(r.Points) != 0 || len(r.LeftOut) != 3 || !strings.Contains(r.LeftOut[0], "member 2 is unreliable: Memory answered.") ||
		!strings.Contains(r.LeftOut[1], "its rate is set") || !strings.Contains(r.LeftOut[2], "not all members were measured under this load") {
		t.Errorf("%+v", r)
	}
	if len(r.Words) != 1 || !strings.Contains(r.Words[0], "no load in common") {
		t.Error(r.Words)
	}
}

// More than all of its members is a doubt, and no share: two of four were named. And a member
// that scatters is not said to hold the others up.
func TestMoreThanAllMembersIsADoubt(t *testing.T) {
	l := load(4096, 1, workload.Random, 8)
	words := func(array compare.Side, members ...compare.Side) string {
		return strings.Join(efficiency.Of(array, members, nil).Words, "\n")
	}
	if w := words(side("pool", l, 200, 201, 202), side("a", l, 50, 51, 52), side("b", l, 50, 51, 52)); strings.Contains(w, "%") || !strings.Contains(w, "a member is missing") {
		t.Error(w)
	}
	if w := words(side("pool", l, 95, 96, 97), side("a", l, 44, 52, 60), side("b", l, 40, 49, 55)); strings.Contains(w, "no more than") {
		t.Error(w)
	}
}

// Of 2,000 that are drawn, the interval holds the truth in 95 of 100 at least.
func TestTheIntervalHoldsTheTruth(t *testing.T) {
	draw := rand.New(rand.NewPCG(3, 9))
	l := load(4096, 1, workload.Random, 8)
	scattered := func(rate float64) (all []float64) {
		for range 3 {
			all = append(all, rate*math.Exp(0.05*draw.NormFloat64()))
		}
		return all
	}
	held := 0
	const drawn = 2000
	for range drawn {
		var members []compare.Side
		for range 4 {
			members = append(members, side("m", l, scattered(100)...))
		}
		if e := efficiency.Of(side("pool", l, scattered(320)...), members, nil).Points[0].Efficiency; e.Low <= 0.8 && e.High >= 0.8 {
			held++
		}
	}
	if share := float64(held) / drawn; share < 0.945 {
		t.Errorf("it holds %.1f %%", share*100)
	}
}

// What levels leave is what simulated arrays make of their members, which know nothing of the
// formula.
func TestWhatALevelLeavesIsWhatArraysMake(t *testing.T) {
	member := array.Group{Count: 1, Medium: array.Flash, Capacity: 200e9, ReadTime: 70e-6, ProgramTime: 400e-6, Dies: 16, Interface: 2e9}
	measured := func(count int, level array.Level, l workload.Spec) compare.Side {
		t.Helper()
		g := member
		g.Count = count
		sum, err := simulated.Measure(t.Context(), array.Description{Members: []array.Group{g}, Layout: array.Layout{Level: level}}, l, 8_000)
		if err != nil {
			t.Fatal(err)
		}
		s := side("s", l, 0)
		s.Samples[0].Summary = &sum
		return of(string(level), s)
	}
	for level, count := range map[array.Level]int{array.Stripe: 4, array.MirrorStripe: 4, array.Mirror: 2, array.Parity: 5, array.DoubleParity: 6} {
		for name, l := range map[string]workload.Spec{
			"small reads":  load(4096, 1, workload.Random, 64),
			"small writes": load(4096, 0, workload.Random, 64),
			"a mix":        load(4096, 0.5, workload.Random, 64),
		} {
			one := measured(1, array.Concatenation, l)
			for _, pure := range []quantity.Share{1, 0} { // which tell what a read costs, and a write
				l := l
				l.Reads = pure
				one.Samples = append(one.Samples, measured(1, array.Concatenation, l).Samples...)
			}
			deep := l
			deep.Depth = 64 * count
			var members []compare.Side
			for range count {
				members = append(members, one)
			}
			p := efficiency.Of(measured(count, level, deep), members, nil).Points[0]
			if off := p.Efficiency.Mean/p.Leaves - 1; math.Abs(off) > 0.08 {
				t.Errorf("%s, %s: %.3f of the sum, and the formula says %.3f", level, name, p.Efficiency.Mean, p.Leaves)
			}
		}
	}
}
