package compare

import (
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/test/trials"
)

// drawn is a side with some stages, each at a rate of its own that scatters, warms, stalls or
// is doubted by chance.
func drawn(r *rand.Rand, name string, run int64, real bool) Side {
	apart := 0.4 * float64(r.IntN(2)) // of the levels of sides
	s := Side{Name: name, Runs: []int64{run}, Real: real}
	for _, stage := range []string{"lookups", "entries", "backup"} {
		if r.IntN(12) == 0 {
			continue // not measured
		}
		level, scatter, climb := math.Exp(6+apart*r.NormFloat64()), 0.001+0.1*r.Float64()*r.Float64(), 0.0
		if r.IntN(4) == 0 {
			climb = 0.2 * r.NormFloat64()
		}
		for repeat := range 1 + r.IntN(6) {
			rate := level * math.Exp(scatter*r.NormFloat64()+climb*float64(repeat))
			if r.IntN(40) == 0 {
				rate = 0
			}
			s.Samples = append(s.Samples, sample(run, stage, rate))
			last := &s.Samples[len(s.Samples)-1]
			if rate == 0 {
				last.Summary = &measure.Summary{}
			}
			if r.IntN(15) == 0 {
				last.Doubts = []judge.Finding{{Kind: "unsteady", Weight: []judge.Weight{judge.Caution, judge.Unreliable}[r.IntN(2)], Figure: "all", Sentence: "It was."}}
			}
		}
	}
	return s
}

var changeInWords = regexp.MustCompile(`(\d[\d.]*) % (higher|lower|longer|shorter)|([\d.]+) times as (high|long|much)|([\d.]+) times less|doubled|halved|unchanged`)

// saidRatio is the ratio that words say, with the way they round; 0 where they say none.
func saidRatio(words string) float64 {
	m := changeInWords.FindStringSubmatch(words)
	number := func(text string) float64 { v, _ := strconv.ParseFloat(text, 64); return v }
	switch {
	case m == nil:
		return 0
	case m[1] != "" && (m[2] == "higher" || m[2] == "longer"):
		return 1 + number(m[1])/100
	case m[1] != "":
		return 1 - number(m[1])/100
	case m[3] != "":
		return number(m[3])
	case m[5] != "":
		return 1 / number(m[5])
	case m[0] == "doubled":
		return 2
	case m[0] == "halved":
		return 0.5
	}
	return 1
}

