package compare

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// ErrInvalid is wrapped by errors about a comparison or a gate that cannot be.
var ErrInvalid = errors.New("impossible comparison")

// Gate is a condition under which a script shall fail, such as
//
//	p99 of "ledger" worse by 10%
type Gate struct {
	Figure figure.Figure
	Stage  string // that the title of a point must begin with; "" for all
	Better bool   // fail when it got better; otherwise when it got worse
	By     quantity.Share
}

var gateForm = regexp.MustCompile(`^\s*(\S+)(?:\s+of\s+"([^"]*)")?\s+(worse|better)(?:\s+by\s+(\S+))?\s*$`)

// ParseGate reads a gate.
func ParseGate(text string) (Gate, error) {
	parts := gateForm.FindStringSubmatch(text)
	if parts == nil {
		return Gate{}, fmt.Errorf(`%w: the condition %q is not understood; write it like: p99 of "ledger" worse by 10%%`, ErrInvalid, text)
	}
	g := Gate{Stage: parts[2], Better: parts[3] == "better"}
	var err error
	if g.Figure, err = figure.Lookup(parts[1]); err != nil {
		return g, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if parts[4] != "" {
		if g.By, err = quantity.ParseChange(parts[4]); err != nil {
			return g, fmt.Errorf("%w: the condition %q: %w", ErrInvalid, text, err)
		}
		if !g.more() && g.By >= 1 {
			return g, fmt.Errorf("%w: the condition %q can never be met: %s cannot fall by %s; use less than 100%%", ErrInvalid, text, g.Figure.Label, g.By)
		}
	}
	return g, nil
}

// more reports whether the condition is met where the figure is more.
func (g Gate) more() bool { return g.Figure.Lower != g.Better }

// Answer is what a gate says of a comparison. It says one of four things of each point.
type Answer struct {
	Failed   []string `json:"failed" doc:"Points at which the condition is met: all of the interval lies beyond it"`
	NotShown []string `json:"notShown" doc:"Points at which the interval lies across it"`
	Unknown  []string `json:"unknown" doc:"Points that cannot be compared, and why"`
	Passed   int      `json:"passed" doc:"Points at which it is not met: none of the interval lies beyond it"`
}

// answer is that of one point.
type answer int

const (
	incomparable answer = iota
	met
	notMet
	across
)

// Check applies the gate, by the interval of the ratio alone, which holds for all points of
// the gate at once. The condition is met where all of it lies beyond the change that is asked,
// or where none is asked, the one that matters; it is not met where none of it does.
// Everything else cannot be told: one repeat on a side, no value, an interval that lies across
// what is asked, repeats in which nothing moved, runs on one side that are not of the
// same setup, a figure that is not to be trusted, and what one side did not measure.
func (g Gate) Check(c Result) (Answer, error) {
	a := Answer{Failed: []string{}, NotShown: []string{}, Unknown: []string{}}
	if g.By == 0 {
		g.By = c.Noise
	}
	rows := 0
	for _, p := range c.Points {
		if strings.HasPrefix(p.Title, g.Stage) {
			rows += len(p.Row(g.Figure.Key).Candidates)
		}
	}
	found := false
	for _, p := range c.Points {
		if !strings.HasPrefix(p.Title, g.Stage) {
			continue
		}
		row := p.Row(g.Figure.Key)
		for i, o := range row.Candidates {
			found = true
			where := fmt.Sprintf("%s of %s, %s", g.Figure.Label, p.Title, c.Candidates[i].Name)
			switch is, why := g.judge(row.Baseline, o, rows, cmp.Or(c.Baseline.Caution, c.Candidates[i].Caution)); is {
			case incomparable:
				a.Unknown = append(a.Unknown, where+": "+why)
			case across:
				a.NotShown = append(a.NotShown, where+": "+why)
			case met:
				change := fmt.Sprintf("%s against %s, %s", g.Figure.Show(o.Taken.Mean), g.Figure.Show(row.Baseline.Taken.Mean), g.Figure.InWords(o.Ratio.Value))
				a.Failed = append(a.Failed, where+": "+cmp.Or(why, change))
			case notMet:
				a.Passed++
			}
		}
		if len(row.Candidates) == 0 {
			found = true
			a.Unknown = append(a.Unknown, fmt.Sprintf("%s of %s: this load has no such figure", g.Figure.Label, p.Title))
		}
	}
	for _, u := range c.Unmatched {
		if strings.HasPrefix(u.Title, g.Stage) {
			found = true
			a.Unknown = append(a.Unknown, fmt.Sprintf("%s, %s: %s", u.Title, u.Side, u.Reason))
		}
	}
	if !found {
		return a, fmt.Errorf("%w: no point of this comparison is called %q with a figure %s", ErrInvalid, g.Stage, g.Figure.Key)
	}
	return a, nil
}

// judge says how one of so many points stands to the condition, and why where that is not the
// change itself.
func (g Gate) judge(baseline Values, o Outcome, among int, mixed string) (is answer, why string) {
	bound := 1 - float64(g.By)
	if g.more() {
		bound = 1 + float64(g.By)
	}
	low, high := o.Ratio.Interval(among)
	switch {
	case baseline.Unreliable != "" || o.Unreliable != "":
		return incomparable, cmp.Or(o.Unreliable, baseline.Unreliable)
	case mixed != "":
		return incomparable, mixed
	case baseline.Engine || o.Engine:
		return incomparable, cmp.Or(o.Reason, baseline.Reason)
	case (baseline.Done < 1) != (o.Done < 1):
		// What does not keep its rate gets slower for as long as that goes on.
		if (o.Done < 1) == g.more() {
			return met, cmp.Or(o.Reason, baseline.Reason)
		}
		return notMet, ""
	case o.Verdict == judge.Missing:
		return incomparable, cmp.Or(o.Reason, baseline.Reason, "there is no value")
	case baseline.Taken.Mean == 0:
		return incomparable, "the baseline is zero"
	case !o.Ratio.Known() && o.Verdict == judge.Same: // number for number
		return notMet, ""
	case o.Climbs != "":
		return across, "its passes are still changing (" + o.Climbs + "); measure more of them"
	case !o.Ratio.Known():
		return incomparable, "one repeat on a side; measure at least three"
	case baseline.Idle+o.Idle > 0 && !o.Ratio.Shown(among):
		return incomparable, cmp.Or(o.Remark, baseline.Remark)
	case high == 0:
		return across, "the change is not known; more runs, measured alternately, would decide"
	case g.more() && low > bound, !g.more() && high < bound:
		return met, ""
	case g.more() && high <= bound, !g.more() && low >= bound:
		return notMet, ""
	}
	return across, fmt.Sprintf("the change is between %s and %s; more runs, measured alternately, would decide", signed(low), signed(high))
}

// signed is a ratio as a change in per cent.
func signed(ratio float64) string {
	change := quantity.Digits((ratio - 1) * 100)
	if ratio >= 1 {
		change = "+" + change
	}
	return change + " %"
}
