package judge

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"patientheron/core/quantity"
)

// Repeated is what several repeats of the same say together.
type Repeated struct {
	Values    []float64      `json:"values" doc:"In the order in which they were measured"`
	Mean      Mean           `json:"mean"`
	Median    float64        `json:"median"`
	Variation quantity.Share `json:"variation" doc:"Standard deviation as a share of the mean"`
	Odd       []int          `json:"odd,omitempty" doc:"Numbers, from 1, of repeats that lie apart from the others; they are kept in all figures"`
	Without   *Mean          `json:"withoutOdd,omitempty" doc:"The mean without the odd ones"`
	Trend     Trend          `json:"trend"`
	Cold      float64        `json:"cold,omitempty" doc:"When the repeats were still warming: the first"`
	Warm      float64        `json:"warm,omitempty" doc:"And the mean of those from the half of the passes on"`
	Plateau   *Plateau       `json:"plateau,omitempty" doc:"Where a warming leads, when a curve fits it"`
}

// Trend says whether values rose or fell one after the other.
type Trend struct {
	Direction int            `json:"direction" doc:"1 when they rise, -1 when they fall, 0 when neither is shown"`
	Chance    float64        `json:"chance" doc:"Probability of at least such a trend among values in any order"`
	Gain      quantity.Share `json:"gain" doc:"Last over first, less one"`
}

// Plateau is where a warming leads.
type Plateau struct {
	Value  float64 `json:"value"`
	Passes float64 `json:"passes" doc:"Passes until 95 % of it are reached"`
}

// Repeats says what the values of repeats say together. Values that are not
// finite are left out.
func Repeats(values []float64) Repeated {
	var kept []float64
	for _, v := range values {
		if !math.IsNaN(v) && !math.IsInf(v, 0) {
			kept = append(kept, v)
		}
	}
	r := Repeated{Values: kept, Mean: MeanOfRepeats(kept), Median: median(kept), Trend: MannKendall(kept)}
	if r.Values == nil {
		r.Values = []float64{}
	}
	if len(kept) < 2 {
		return r
	}
	if mean, deviation := stat.MeanStdDev(kept, nil); mean != 0 {
		r.Variation = quantity.Share(deviation / math.Abs(mean))
	}
	if r.Trend.Direction != 0 {
		r.Cold, r.Warm = kept[0], stat.Mean(kept[len(kept)/2:], nil)
		r.Plateau = FitPlateau(kept)
		return r // what is warming is not odd
	}
	for _, i := range Odd(kept) {
		r.Odd = append(r.Odd, i+1)
	}
	if len(r.Odd) > 0 {
		var rest []float64
		for i, v := range kept {
			if !slices.Contains(r.Odd, i+1) {
				rest = append(rest, v)
			}
		}
		without := MeanOfRepeats(rest)
		r.Without = &without
	}
	return r
}

// oddScore is the modified z-score above which a value is odd, oddShare the
// least distance from the median that matters, and oddChance how often a value
// may lie as far from the others by chance, over all values together.
const (
	oddScore  = 3.5
	oddShare  = 0.02
	oddChance = 0.01
)

// Odd lists the places of values whose distance from the median is above 3.5
// times 1.4826 times the median of all such distances (Iglewicz and Hoaglin
// 1993), and above 2 % of it. Of a few values that median is often small by
// chance, so a value must also lie outside of where one more of the others
// would by Student's distribution. Fewer than four values have none.
func Odd(values []float64) (odd []int) {
	n := len(values)
	if n < 4 {
		return nil
	}
	middle := median(values)
	distances := make([]float64, n)
	for i, v := range values {
		distances[i] = math.Abs(v - middle)
	}
	scale := 1.4826 * median(distances)
	limit := distuv.StudentsT{Sigma: 1, Nu: float64(n - 2)}.Quantile(1 - oddChance/2/float64(n))
	for i, d := range distances {
		if d <= oddScore*scale || d <= oddShare*math.Abs(middle) {
			continue
		}
		mean, deviation := stat.MeanStdDev(slices.Concat(values[:i], values[i+1:]), nil)
		if math.Abs(values[i]-mean) > limit*deviation*math.Sqrt(1+1/float64(n-1)) {
			odd = append(odd, i)
		}
	}
	return odd
}

