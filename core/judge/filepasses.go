package judge

import (
	"fmt"
	"math"
	"strings"

	"patientheron/core/quantity"
)

// passesOfFiles says how the passes of one measurement over its files went, class by
// class, by how long a whole file took on average: which classes the memory on the way
// holds, and which it does not. What each pass varies by itself is what the mean of so
// many files varies by.
func passesOfFiles(o Observed) []Finding {
	var words []string
	var evidence []Evidence
	changed, going := false, false
	groups := o.Load.FileGroups()
	for at := 0; at < len(groups) && groups[at].Pass > 0 && len(o.Summary.Groups) == len(groups); at += o.Load.Passes {
		var times []float64
		usual := 0.0
		for _, g := range o.Summary.Groups[at : at+o.Load.Passes] {
			if g.Operations == 0 {
				break // it ended before
			}
			times = append(times, float64(g.Latency.Mean))
			usual = max(usual, float64(g.Latency.Deviation/g.Latency.Mean)/math.Sqrt(float64(g.Operations)))
		}
		if len(times) < 3 {
			continue
		}
		name := o.Load.Files.Set.Classes[groups[at].Class].Name
		p := PassesOf(times, usual)
		words = append(words, fmt.Sprintf("%q %s", name, filePassesInWords(p, times)))
		evidence = append(evidence, Evidence{name + ": warm over cold, less one", float64(p.Gain)})
		changed, going = changed || p.Shape != Level, going || p.Going
	}
	if !changed {
		return nil
	}
	next := "To compare what is cold and what is warm, measure with as many passes on each side; the rows of each pass say what it came to."
	if going {
		next = "Measure with more passes: warm is not reached."
	}
	return []Finding{{
		Kind: "passes", Weight: Info, Figure: "all",
		Sentence: "By how long a whole file took, pass by pass: " + strings.Join(words, "; ") + ".",
		Next:     next, Evidence: evidence,
	}}
}

// filePassesInWords says what one class did.
func filePassesInWords(p Passes, times []float64) string {
	took := func(seconds float64) string { return quantity.Seconds(seconds).String() }
	first := took(times[0])
	switch {
	case p.Shape == Level:
		return "took the same in all of them"
	case p.Going:
		return fmt.Sprintf("%s in the first, %s in the last, and still changing", first, took(times[len(times)-1]))
	}
	return fmt.Sprintf("%s in the first, %s from pass %d on", first, took(average(times[p.Warm-1:])), p.Warm)
}
