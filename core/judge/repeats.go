package judge

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

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
	r := Repeated{Values: kept, Mean: MeanOfRepeats(kept), Median: median(kept)}
	if r.Values == nil {
		r.Values = []float64{}
	}
	if len(kept) < 2 {
		return r
	}
	if mean, deviation := stat.MeanStdDev(kept, nil); mean != 0 {
		r.Variation = quantity.Share(deviation / math.Abs(mean))
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
	oddChance = 0.008
)

// Odd lists the places of values that lie apart from the others: their distance from
// the median is above 3.5 times 1.4826 times the median of all such distances
// (Iglewicz and Hoaglin 1993) and above 2 % of it. Of a few values that median is
// often small by chance, so they must also lie outside of where one more of those
// that are left would by Student's distribution; all suspects are left out for that
// together, since two of them would hide each other. There is none when more than
// a third are suspects, or fewer than three values are left.
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
	var suspects []int
	var rest []float64
	for i, d := range distances {
		if d <= oddScore*scale || d <= oddShare*math.Abs(middle) {
			rest = append(rest, values[i])
			continue
		}
		suspects = append(suspects, i)
	}
	left := float64(len(rest))
	if len(suspects) == 0 || left < 3 || 5*len(suspects) > 2*n {
		return nil
	}
	mean, deviation := stat.MeanStdDev(rest, nil)
	// What is left was chosen for being close together: that many of it at either end
	// are missing.
	deviation *= math.Sqrt(float64(n) / left)
	limit := quantileOf(left-1, 1-oddChance/2/float64(n))
	for _, i := range suspects {
		if math.Abs(values[i]-mean) > limit*deviation*math.Sqrt(1+1/left) {
			odd = append(odd, i)
		}
	}
	return odd
}

// Centre is the mean that a ratio compares: the geometric one with Student's interval
// of the logarithms, which lies above zero, unless a value is zero.
func (r Repeated) Centre() Mean {
	values, ok := logs(r.Values)
	if !ok {
		return r.Mean
	}
	e := meanOf(values)
	centre := Mean{Mean: math.Exp(e.Mean), Known: e.Known}
	if e.Known {
		centre.Low, centre.High = math.Exp(e.Low), math.Exp(e.High)
	}
	return centre
}
