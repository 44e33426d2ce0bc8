package judge

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/combin"

	"patientheron/core/quantity"
	"patientheron/core/statistics"
)

// PassShape says how the passes over the same data went.
type PassShape string

// The shapes.
const (
	Level      PassShape = "level"       // no pass is shown to differ from the others
	FirstApart PassShape = "first apart" // the first differs from all later ones
	Step       PassShape = "step"        // from one pass on it is another level
	Curve      PassShape = "curve"       // it rises or falls from pass to pass
)

// Passes is what repeats over the same data say as passes: what was cold, what is
// warm. The zero value is that of passes nothing is known of.
type Passes struct {
	Shape  PassShape      `json:"shape" enum:"level,first apart,step,curve" doc:"How they went"`
	Gain   quantity.Share `json:"gain" doc:"Warm over cold, less one"`
	Chance float64        `json:"chance" doc:"Probability of at least such a shape among passes that are alike"`
	Warm   int            `json:"warm" doc:"Number, from 1, of the first pass that is warm; 1 when all are alike"`
	Low    int            `json:"warmLow,omitempty" doc:"It may as well be as early as this"`
	High   int            `json:"warmHigh,omitempty" doc:"And as late as this"`
	Going  bool           `json:"going,omitempty" doc:"It was still changing at the last pass, so that warm is not reached"`
}

// The limits of the judgement of passes.
const (
	passChance = 0.013 // of a shape among passes that are alike
	passGain   = 0.05  // least difference of warm and cold that matters
	usualPass  = 0.04  // standard deviation of passes, before any was seen,
	usualWorth = 3     // worth as many degrees of freedom
)

// PassesOf tells the shape of values of passes, in order: those before some pass
// against those from it on, for every pass but the last, and lines through their
// logarithms, straight ones and such that level off, each by Student's t. Few values say little about how much they
// vary by themselves, so their variance is taken together with what is usual
// (moderated t: Smyth 2004): 4 %, or what others of their kind vary by, when that is
// more. The chance is corrected for all that was tried, and both directions count.
// Fewer than three values are level, and so is anything of which one is zero.
func PassesOf(values []float64, usual float64) Passes {
	level := Passes{Shape: Level, Chance: 1, Warm: 1}
	y, ok := logs(values)
	n := len(y)
	if !ok || n < 3 {
		return level
	}
	usual = max(usual, usualPass)
	moderated := func(squares, freedom float64) (variance, free float64) {
		free = freedom + usualWorth
		return (squares + usualWorth*usual*usual) / free, free
	}
	best, bestSquares := level, math.Inf(1)
	try := func(p Passes, t, free, squares float64) {
		if p.Chance = min(2*(1-shareBelow(free, math.Abs(t)))*float64(n-2+len(passTimes)/2), 1); p.Chance < passChance && squares < bestSquares {
			best, bestSquares = p, squares
		}
	}
	for at := 1; at < n-1; at++ { // a last pass apart from all others is odd, not warm
		before, after := stat.Mean(y[:at], nil), stat.Mean(y[at:], nil)
		squares := squares(residuals(y, []int{0, at, n}))
		variance, free := moderated(squares, float64(n-2))
		t := (after - before) / math.Sqrt(variance*(1/float64(at)+1/float64(n-at)))
		p := Passes{Shape: Step, Gain: quantity.Share(math.Exp(after-before) - 1), Warm: at + 1}
		if at == 1 {
			p.Shape = FirstApart
		}
		try(p, t, free, squares)
	}
	curve := Passes{Shape: Curve, Gain: quantity.Share(math.Exp(y[n-1]-y[0]) - 1), Warm: n}
	for _, time := range passTimes {
		x := make([]float64, n)
		for i := range x {
			if x[i] = -math.Exp(-float64(i) / time); math.IsInf(time, 1) {
				x[i] = float64(i)
			}
		}
		start, slope := stat.LinearRegression(x, y, nil, false)
		left := 0.0
		for i := range x {
			left += (y[i] - start - slope*x[i]) * (y[i] - start - slope*x[i])
		}
		variance, free := moderated(left, float64(n-2))
		try(curve, slope/math.Sqrt(variance/(stat.Variance(x, nil)*float64(n-1))), free, left)
	}
	if best.Shape == Level || math.Abs(math.Log1p(float64(best.Gain))) < math.Log1p(passGain) {
		return level
	}
	variance, _ := moderated(bestSquares, float64(n-2))
	return warmed(best, y, math.Sqrt(variance))
}

// passTimes are the passes in which a curve comes nearer to its level by a factor of
// e; infinite for a straight line.
var passTimes = []float64{1, 2, 4, math.Inf(1)}

