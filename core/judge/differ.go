package judge

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"patientheron/core/quantity"
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
	Value   float64 `json:"value" doc:"Candidate over baseline, of the geometric means"`
	Low     float64 `json:"low,omitempty" doc:"Lower end of the 95 % interval; absent with a single repeat on a side"`
	High    float64 `json:"high,omitempty"`
	Chance  float64 `json:"chance" doc:"Probability of such a ratio if there were no difference, corrected for the number of points"`
	Verdict Verdict `json:"verdict" enum:"better,worse,same,not shown,hint,missing"`
	equal   float64 // probability of such a ratio if the difference mattered
}

// RunToRun is by how much, at least, two runs of the same differ on real storage although
// the repeats within each agree: the standard deviation of their logarithms on
// a quiet machine (docs/judgement.md). Repeats of one run cannot show it.
const RunToRun = 0.02

// Compare gives the ratio of two sets of independent repeats with Welch's
// interval on their logarithms (Welch 1947), and the probabilities from which
// Decide takes its words: that there is no difference, and that there is one of
// at least noise (two one-sided tests: Schuirmann 1987). Values must be above
// zero; sides without such a value give Missing. Allowance is the standard
// deviation from run to run that neither side's values show, 0 for none.
func Compare(baseline, candidate []float64, noise quantity.Share, allowance float64) Ratio {
	a, okA := logs(baseline)
	b, okB := logs(candidate)
	if !okA || !okB {
		return Ratio{Verdict: Missing, Chance: 1, equal: 1}
	}
	meanA, devA := stat.MeanStdDev(a, nil)
	meanB, devB := stat.MeanStdDev(b, nil)
	r := Ratio{Value: math.Exp(meanB - meanA), Chance: 1, equal: 1}
	if len(a) < 2 || len(b) < 2 {
		r.Verdict = Hint
		return r
	}
	partA, partB := devA*devA/float64(len(a)), devB*devB/float64(len(b))
	// Values that agree to the last digit say nothing finer than that.
	deviation := max(math.Sqrt(partA+partB+allowance*allowance), 1e-9)
	freedom := float64(len(a) + len(b) - 2)
	if partA+partB > 0 {
		// The allowance is given, not found from values: it takes no freedom.
		all := partA + partB + allowance*allowance
		freedom = all * all / (partA*partA/float64(len(a)-1) + partB*partB/float64(len(b)-1))
	}
	student := distuv.StudentsT{Sigma: 1, Nu: freedom}
	half := student.Quantile(1-(1-confidence)/2) * deviation
	r.Low, r.High = math.Exp(meanB-meanA-half), math.Exp(meanB-meanA+half)
	distance := math.Abs(meanB - meanA)
	r.Chance = 2 * student.Survival(distance/deviation)
	// The nearer of the two limits decides.
	r.equal = student.Survival((math.Log(1+float64(noise)) - distance) / deviation)
	return r
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

// level is the share of comparisons without a difference of which better or
// worse may be said, for all points of a comparison together.
const level = 0.05

// Decide puts the verdicts into ratios that were found together, each
// probability corrected for their number (Holm 1979), so that in at most one of
// twenty comparisons without any difference a single better or worse appears.
// Better and worse also need a difference of at least noise; less is good where
// lower is set.
func Decide(ratios []*Ratio, noise quantity.Share, lower bool) {
	var open []*Ratio
	for _, r := range ratios {
		if r.Verdict == "" {
			open = append(open, r)
		}
	}
	holm(open, func(r *Ratio) *float64 { return &r.Chance })
	holm(open, func(r *Ratio) *float64 { return &r.equal })
	for _, r := range open {
		matters := math.Abs(math.Log(r.Value)) >= math.Log(1+float64(noise))
		switch {
		case r.Chance < level && matters && (r.Value > 1) != lower:
			r.Verdict = Better
		case r.Chance < level && matters:
			r.Verdict = Worse
		case r.equal < level:
			r.Verdict = Same
		default:
			r.Verdict = NotShown
		}
	}
}

// holm corrects probabilities for their number, step by step from the smallest.
func holm(ratios []*Ratio, of func(*Ratio) *float64) {
	ordered := slices.Clone(ratios)
	slices.SortStableFunc(ordered, func(a, b *Ratio) int { return cmp.Compare(*of(a), *of(b)) })
	largest := 0.0
	for i, r := range ordered {
		largest = max(largest, min(*of(r)*float64(len(ordered)-i), 1))
		*of(r) = largest
	}
}
