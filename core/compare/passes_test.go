package compare

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"patientheron/core/judge"
	"patientheron/core/setup"
)

// of is a side with one stage whose repeats have these rates, in order.
func of(name string, run int64, stage string, rates ...float64) Side {
	s := Side{Name: name, Runs: []int64{run}}
	for _, rate := range rates {
		s.Samples = append(s.Samples, sample(run, stage, rate))
	}
	return s
}

// Cold is compared with cold and warm with warm: a cache that halves a load from the
// second pass on is a loss, and its first pass is like that of the baseline.
func TestColdWithColdWarmWithWarm(t *testing.T) {
	base := of("plain", 1, "backup", 1000, 1001, 999)
	c := Sides(base, []Side{of("cached", 2, "backup", 998, 452, 450)}, 0)
	p := c.Points[0]
	o := p.Row("throughput").Candidates[0]
	if o.Verdict != judge.Worse || o.Value > 0.46 || len(o.Values.Values) != 2 || len(o.Values.All) != 3 || !strings.Contains(o.Remark, "from pass 2 on: 2 of 3") {
		t.Errorf("warm: %+v", o)
	}
	if p.Cold == nil || p.Cold.Candidates[0].Verdict != judge.Hint || p.Cold.Candidates[0].Value < 0.99 {
		t.Errorf("cold: %+v", p.Cold)
	}
	if p.Passes[0].Shape != judge.Level || p.Passes[1].Shape != judge.FirstApart || p.Passes[1].Gain > -0.5 {
		t.Errorf("passes %+v", p.Passes)
	}
	points := Points(of("cached", 2, "backup", 998, 452, 450))
	if words := points[0].Words; !strings.Contains(words, "the first pass differs") || !strings.Contains(words, "slower as it warms") {
		t.Errorf("in words: %s", words)
	}
	// Runs that are measured several times have several first passes.
	several := func(name string, first int64, cold, warm float64) (s Side) {
		s.Name = name
		for run := first; run < first+3; run++ {
			s.Runs = append(s.Runs, run)
			s.Samples = append(s.Samples, of(name, run, "backup", cold+float64(run), warm, warm+float64(run)).Samples...)
		}
		return s
	}
	c = Sides(several("a", 1, 300, 1000), []Side{several("b", 11, 600, 1000)}, 0)
	if p := c.Points[0]; p.Cold == nil || p.Cold.Candidates[0].Verdict != judge.Better || p.Row("throughput").Candidates[0].Verdict != judge.Same {
		t.Errorf("three runs a side: cold %+v, warm %+v", p.Cold, p.Row("throughput").Candidates[0])
	}
}

// A tier's first pass does not drag the interval of what comes after it.
func TestFirstPassDoesNotWidenTheInterval(t *testing.T) {
	points := Points(of("tier", 1, "lookups", 5, 70, 72, 71))
	row := points[0].Rows[0]
	if row.Figure != "throughput" || row.Mean.Low < 60*4096 || row.Mean.High > 85*4096 {
		t.Errorf("%+v", row)
	}
}

// Runs of different setups stand for nothing together, which is said.
func TestMixedSidesAreSaid(t *testing.T) {
	level := func(text string) (s setup.Setup) {
		if err := s.Set("layout.level", text, setup.Told, time.Time{}); err != nil {
			t.Fatal(err)
		}
		return s
	}
	base := of("base", 1, "lookups", 1000, 1001, 999)
	other := of("other", 2, "lookups", 500, 501, 499)
	other.Runs = append(other.Runs, 3)
	other.Samples = append(other.Samples, of("", 3, "lookups", 502, 501, 499).Samples...)
	other.Setups = []setup.Setup{level("raid5"), level("raid5")}
	if c := Sides(base, []Side{other}, 0); c.Candidates[0].Caution != "" {
		t.Errorf("alike: %s", c.Candidates[0].Caution)
	}
	other.Setups[1] = level("raid6")
	c := Sides(base, []Side{other}, 0)
	if !strings.Contains(c.Candidates[0].Caution, "Runs 2 and 3") || !strings.Contains(c.Candidates[0].Caution, "raid5 to raid6") {
		t.Errorf("mixed: %q", c.Candidates[0].Caution)
	}
	gate, _ := ParseGate("throughput worse by 10%")
	if a, err := gate.Check(c); err != nil || len(a.Unknown) != 1 || len(a.Failed) != 0 {
		t.Errorf("a gate on a mixed side: %+v, %v", a, err)
	}
}