// warmed says from which pass on it is warm: the first from which on all lie within
// 5 % of the mean of the last third; the last but one at most, since one pass alone
// shows nothing. It was still changing when the last pass lies further than that from
// the one before.
func warmed(p Passes, y []float64, deviation float64) Passes {
	n := len(y)
	if p.Shape != Curve {
		p.Low, p.High = p.Warm, p.Warm
		return p
	}
	tail := max(n/3, 2)
	warm := stat.Mean(y[n-tail:], nil)
	from := func(margin float64) int {
		at := n
		for at > 1 && math.Abs(y[at-2]-warm) <= margin {
			at--
		}
		return at
	}
	within := math.Log1p(passGain)
	p.Warm, p.Low, p.High = from(within), from(within+2*deviation), from(max(within-2*deviation, deviation/2))
	p.Going = p.Warm > n-tail+1 || math.Abs(y[n-1]-y[n-2]) > within || climbs(y)
	p.Warm, p.Low, p.High = min(p.Warm, n-1), min(p.Low, n-1), min(p.High, n-1)
	p.Gain = quantity.Share(math.Exp(stat.Mean(y[p.Warm-1:], nil)-y[0]) - 1)
	return p
}

// climbs reports passes that went one way in their last three steps, the last of which is no
// small one: more than a third of what the steps were on average.
func climbs(y []float64) bool {
	n := len(y)
	if n < 4 {
		return false
	}
	last := y[n-1] - y[n-2]
	for i := n - 3; i < n; i++ {
		if (y[i]-y[i-1])*last <= 0 {
			return false
		}
	}
	return math.Abs(last) > math.Abs(y[n-1]-y[0])/float64(n-1)/3
}

// Kept reports whether a pass, from 1, counts as warm.
func (p Passes) Kept(pass int) bool { return pass >= p.Warm }

// Together is the later of two sides: passes compare from where both are warm.
func (p Passes) Together(other Passes) Passes {
	if p.Warm >= other.Warm {
		return p
	}
	return other
}

// AroundTheirLine is by which share values that follow each other vary around a line through
// their logarithms. It takes three that are above zero.
func AroundTheirLine(values []float64) (share float64, known bool) {
	y, ok := logs(values)
	if !ok || len(y) < 3 {
		return 0, false
	}
	_, rest := line(y)
	return math.Sqrt(squares(rest) / float64(len(y)-2)), true
}

// CompareClimbing compares passes over the same data of which those of a side, or of both,
// still change from pass to pass, so that there is no mean to compare. Of a side that changes
// the passes from some pass on count, from the second at the earliest, of one that is level
// all. A difference is shown where every one of one side lies beyond every one of the other:
// by how seldom that is among passes that are alike (ranks), or, where one side is level, by
// how far the nearest of the other lies from it (Student's distribution, with the variance
// moderated as in PassesOf), all beginnings that are tried together. Where runs of the same
// differ by a variance of their own, distance alone counts. The ratio is that of the last
// passes, of a level side of its mean, and has no interval. Beyond is the first pass from which on it is so; 0 when it is not.
func CompareClimbing(baseline, candidate []float64, baselineClimbs, candidateClimbs bool, between float64) (r Ratio, beyond int) {
	a, okA := logs(baseline)
	b, okB := logs(candidate)
	if !okA || !okB {
		return Ratio{Verdict: Missing, Chance: 1, equal: 1}, 0
	}
	end := func(y []float64, climbs bool) float64 {
		if climbs {
			return y[len(y)-1]
		}
		return stat.Mean(y, nil)
	}
	r = Ratio{Chance: 1, Alone: 1, equal: 1, difference: end(b, candidateClimbs) - end(a, baselineClimbs)}
	r.Value = r.back(r.difference)
	if len(a) < 2 || len(b) < 2 {
		r.Verdict = Hint
		return r, 0
	}
	longest := max(len(a), len(b))
	for from := 1; from < longest-1; from++ {
		left, right := a, b
		if baselineClimbs {
			left = a[min(from, len(a)-1):]
		}
		if candidateClimbs {
			right = b[min(from, len(b)-1):]
		}
		above, _ := ranked(right, left)
		if above == 1 && r.difference > 0 || above == 0 && r.difference < 0 {
			n, m := len(left), len(right)
			if between == 0 {
				r.Chance = 2 / combin.GeneralizedBinomial(float64(n+m), float64(n))
			}
			if baselineClimbs != candidateClimbs {
				level, nearest := a, slices.Min(right)
				if above == 0 {
					nearest = slices.Max(right)
				}
				if baselineClimbs {
					if level, nearest = b, slices.Max(left); above == 0 {
						nearest = slices.Min(left)
					}
				}
				r.Chance = min(r.Chance, byDistance(level, nearest, between))
			}
			r.Chance = min(r.Chance*float64(longest-2), 1)
			r.Alone = r.Chance
			return r, from + 1
		}
	}
	return r, 0
}

// byDistance is the chance that one more of level passes lies as far from them as that, their
// runs differing by a variance besides.
func byDistance(level []float64, value, between float64) float64 {
	n := float64(len(level))
	free := n - 1 + usualWorth
	variance := (squares(residuals(level, []int{0, len(level)})) + usualWorth*usualPass*usualPass) / free
	return 2 * statistics.StudentTail(math.Abs(value-stat.Mean(level, nil))/math.Sqrt(variance*(1+1/n)+between), free)
}
