package compare

import (
	"fmt"
	"math"
	"slices"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// advice says how to know more when runs of the same differ too much for the difference that
// matters to be seen between one of each, and by how much they are taken to differ where
// nothing was learned of that.
func (c *Result) advice(sides []known) string {
	unknown := false
	for _, p := range c.Points {
		for _, o := range p.Row(p.Main).Candidates {
			unknown = unknown || o.Verdict == judge.NotShown || o.Verdict == judge.Hint
		}
	}
	most, least := 0.0, math.Inf(1) // standard deviation, and degrees of freedom that it was learned with
	for i, side := range sides {
		if !side.Real || len(side.Runs) >= 3 || i > 0 && side.beside(sides[0]).within || i == 0 && !slices.ContainsFunc(sides[1:], func(other known) bool { return !side.beside(other).within }) {
			continue
		}
		for _, p := range c.Points {
			s, learned := side.learned[p.Main].Under(p.keys[i])
			most, least = max(most, s.Deviation), min(least, learned)
		}
	}
	next := "Measure both alternately: 'heron measure A B --repeats 5'. Or make three runs of each, and compare them as groups: 'heron compare 1+3+5 2+4+6'. More repeats within a run do not help."
	switch {
	case most == 0:
		return ""
	case least < judge.LeastLearned:
		known := "It is not known yet"
		if least > 0 {
			known = "Little is known yet of"
		}
		return fmt.Sprintf("%s how much runs of the same setup differ here. A standard deviation of %s is assumed, so only large differences between single runs are significant. %s", known, quantity.Share(most), next)
	case !unknown || most < float64(c.Noise)/2:
		return ""
	}
	return fmt.Sprintf("Runs of the same setup differ by %s here (standard deviation, learned from other runs). A difference of %s between single runs is not significant. %s",
		quantity.Share(most), c.Noise, next)
}

// inWords says what a ratio means, also where there is none for want of a value.
func inWords(f figure.Figure, baseline Values, o Outcome) string {
	switch {
	case o.Ratio.Value > 0 && o.Climbs != "":
		return f.InWords(o.Ratio.Value) + " (" + o.Climbs + ")"
	case o.Ratio.Value > 0:
		return f.InWords(o.Ratio.Value)
	case baseline.Taken.Mean == 0:
		return f.Label + " from nothing to " + f.Show(o.Taken.Mean)
	}
	return f.Label + " down to nothing"
}

// rank orders parts by how much they changed, gains and losses alike, those
// that are shown first.
func rank(p Part) int {
	if p.Verdict != judge.Better && p.Verdict != judge.Worse {
		return 1 << 20
	}
	return -int(math.Abs(math.Log(p.Gain)) * 1e4)
}
