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
		if g.By, err = quantity.ParseShare(parts[4]); err != nil {
			return g, fmt.Errorf("%w: the condition %q: %w", ErrInvalid, text, err)
		}
	}
	return g, nil
}

// Answer is what a gate says of a comparison.
type Answer struct {
	Failed  []string `json:"failed" doc:"Points at which the condition is met"`
	Unknown []string `json:"unknown" doc:"Points at which it cannot be told, and why"`
	Passed  int      `json:"passed" doc:"Points at which it is not met"`
}

// unlikely is the chance below which a gate takes something for excluded.
const unlikely = 0.05

// Check applies the gate. The condition is met where a difference is shown and is at
// least as large as asked; where nothing is asked, as the one that matters. It is not
// met where one as large is excluded, or the difference that is shown is smaller.
// Everything else cannot be told: one repeat on a side, no value, an interval that lies across
// what is asked, repeats in which nothing moved, runs on one side that are not of the
// same setup, a figure that is not to be trusted, and what one side did not measure.
func (g Gate) Check(c Result) (Answer, error) {
	a := Answer{Failed: []string{}, Unknown: []string{}}
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
			switch met, reason := g.met(row.Baseline, o, rows, cmp.Or(c.Baseline.Caution, c.Candidates[i].Caution)); {
			case reason != "":
				a.Unknown = append(a.Unknown, where+": "+reason)
			case met:
				a.Failed = append(a.Failed, fmt.Sprintf("%s: %s against %s, %s", where, g.Figure.Show(o.Taken.Mean), g.Figure.Show(row.Baseline.Taken.Mean), g.Figure.InWords(o.Ratio.Value)))
			default:
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

// met tells whether the condition is met at one of so many points, or why that cannot
// be told.
func (g Gate) met(baseline Values, o Outcome, among int, mixed string) (met bool, reason string) {
	switch {
	case o.Verdict == judge.Missing:
		return false, cmp.Or(o.Reason, baseline.Reason, "there is no value")
	case baseline.Unreliable != "" || o.Unreliable != "":
		return false, cmp.Or(o.Unreliable, baseline.Unreliable)
	case mixed != "":
		return false, mixed
	case baseline.Taken.Mean == 0:
		return false, "the baseline moved nothing"
	case !o.Ratio.Known() && o.Verdict != judge.Same:
		return false, "one repeat on a side; measure at least three"
	case baseline.Idle+o.Idle > 0 && !o.Ratio.Shown(among):
		return false, cmp.Or(o.Remark, baseline.Remark)
	}
	lower := g.Figure.Lower != g.Better // less counts as what is asked
	worse := o.Ratio.Value < 1
	if lower {
		worse = o.Ratio.Value > 1
	}
	change := o.Ratio.Value - 1
	if change < 0 {
		change = -change
	}
	if o.Ratio.Shown(among) {
		return worse && change >= float64(g.By), ""
	}
	if o.Ratio.ChanceOfWorse(g.By, lower) < unlikely {
		return false, ""
	}
	return false, fmt.Sprintf("the change lies between %s and %s; repeat more often to tell", signed(o.Low), signed(o.High))
}

// signed is a ratio as a change in per cent.
func signed(ratio float64) string {
	change := quantity.Digits((ratio - 1) * 100)
	if ratio >= 1 {
		change = "+" + change
	}
	return change + " %"
}
