package judge

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"patientheron/core/quantity"
	"patientheron/core/statistics"
)

// Verdict says how a candidate stands to the baseline in one figure.
type Verdict string

// The verdicts.
const (
	Better   Verdict = "better"
	Worse    Verdict = "worse"
	Same     Verdict = "same"      // within the difference that matters
	NotShown Verdict = "not shown" // neither a difference nor its absence
	Hint     Verdict = "hint"      // one repeat on a side: no more can be said
	Missing  Verdict = "missing"   // a side has no value
)

// Ratio is a candidate's figure over that of the baseline.
type Ratio struct {
	Value   float64 `json:"value" doc:"Candidate over baseline: of the geometric means, or of the arithmetic ones where a value is zero; 0 also where the baseline's mean is zero"`
	Low     float64 `json:"low,omitempty" doc:"Lower end of the 95 % interval. It holds for all figures of the page at once; where the verdict is 'same', for this figure alone. Absent with a single repeat on a side, and where it would be wider than a factor of ten thousand"`
	High    float64 `json:"high,omitempty"`
	Chance  float64 `json:"chance" doc:"Probability of such a ratio if there were no difference, corrected for all figures that are decided together"`
	Verdict Verdict `json:"verdict" enum:"better,worse,same,not shown,hint,missing"`

	Alone     float64 `json:"alone" doc:"The chance before it was corrected"`
	Deviation float64 `json:"deviation,omitempty" doc:"Standard error of the logarithm of the ratio, or of the ratio where it is linear"`
	Freedom   float64 `json:"freedom,omitempty" doc:"Degrees of freedom it is known with"`
	Linear    bool    `json:"linear,omitempty" doc:"The ratio is of arithmetic means, because a value is zero"`
	Pairs     int     `json:"pairs,omitempty" doc:"Of measurements that were made in turn or at the same moment, when the ratio is of those; 0 otherwise"`
	Climbs    string  `json:"climbs,omitempty" doc:"Set when the passes of a side still change, so that there is no mean: how they compare with the other side. The ratio is then that of the last passes, and has no interval"`
	Narrower  float64 `json:"narrower,omitempty" doc:"How many times as wide the interval of the same values would be without the pairs"`

	difference  float64 // of the logarithms, or of the values over the baseline's mean
	fromNothing bool    // the baseline's mean is zero
	equal       float64 // probability of such a difference if one of the noise were there
}

// Known reports whether there is an interval.
func (r Ratio) Known() bool { return r.Deviation > 0 }

// Shown reports whether a difference of any size is shown when so many are looked at
// together, whatever else is on the page.
func (r Ratio) Shown(among int) bool { return r.Known() && r.Alone*float64(among) < level }

// Interval is the 95 % interval of the ratio when so many are looked at together, whatever else
// is on the page (Bonferroni); zeros where it is not known.
func (r Ratio) Interval(among int) (low, high float64) {
	if !r.Known() {
		return 0, 0
	}
	r.difference = r.Value - 1
	if !r.Linear {
		r.difference = math.Log(r.Value)
	}
	half := quantileOf(r.Freedom, 1-level/2/float64(max(among, 1))) * r.Deviation
	return r.between(r.difference-half, r.difference+half)
}

// widest is the factor from one end of an interval to the other from which on it says nothing.
const widest = 1e4

// between turns an interval of the difference into one of the ratio; zeros where that would be
// so wide that it says nothing.
func (r Ratio) between(low, high float64) (float64, float64) {
	if !(high-low < math.Log(widest)) {
		return 0, 0
	}
	return r.back(low), r.back(high)
}

// Repetition is what a side measured of one figure: its values, and by how much its
// runs differ beyond what they show; the zero Spread where they show all.
type Repetition struct {
	Values []float64
	Runs   int // that the values come from
	Spread Spread
}

