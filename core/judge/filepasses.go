package judge

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/quantity"
)

var (
	filePasses = saysOf("passes", Info, func(classes []string) string {
		return "Time per file, pass by pass: " + strings.Join(classes, "; ") + "."
	})

	classLevel = claim.Declare("class-level", func(t []claim.Term) bool { return len(t) == 1 }, func(t []claim.Term) string {
		return t[0].Of + " took the same in all passes"
	})
	classGoing = claim.Declare("class-still-changing", apartTerms, func(t []claim.Term) string {
		return fmt.Sprintf("%s %s %s, %s %s, and still changing", t[0].Of, t[1].Shown, t[1].Of, t[2].Shown, t[2].Of)
	})
	classWarm = claim.Declare("class-warm", apartTerms, func(t []claim.Term) string {
		return fmt.Sprintf("%s %s %s, %s %s", t[0].Of, t[1].Shown, t[1].Of, t[2].Shown, t[2].Of)
	})
)

// apartTerms needs who, and two values that differ as they are shown.
func apartTerms(t []claim.Term) bool {
	return len(t) == 3 && t[1].Value != t[2].Value && t[1].Shown != t[2].Shown
}

// passesOfFiles says how the passes of one measurement over its files went, class by
// class, by how long a whole file took on average: which classes the memory on the way
// holds, and which it does not. What each pass varies by itself is what the mean of so
// many files varies by.
func passesOfFiles(o Observed) []Finding {
	var classes []claim.Claim
	var evidence []Evidence
	changed, going := false, false
	groups := o.Load.PassGroups()
	for at := 0; at < len(groups) && len(o.Summary.Groups) == len(groups); at += o.Load.Passes {
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
		name := groups[at].Of
		p := PassesOf(times, usual)
		classes = classPasses(classes, strconv.Quote(name), p, times)
		evidence = append(evidence, unsaid(name+": warm over cold, less one", p.Gain))
		changed, going = changed || p.Shape != Level, going || p.Going
	}
	if !changed {
		return nil
	}
	next := "To compare cold and warm, measure the same number of passes on each side; the results list each pass."
	if going {
		next = "Measure more passes: it is not warm yet."
	}
	return filePasses.puts(classes, everything, next, evidence...)
}

// classPasses adds what one class did.
func classPasses(to []claim.Claim, class string, p Passes, times []float64) []claim.Claim {
	took := func(which string, seconds float64) claim.Term {
		return claim.Term{Of: which, Value: seconds, Shown: quantity.Seconds(seconds).String()}
	}
	its, first := claim.Term{Of: class}, took("in the first", times[0])
	switch {
	case p.Shape == Level:
		return claim.Add(to, classLevel, its)
	case p.Going:
		return claim.Add(to, classGoing, its, first, took("in the last", times[len(times)-1]))
	}
	return claim.Add(to, classWarm, its, first, took(fmt.Sprintf("from pass %d on", p.Warm), average(times[p.Warm-1:])))
}