// Every sentence and every verdict of a comparison holds for the table beside it: of tens of
// thousands of rows that are drawn none contradicts it.
func TestSentencesHoldForTheirTable(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12+trials.Seed()))
	said, kinds, lines := map[judge.Verdict]int{}, map[string]int{}, 0
	const noise = quantity.Share(0.05)
	pages := trials.Number(1200)
	for page := 0; page < pages && !t.Failed(); page++ {
		real := r.IntN(2) == 0
		c := Sides(drawn(r, "base", 1, real), []Side{drawn(r, "other", 2, real)}, noise)
		for _, p := range c.Points {
			for _, row := range p.Rows {
				o, f := row.Candidates[0], figure.Of(row.Figure)
				said[o.Verdict]++
				up, low, high := o.Ratio.Value > 1 || row.Baseline.Taken.Mean == 0, o.Ratio.Low, o.Ratio.High
				switch v := o.Verdict; {
				case (v == judge.Better || v == judge.Worse) && (up != f.Lower) != (v == judge.Better):
					t.Errorf("%s of %s is %s at a ratio of %g", f.Key, p.Title, v, o.Ratio.Value)
				case (v == judge.Better || v == judge.Worse) && high > 0 && (up && low < 1-1e-9 || !up && high > 1+1e-9):
					t.Errorf("%s is %s, and lies between %g and %g", f.Key, v, low, high)
				case v == judge.Same && o.Ratio.Known() && (low < 1/1.05-1e-3 || high > 1.05+1e-3):
					t.Errorf("%s is the same, and lies between %g and %g", f.Key, low, high)
				case v == judge.NotShown && high > 0 && (low > 1.05 || high < 1/1.05):
					t.Errorf("%s is not shown, and lies between %g and %g", f.Key, low, high)
				case v == judge.Hint && high > 0:
					t.Errorf("%s is a hint with an interval", f.Key)
				case v != judge.Missing && !o.Ratio.Linear && o.Climbs == "" && row.Baseline.Taken.Mean > 0 && math.Abs(o.Taken.Mean/row.Baseline.Taken.Mean/o.Ratio.Value-1) > 1e-6:
					t.Errorf("%s: %g over %g is said to be %g", f.Key, o.Taken.Mean, row.Baseline.Taken.Mean, o.Ratio.Value)
				case high > 0 && (low > o.Ratio.Value*(1+1e-9) || high < o.Ratio.Value*(1-1e-9)):
					t.Errorf("%s: %g lies outside of %g to %g", f.Key, o.Ratio.Value, low, high)
				}
			}
			for _, caution := range p.Cautions {
				if caution.Of > caution.Among || caution.Of == 0 {
					t.Errorf("%+v", caution)
				}
			}
		}
		k := c.Candidates[0]
		for _, claimed := range k.Claims {
			if err := claimed.Check(); err != nil {
				t.Error(err)
			}
			for _, term := range claimed.Terms {
				if !slices.ContainsFunc(k.Parts, func(p Part) bool {
					return strings.HasPrefix(term.Of, p.Title) && term.Value == p.Gain && term.State == string(p.Verdict)
				}) {
					t.Errorf("%s is said of what is no part: %+v", claimed.Kind, term)
				}
			}
		}
		gains := []float64{}
		for _, part := range k.Parts {
			row := c.Points[part.Point].Row(part.Figure)
			o := row.Candidates[0]
			if ratio := saidRatio(part.Words); ratio > 0 && o.Ratio.Value > 0 && math.Abs(math.Log(ratio/o.Ratio.Value)) > 0.03 {
				t.Errorf("%q at a ratio of %g", part.Words, o.Ratio.Value)
			}
			if o.Ratio.Known() && !part.Unreliable && part.Gain > 0 {
				gains = append(gains, part.Gain)
			}
			if v := part.Verdict; (v == judge.Better || v == judge.Worse) && !strings.Contains(strings.ToLower(k.Words), strings.ToLower(part.Words)) {
				t.Errorf("%q is not in %q", part.Words, k.Words)
			}
		}
		if index := judge.Index(gains); math.Abs(index-k.Index) > 1e-9 || (index > 0) != strings.HasPrefix(k.Together, "Over all: "+quantity.Digits(index)+" ×") {
			t.Errorf("index %g of %v: %g, %s", index, gains, k.Index, k.Together)
		}
		for _, l := range Lines(sweptAtRandom(r), quantity.Seconds(0.05*r.Float64()), priceAtRandom(r)) {
			lines++
			for _, claimed := range l.Claims {
				kinds[claimed.Kind]++
				if err := claimed.Check(); err != nil || !strings.Contains(strings.ToLower(l.Words), strings.ToLower(claimed.Words)) {
					t.Errorf("%v: %q", err, l.Words)
				}
				for _, term := range claimed.Terms { // a rate is that of the spot that is named
					i := slices.IndexFunc(l.Spots, func(s Spot) bool { return s.Value == term.Of })
					if term.Shown != "" && i >= 0 && claimed.Kind != "most-for-its-price" && claimed.Kind != "not-shown-to-be-worse" && claimed.Kind != "each-does" && term.Value != l.Spots[i].Rate.Mean {
						t.Errorf("%s: %+v is said of %+v", claimed.Kind, term, l.Spots[i])
					}
				}
			}
		}
		for _, a := range Points(drawn(r, "alone", 3, real)) {
			if first := regexp.MustCompile(`from (\S+ \S+) to (\S+ \S+) at the last`).FindStringSubmatch(a.Words); first != nil && first[1] == first[2] && !strings.Contains(a.Words, "warm is not reached") {
				t.Errorf("%s", a.Words)
			}
		}
	}
	for _, v := range []judge.Verdict{judge.Better, judge.Worse, judge.Same, judge.NotShown, judge.Hint} {
		if said[v] < 100/trials.Parts() {
			t.Errorf("%s was said %d times", v, said[v])
		}
	}
	for _, kind := range []string{"rate-goes", "takes-no-longer", "knee", "waits-for-shared", "each-does", "slower-with-more", "most-for-its-price", "not-shown-to-be-worse", "repeats-would-tell", "p99-within", "p99-within-nowhere"} {
		if kinds[kind] < 10/trials.Parts() {
			t.Errorf("%s was said %d times of %d lines", kind, kinds[kind], lines)
		}
	}
	t.Logf("%v, of lines %v", said, kinds)
}

// sweptAtRandom is a sweep of depth or of members, whatever its rates are, once or several times.
func sweptAtRandom(r *rand.Rand) Side {
	field := []string{"depth", "members.count"}[r.IntN(2)]
	values := []string{}
	for i := range 3 + r.IntN(4) {
		values = append(values, fmt.Sprint(1<<i))
	}
	var side Side
	for repeat := range 1 + r.IntN(3) {
		rates := []float64{}
		rate := 500 * (1 + r.Float64())
		for range values {
			rates = append(rates, rate*(1+0.02*r.NormFloat64()))
			rate *= 0.7 + 0.9*rand.New(rand.NewPCG(7, uint64(len(rates)))).Float64()
		}
		one := swept(field, values, rates)
		for i := range one.Samples {
			one.Samples[i].Measurement += int64(repeat * len(values))
		}
		one.Samples = append(side.Samples, one.Samples...)
		side = one
	}
	return side
}

// priceAtRandom tells prices that rise, in half of all cases.
func priceAtRandom(r *rand.Rand) func([]plan.Setting) float64 {
	if r.IntN(2) == 0 {
		return nil
	}
	slope := 50 * r.Float64()
	return func(changed []plan.Setting) float64 {
		if len(changed) == 0 {
			return 0
		}
		count, _ := strconv.ParseFloat(changed[0].Value, 64)
		return 1000 + slope*count
	}
}