// Compare gives the ratio of two sets of independent repeats with Welch's interval on
// their logarithms (Welch 1947), and what Decide takes its words from: the
// probabilities that there is no difference, and that there is one of at least noise
// (two one-sided tests: Schuirmann 1987). The spread from run to run adds to each
// side, with the freedom it is known with (Satterthwaite 1946). Where a value is zero,
// means are compared as they are, and never called the same. Sides without a value
// give Missing.
func Compare(baseline, candidate Repetition, noise quantity.Share) Ratio {
	r, a, b := ratioOf(baseline.Values, candidate.Values)
	if r.Verdict != "" {
		return r
	}
	_, devA := stat.MeanStdDev(a, nil)
	_, devB := stat.MeanStdDev(b, nil)
	found, taken := pooled{}, pooled{}
	for _, side := range []struct {
		own, others float64
		n           int
		Repetition
	}{{devA * devA, devB * devB, len(a), baseline}, {devB * devB, devA * devA, len(b), candidate}} {
		n := float64(side.n)
		spread := side.Spread.over(side.Runs)
		for _, p := range []struct {
			into *pooled
			of   float64
		}{{&found, side.own}, {&taken, ofFew(side.own, side.others, side.n)}} {
			p.into.add(p.of/n, n-1)
			p.into.add(spread.Deviation*spread.Deviation, spread.Freedom)
		}
	}
	r.Freedom = float64(len(a) + len(b) - 2)
	if found.doubt > 0 { // what is added to a variance found in few values makes it no better known
		r.Freedom = min(found.freedom(), taken.freedom())
	}
	return r.known(taken.variance, noise)
}

// ratioOf is the ratio of two sets of values without its interval, and the numbers of
// which it is the difference of the means: logarithms, or where a value is zero shares of
// the baseline's mean. The verdict is set when there is no more to it.
func ratioOf(baseline, candidate []float64) (r Ratio, a, b []float64) {
	if len(baseline) == 0 || len(candidate) == 0 || !finite(baseline) || !finite(candidate) {
		return Ratio{Verdict: Missing, Chance: 1, equal: 1}, nil, nil
	}
	a, okA := logs(baseline)
	b, okB := logs(candidate)
	r = Ratio{Chance: 1, equal: 1, Linear: !okA || !okB}
	if r.Linear {
		scale := average(baseline)
		if scale == 0 {
			scale = average(candidate)
		}
		if scale == 0 {
			r.Value, r.Low, r.High, r.Verdict = 1, 1, 1, Same // nothing moved on either side
			return r, nil, nil
		}
		a, b = scaled(baseline, scale), scaled(candidate, scale)
	}
	r.difference = stat.Mean(b, nil) - stat.Mean(a, nil)
	if r.Value, r.fromNothing = r.back(r.difference), average(baseline) == 0; r.fromNothing {
		r.Value = 0
	}
	if len(a) < 2 || len(b) < 2 {
		r.Verdict = Hint
	}
	return r, a, b
}

// back turns a difference into the ratio that it stands for.
func (r Ratio) back(difference float64) float64 {
	if r.Linear {
		return max(1+difference, 0)
	}
	return math.Exp(difference)
}

// known is the ratio with its interval and its probabilities, its difference being known
// with a variance.
func (r Ratio) known(variance float64, noise quantity.Share) Ratio {
	// Values that agree to the last digit say nothing finer than that.
	r.Deviation = max(math.Sqrt(variance), 1e-9)
	half := quantile(r.Freedom) * r.Deviation
	if !r.fromNothing {
		r.Low, r.High = r.between(r.difference-half, r.difference+half)
	}
	distance := math.Abs(r.difference)
	r.Chance = 2 * statistics.StudentTail(distance/r.Deviation, r.Freedom)
	r.Alone = r.Chance
	if !r.Linear { // what stalled in part is not the same as what did not
		r.equal = statistics.StudentTail((math.Log(1+float64(noise))-distance)/r.Deviation, r.Freedom)
	}
	return r
}

// pooled is a sum of variances, each known with some degrees of freedom, and how well
// the sum is (Satterthwaite 1946).
type pooled struct{ variance, doubt float64 }

func (p *pooled) add(part, freedom float64) {
	p.variance += part
	if part > 0 {
		p.doubt += part * part / max(freedom, 1)
	}
}

func (p *pooled) freedom() float64 { return p.variance * p.variance / p.doubt }

// ofFew is a variance found in so many values. Fewer than five that agree may do so by
// chance, when those of the other side do not: it is then taken for half of theirs.
func ofFew(own, others float64, n int) float64 {
	if n < 5 {
		return max(own, others/2)
	}
	return own
}

func finite(values []float64) bool {
	return !slices.ContainsFunc(values, func(v float64) bool { return math.IsNaN(v) || math.IsInf(v, 0) || v < 0 })
}

