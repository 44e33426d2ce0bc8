package compare

import (
	"fmt"
	"slices"

	"patientheron/core/figure"
)

// Caution is something that is to be known of what a side measured at a point.
type Caution struct {
	Side     string `json:"side"`
	Kind     string `json:"kind" doc:"Stable name of the rule that found it"`
	Sentence string `json:"sentence" doc:"Of the first measurement that it is said of"`
	Of       int    `json:"of" doc:"Measurements that it is said of"`
	Among    int    `json:"among" doc:"Measurements of the side at the point"`
	Words    string `json:"words" doc:"All of that as people read it"`
}

// inWords is the caution with its words.
func (c Caution) inWords() Caution {
	c.Words = c.Side + ": " + c.Sentence
	switch {
	case c.Among > 1 && c.Of == c.Among:
		c.Words += fmt.Sprintf(" So in all %d measurements.", c.Among)
	case c.Among > 1:
		c.Words += fmt.Sprintf(" So in %d of %d measurements.", c.Of, c.Among)
	}
	return c
}

// cautions are those of the measurements of a side, one of each kind, in the order in which
// they were found.
func cautions(side string, samples []Sample) []Caution {
	all := []Caution{}
	for _, s := range samples {
		seen := map[string]bool{}
		for _, f := range s.Known().Cautions() {
			if seen[f.Kind] {
				continue
			}
			seen[f.Kind] = true
			i := slices.IndexFunc(all, func(c Caution) bool { return c.Kind == f.Kind })
			if i < 0 {
				i, all = len(all), append(all, Caution{Side: side, Kind: f.Kind, Sentence: f.Sentence, Among: len(numbers(samples))})
			}
			all[i].Of++
			all[i] = all[i].inWords()
		}
	}
	return all
}

// oddOnes is the caution about repeats that lie apart from the others; none where there are none.
func oddOnes(side string, f figure.Figure, v Values) []Caution {
	if len(v.Odd) == 0 {
		return nil
	}
	var words string
	for i, n := range v.Odd {
		if i > 0 {
			words += ", "
		}
		words += f.Show(v.Values[n-1])
	}
	sentence := fmt.Sprintf("The %s is an outlier among the repeats: %s, against a median of %s. It stays in the mean.", f.Label, words, f.Show(v.Median))
	return []Caution{Caution{Side: side, Kind: "odd-repeats", Of: len(v.Odd), Among: len(v.Values), Sentence: sentence}.inWords()}
}