// trendChance is the probability below which a trend counts as shown, and
// trendGain the least change of the last against the first.
const (
	trendChance = 0.05
	trendGain   = 0.05
)

// MannKendall tells whether values rise or fall one after the other, whatever
// their distribution: from the number of pairs that rise less those that fall
// (Mann 1945; Kendall 1975). The chance is exact up to 30 values without ties,
// beyond that by the normal approximation. A trend is shown when the chance is
// below 5 % and the last differs from the first by 5 %; that needs four values.
func MannKendall(values []float64) Trend {
	n := len(values)
	t := Trend{Chance: 1}
	if n < 2 {
		return t
	}
	if values[0] != 0 {
		t.Gain = quantity.Share(values[n-1]/values[0] - 1)
	}
	rising, ties := 0, false
	for i := range values {
		for _, later := range values[i+1:] {
			switch {
			case later > values[i]:
				rising++
			case later < values[i]:
				rising--
			default:
				ties = true
			}
		}
	}
	if n <= 30 && !ties {
		t.Chance = inversionChance(n, abs(rising))
	} else {
		// Ties make the variance smaller; leaving that out is cautious.
		deviation := math.Sqrt(float64(n*(n-1)*(2*n+5)) / 18)
		t.Chance = 0.5 * math.Erfc(max(float64(abs(rising))-1, 0)/deviation/math.Sqrt2)
	}
	if t.Chance < trendChance && math.Abs(float64(t.Gain)) >= trendGain {
		t.Direction = 1
		if rising < 0 {
			t.Direction = -1
		}
	}
	return t
}

// inversionChance is the probability that n values in random order have at
// least so many rising pairs more than falling ones.
func inversionChance(n, more int) float64 {
	pairs := n * (n - 1) / 2
	// share[k] is the share of orders with k falling pairs, built up value by
	// value: the m-th can have from 0 to m-1 before it.
	share := make([]float64, pairs+1)
	share[0] = 1
	for m := 2; m <= n; m++ {
		next := make([]float64, pairs+1)
		for k, s := range share {
			for j := 0; j < m && k+j <= pairs && s > 0; j++ {
				next[k+j] += s / float64(m)
			}
		}
		share = next
	}
	chance := 0.0
	for falling := 0; pairs-2*falling >= more; falling++ {
		chance += share[falling]
	}
	return chance
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// FitPlateau fits plateau - gap × e^(-pass/time) to the values of passes 0, 1,
// 2 …, by least squares over plateau and gap for each of many times. It gives
// nil when the values do not bend towards a plateau, or fewer than four are
// there.
func FitPlateau(values []float64) *Plateau {
	n := len(values)
	if n < 4 {
		return nil
	}
	best, found := math.Inf(1), Plateau{}
	x := make([]float64, n)
	for time := 0.2; time <= float64(3*n); time *= 1.05 {
		for i := range x {
			x[i] = -math.Exp(-float64(i) / time)
		}
		plateau, gap := stat.LinearRegression(x, values, nil, false)
		errors := 0.0
		for i := range x {
			e := values[i] - plateau - gap*x[i]
			errors += e * e
		}
		if plateau <= 0 || errors >= best {
			continue
		}
		best = errors
		found = Plateau{Value: plateau}
		if missing := math.Abs(gap) / (0.05 * plateau); missing > 1 {
			found.Passes = time * math.Log(missing)
		}
	}
	mean := stat.Mean(values, nil)
	around := 0.0
	for _, v := range values {
		around += (v - mean) * (v - mean)
	}
	// A straight rise has no plateau: the fit then runs away.
	if math.IsInf(best, 1) || best > around/5 || found.Value > 3*values[n-1] {
		return nil
	}
	return &found
}