func scaled(values []float64, scale float64) []float64 {
	result := make([]float64, len(values))
	for i, v := range values {
		result[i] = v / scale
	}
	return result
}

func logs(values []float64) ([]float64, bool) {
	result := make([]float64, len(values))
	for i, v := range values {
		if !(v > 0) || math.IsInf(v, 1) {
			return nil, false
		}
		result[i] = math.Log(v)
	}
	return result, len(values) > 0
}

// level is the share of comparisons without a difference in which a better or worse
// may be said, over all figures together; mainShare of it goes to those that matter
// most, so that the many others do not take their power from them.
const (
	level     = 0.05
	mainShare = 0.8
)

// Decided is a ratio that takes part in a decision.
type Decided struct {
	*Ratio
	Lower bool // less is good
	Main  bool // it is of the figure that matters most at its point
}

// Decide puts the verdicts into all ratios of a page together. Better and worse need
// a difference of at least noise, and a chance that stands after correction for their
// number (Holm 1979), the figures that matter most and all others by themselves, at
// four fifths and one fifth of 5 %: in at most one of twenty pages without any
// difference a single better or worse appears. Figures that say the same, number for
// number, count once. The same is said of each figure by itself, where its own interval lies
// within the noise. The interval of every other holds for all of them at once, and agrees with
// the verdict (Guilbaud 2008): of those that are shown by Bonferroni's, which ends where there
// is no difference, of the rest by the step at which they were not.
func Decide(ratios []Decided, noise quantity.Share) {
	for _, main := range []bool{true, false} {
		share := level * mainShare
		if !main {
			share = level - share
		}
		var open []Decided
		for _, r := range ratios {
			if r.Verdict == "" && r.Main == main {
				open = append(open, r)
			}
		}
		all, rest := holm(open, share)
		ofAll, ofRest := quantilesAt(share/float64(max(all, 1))), quantilesAt(share/float64(max(rest, 1)))
		for _, r := range open {
			matters := math.Abs(r.difference) >= math.Log(1+float64(noise))
			up := r.difference > 0
			switch {
			case r.Chance < share && matters && up != r.Lower:
				r.Verdict = Better
			case r.Chance < share && matters:
				r.Verdict = Worse
			case r.equal < level/2:
				r.Verdict = Same
			default:
				r.Verdict = NotShown
			}
			switch {
			case !r.Known() || r.fromNothing || r.Verdict == Same:
			case r.Chance < share:
				r.spans(ofAll.quantile(r.Freedom))
			default:
				r.spans(ofRest.quantile(r.Freedom))
			}
			// Shown to people who know 5 %.
			r.Chance = min(r.Chance*level/share, 1)
		}
	}
}

// spans gives the ratio an interval of so many standard errors on each side, which ends at one
// where a difference is shown.
func (r Decided) spans(errors float64) {
	half := errors * r.Deviation
	low, high := r.difference-half, r.difference+half
	if r.Verdict == Better || r.Verdict == Worse {
		if r.difference > 0 {
			low = max(low, 0)
		} else {
			high = min(high, 0)
		}
	}
	r.Low, r.High = r.between(low, high)
}

// holm corrects the chances for their number, step by step from the smallest. It gives how
// many there are that say something different, and how many of them were left at the first
// step that a share does not allow.
func holm(ratios []Decided, share float64) (all, rest int) {
	ordered := slices.Clone(ratios)
	slices.SortStableFunc(ordered, func(a, b Decided) int {
		return cmp.Or(cmp.Compare(a.Chance, b.Chance), cmp.Compare(a.difference, b.difference))
	})
	// Rounding differs between a rate and the throughput that it is.
	key := func(r Decided) [2]float32 { return [2]float32{float32(r.Chance), float32(math.Abs(r.difference))} }
	different := map[[2]float32]bool{}
	for _, r := range ordered {
		different[key(r)] = true
	}
	left, largest := len(different), 0.0
	all = left
	keys := make([][2]float32, len(ordered))
	for i, r := range ordered {
		keys[i] = key(r)
		if i > 0 && keys[i] != keys[i-1] {
			left--
		}
		if largest = max(largest, min(r.Chance*float64(left), 1)); largest >= share && rest == 0 {
			rest = left
		}
		r.Chance = largest
	}
	return all, rest
}
