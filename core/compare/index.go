package compare

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// Weight is how much a stage counts in an index, beside the others that have a weight.
type Weight struct {
	Stage  string  `json:"stage" minLength:"1" maxLength:"80"`
	Weight float64 `json:"weight" exclusiveMinimum:"0" maximum:"1000000"`
}

// MostWeights is how many stages an index can be made of.
const MostWeights = 64

// Weighed is how many times as good as the baseline a candidate is in what somebody asked for,
// each part counted as they set it: the geometric mean of the gains, to the power of their
// weights.
type Weighed struct {
	Index   judge.Mean     `json:"index" doc:"Half of its interval, as a logarithm, is the sum of those of its parts on real storage, and elsewhere the root of the sum of their squares; not known where a part has a single repeat"`
	Parts   []WeighedShare `json:"parts" doc:"In the order of the weights"`
	Refused string         `json:"refused,omitempty" doc:"Why there is no index: a part was not measured, or is unreliable"`
	Words   string         `json:"words"`
}

// WeighedShare is one point that an index is made of.
type WeighedShare struct {
	Point  int     `json:"point" doc:"Number in points, from 0"`
	Title  string  `json:"title"`
	Figure string  `json:"figure"`
	Share  float64 `json:"share" doc:"Of all weights"`
	Gain   float64 `json:"gain" doc:"How many times as good as the baseline"`
	Brings float64 `json:"brings" doc:"What the index is multiplied by for it"`
}

// CheckWeights reports weights that cannot be; that a stage was not measured is said where they
// are used. Errors wrap ErrInvalid.
func CheckWeights(weights []Weight) error {
	if len(weights) > MostWeights {
		return fmt.Errorf("%w: %d stages have weights; %d at most", ErrInvalid, len(weights), MostWeights)
	}
	seen := map[string]bool{}
	for _, w := range weights {
		switch {
		case !(w.Weight > 0) || math.IsInf(w.Weight, 0):
			return fmt.Errorf("%w: the weight of %q is %g; it has to be above 0; leave it out for a stage that does not count", ErrInvalid, w.Stage, w.Weight)
		case seen[w.Stage]:
			return fmt.Errorf("%w: %q has two weights", ErrInvalid, w.Stage)
		}
		seen[w.Stage] = true
	}
	return nil
}

// Stages reports a weight for a stage that no side has; the error wraps ErrInvalid.
func (c *Result) Stages(weights []Weight) error {
	stages := []string{}
	for _, p := range c.Points {
		stages = append(stages, p.Stage)
	}
	for _, u := range c.Unmatched { // on one side only
		stages = append(stages, u.Title)
	}
	for _, w := range weights {
		if !slices.ContainsFunc(stages, func(s string) bool { return s == w.Stage || strings.HasPrefix(s, w.Stage+" at ") }) {
			return fmt.Errorf("%w: there is no stage %q to weigh; there are %s", ErrInvalid, w.Stage, strings.Join(slices.Compact(slices.Sorted(slices.Values(stages))), ", "))
		}
	}
	return nil
}

// Weigh gives each candidate an index with weights; none where there are no weights.
func (c *Result) Weigh(weights []Weight) {
	for i := range c.Candidates {
		if len(weights) > 0 {
			weighed := c.weighed(i, weights)
			c.Candidates[i].Weighed = &weighed
		}
	}
}

// weighed is the index of one candidate. The weight of a stage is shared by its points.
func (c *Result) weighed(candidate int, weights []Weight) Weighed {
	w := Weighed{Parts: []WeighedShare{}}
	total, index := 0.0, 0.0
	var halves, shares []float64
	for _, weight := range weights {
		total += weight.Weight
	}
	for _, weight := range weights {
		var points []int
		for i, p := range c.Points {
			if p.Stage == weight.Stage {
				points = append(points, i)
			}
		}
		if len(points) == 0 {
			w.refuse(weight.Stage, "not measured on both sides, or not under the same load")
			continue
		}
		for _, i := range points {
			p := c.Points[i]
			part := c.Candidates[candidate].part(i)
			outcome := p.Row(p.Main).Candidates[candidate]
			share := weight.Weight / total / float64(len(points))
			switch {
			case part.Unreliable:
				w.refuse(p.Title, "its figure is unreliable")
			case !(part.Gain > 0) || math.IsInf(part.Gain, 0):
				w.refuse(p.Title, "one side has no value")
			default:
				w.Parts = append(w.Parts, WeighedShare{i, p.Title, p.Main, share, part.Gain, math.Pow(part.Gain, share)})
				index += share * math.Log(part.Gain)
				halves, shares = append(halves, outcome.halfOfLog()), append(shares, share)
			}
		}
	}
	if w.Refused != "" {
		w.Words = "There is no index: " + w.Refused + "."
		return w
	}
	w.Index = judge.WithinLog(math.Exp(index), halfOfAll(halves, shares, c.Candidates[candidate].real))
	w.Words = w.words()
	return w
}

// halfOfLog is half of the outcome's own interval as a logarithm; not a number where there is
// none.
func (o Outcome) halfOfLog() float64 {
	low, high := o.Ratio.Interval(1)
	if !(low > 0) {
		return math.NaN()
	}
	return math.Log(high/low) / 2
}

// halfOfAll is half of the interval of a mean of logarithms with so large shares. What runs of
// the same differ by may meet all figures of a run alike, so that on real storage the parts add
// up; others scatter by themselves, and their squares do.
func halfOfAll(halves, shares []float64, together bool) (half float64) {
	for i, h := range halves {
		if part := h * shares[i]; together {
			half += part
		} else {
			half = math.Hypot(half, part)
		}
	}
	return half
}

func (w *Weighed) refuse(title, why string) {
	if w.Refused != "" {
		w.Refused += "; "
	}
	w.Refused += fmt.Sprintf("of %q %s", title, why)
}

// part is what an index has of a point.
func (c Candidate) part(point int) Part {
	return c.Parts[slices.IndexFunc(c.Parts, func(p Part) bool { return p.Point == point })]
}

// words say an index, and what it is made of.
func (w Weighed) words() string {
	words := quantity.Digits(w.Index.Mean) + " × the baseline"
	if w.Index.Known {
		words += fmt.Sprintf(" (%s to %s)", quantity.Digits(w.Index.Low), quantity.Digits(w.Index.High))
	}
	var parts []string
	for _, p := range w.Parts {
		parts = append(parts, fmt.Sprintf("%s %s with %s", p.Title, quantity.Digits(p.Gain), quantity.Share(p.Share)))
	}
	return words + ": " + strings.Join(parts, ", ") + "."
}
