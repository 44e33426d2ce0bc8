package compare

import (
	"fmt"
	"slices"

	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// ratio compares what two sides have of a figure under a load: pair by pair where they
// were measured together.
func ratio(before known, baseline Values, after known, candidate Values, figure, load, theirs string, noise quantity.Share) judge.Ratio {
	apart := judge.Compare(before.repetition(figure, baseline, load, after), after.repetition(figure, candidate, theirs, before), noise)
	a, b := pairsOf(baseline, candidate)
	if len(a) == 0 {
		return apart
	}
	r := judge.ComparePairs(before.inPairs(a, baseline.runs), after.inPairs(b, candidate.runs), noise)
	if r.Known() && apart.Known() {
		r.Narrower = apart.Half() / r.Half()
	}
	return r
}

// climbing puts a comparison by rank in the place of a ratio of means where passes of a side
// still change. Of three runs or more each counts once, and their means are as good as any.
func climbing(r *judge.Ratio, baseline, candidate Values, before, after judge.Passes, between float64) {
	if baseline.runs >= 3 || candidate.runs >= 3 || r.Verdict == judge.Missing {
		return
	}
	was, is := baseline.Every(), candidate.Every()
	found, beyond := judge.CompareClimbing(was, is, before.Going, after.Going, between)
	if found.Verdict == judge.Missing {
		return
	}
	*r = found
	last := len(is)
	if !after.Going {
		last = len(was)
	}
	r.Climbs = fmt.Sprintf("at pass %d, and still changing", last)
	if beyond > 0 {
		r.Climbs = fmt.Sprintf("each from pass %d on, by so much at pass %d, and still changing", beyond, last)
	}
}

// pairsOf are the values of both sides that were measured together, in the same order.
// There are none where one side has a value that was measured with nothing: values alone
// and in pairs say different things.
func pairsOf(baseline, candidate Values) (a, b []float64) {
	places := map[pair]int{}
	for i, p := range candidate.pairs {
		if _, twice := places[p]; twice || p == (pair{}) {
			return nil, nil
		}
		places[p] = i
	}
	seen := map[pair]bool{}
	for i, p := range baseline.pairs {
		if seen[p] || p == (pair{}) {
			return nil, nil
		}
		seen[p] = true
		if at, together := places[p]; together {
			a, b = append(a, baseline.compared[i]), append(b, candidate.compared[at])
		}
	}
	return a, b
}

// inPairs is what a side measured together with another. Fewer than three runs do not
// show what stays throughout a run.
func (k known) inPairs(values []float64, runs int) judge.Repetition {
	r := judge.Repetition{Values: values, Runs: runs}
	if k.Real && runs < 3 {
		r.Spread = judge.Given(judge.InPlace)
	}
	return r
}

// paired says what it brought that a candidate was measured together with the baseline:
// by how much that made the intervals of the main figures narrower, in the middle.
func (c *Result) paired(candidate int) string {
	var narrower []float64
	least, most := 0, 0
	for _, p := range c.Points {
		r := p.Row(p.Main).Candidates[candidate].Ratio
		if r.Pairs == 0 {
			continue
		}
		if least, most = min(least, r.Pairs), max(most, r.Pairs); least == 0 {
			least = r.Pairs
		}
		if r.Narrower > 0 {
			narrower = append(narrower, r.Narrower)
		}
	}
	if most == 0 {
		return ""
	}
	pairs := fmt.Sprint(most)
	if least < most {
		pairs = fmt.Sprintf("%d to %d", least, most)
	}
	words := fmt.Sprintf("Measured together, %s pairs per point", pairs)
	if most == 1 {
		words = "Measured together, with one pair per point"
	}
	if len(narrower) == 0 {
		return words + ": only a hint; measure more repeats."
	}
	slices.Sort(narrower)
	switch by := narrower[len(narrower)/2]; {
	case by > 100:
		return words + ": pairing narrows the intervals by a factor of more than 100."
	case by >= 1.05:
		return fmt.Sprintf("%s: pairing narrows the intervals by a factor of %s.", words, quantity.Digits(by))
	case by > 0.95:
		return words + ": pairing does not change the intervals; no disturbance affected both alike."
	default:
		return fmt.Sprintf("%s: pairing widens the intervals by a factor of %s: no disturbance affected both alike, and few pairs are less precise.", words, quantity.Digits(1/by))
	}
}