// What other runs of the same show is what a single run is allowed to differ by.
func TestSpreadOfThePast(t *testing.T) {
	past := func(rates ...float64) (sides []Side) {
		for i, rate := range rates {
			sides = append(sides, of("past", int64(100+i), "lookups", rate*0.999, rate, rate*1.001))
		}
		return sides
	}
	compare := func(past []Side) (judge.Verdict, string) {
		base, other := of("base", 1, "lookups", 999, 1000, 1001), of("other", 2, "lookups", 1079, 1080, 1081)
		base.Real, other.Real, base.Past, other.Past = true, true, past, past
		c := Sides(base, []Side{other}, 0)
		return c.Points[0].Row("throughput").Candidates[0].Verdict, c.Advice
	}
	steady, advice := compare(past(1000, 1001, 999, 1002, 998, 1000, 1001, 999, 1000, 1002, 998, 1000))
	if steady != judge.Better || advice != "" {
		t.Errorf("8 %% where runs agree: %s, %q", steady, advice)
	}
	unsteady, advice := compare(past(1000, 1100, 900, 1050, 950, 1080, 930))
	if unsteady != judge.NotShown || !strings.Contains(advice, "alternately") {
		t.Errorf("8 %% where runs differ: %s, %q", unsteady, advice)
	}
}

// At a point that only one run of a side measured, that one run knows no more than any
// other.
func TestSeveralRunsKnowOnlyWhatTheyMeasured(t *testing.T) {
	side := func(name string, first int64, rate float64) Side {
		s := Side{Name: name, Real: true}
		for run := first; run < first+3; run++ {
			s.Runs = append(s.Runs, run)
			s.Samples = append(s.Samples, of("", run, "everywhere", rate*(1+0.001*float64(run-first)), rate*1.0005, rate).Samples...)
		}
		s.Samples = append(s.Samples, of("", first, "once", rate*1.001, rate, rate*0.999).Samples...)
		return s
	}
	c := Sides(side("a", 1, 1000), []Side{side("b", 11, 1054)}, 0)
	verdicts := fmt.Sprint(c.Points[0].Row("throughput").Candidates[0].Verdict, ", ", c.Points[1].Row("throughput").Candidates[0].Verdict)
	if verdicts != "better, not shown" {
		t.Errorf("verdicts where three runs and where one run measured: %s", verdicts)
	}
}

// Passes that still climb have no mean, and no interval that spans decades: they are compared
// by rank, each from some pass on with all of the other side.
func TestPassesThatClimbAreComparedByRank(t *testing.T) {
	level := of("plain", 1, "backup", 11.5, 11.48, 11.52, 11.5, 11.49, 11.51)
	for name, c := range map[string]struct {
		rates   []float64
		verdict judge.Verdict
		words   string
	}{
		"from pass 1 on":     {[]float64{12.7, 19, 27, 36, 45, 53.5}, judge.Better, "4.65 times as high (each from pass 2 on, by so much at pass 6, and still changing)"},
		"little by little":   {[]float64{11.7, 12.3, 13.0, 13.5, 14.3, 14.9}, judge.Better, "each from pass 2 on"},
		"down":               {[]float64{11.2, 10.1, 9.2, 8.0, 7.1, 6.2}, judge.Worse, "each from pass 2 on"},
		"through the others": {[]float64{7.0, 8.2, 9.6, 11.4, 13.1, 15.2}, judge.Better, "each from pass 5 on"},
		"up to the others":   {[]float64{7.0, 8.2, 9.1, 10.0, 10.9, 11.7}, judge.NotShown, ""},
	} {
		r := Sides(level, []Side{of("climbs", 2, "backup", c.rates...)}, 0)
		o := r.Points[0].Row("throughput").Candidates[0]
		if o.Verdict != c.verdict || o.Ratio.Low != 0 || o.Ratio.High != 0 || !strings.Contains(r.Candidates[0].Words+r.Candidates[0].Parts[0].Words, c.words) {
			t.Errorf("%s: %s %+v: %s", name, o.Verdict, o.Ratio, r.Candidates[0].Parts[0].Words)
		}
	}
}

// A gate does not take the last of passes that still climb for what they will come to.
func TestAGateOnPassesThatClimb(t *testing.T) {
	gate, err := ParseGate("throughput worse by 5%")
	if err != nil {
		t.Fatal(err)
	}
	level, falling := of("plain", 1, "backup", 11.5, 11.48, 11.52, 11.5, 11.49, 11.51), of("falls", 2, "backup", 11.2, 10.1, 9.2, 8.0, 7.1, 6.2)
	if a, err := gate.Check(Sides(level, []Side{falling}, 0)); err != nil || len(a.NotShown) != 1 || !strings.Contains(a.NotShown[0], "passes are still changing") {
		t.Errorf("%+v, %v", a, err)
	}
}

// Passes that are alike, or that have reached their level, are not said to climb: a verdict by
// rank is as seldom wrong as any other.
func TestPassesByRankAreSeldomWrong(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	wrong, tries := 0, 2000
	for range tries {
		passes := func() (values []float64) {
			for i := range 6 {
				values = append(values, 10*math.Exp(0.3*(1-math.Exp(-float64(i)/3))+0.04*r.NormFloat64()))
			}
			return values
		}
		v := Sides(of("a", 1, "backup", passes()...), []Side{of("b", 2, "backup", passes()...)}, 0).Points[0].Row("throughput").Candidates[0].Verdict
		if v == judge.Better || v == judge.Worse {
			wrong++
		}
	}
	if wrong > tries*5/100 {
		t.Errorf("%d of %d are wrong", wrong, tries)
	}
}
