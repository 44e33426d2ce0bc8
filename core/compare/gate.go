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

// Check applies the gate. The condition is met where the difference is shown
// and at least as large as asked. It cannot be told with one repeat on a side,
// without a value, or when the figure is not to be trusted.
func (g Gate) Check(c Result) (Answer, error) {
	a := Answer{Failed: []string{}, Unknown: []string{}}
	found := false
	for _, p := range c.Points {
		if g.Stage != "" && !strings.HasPrefix(p.Title, g.Stage) {
			continue
		}
		row := p.Row(g.Figure.Key)
		for i, o := range row.Candidates {
			found = true
			where := fmt.Sprintf("%s of %s, %s", g.Figure.Label, p.Title, c.Candidates[i].Name)
			change := o.Ratio.Value - 1
			met := o.Verdict == judge.Worse
			if g.Better {
				met = o.Verdict == judge.Better
			}
			if change < 0 {
				change = -change
			}
			switch {
			case o.Verdict == judge.Missing:
				a.Unknown = append(a.Unknown, where+": "+cmp.Or(o.Reason, cmp.Or(row.Baseline.Reason, "there is no value")))
			case row.Baseline.Unreliable != "" || o.Unreliable != "":
				a.Unknown = append(a.Unknown, where+": "+cmp.Or(o.Unreliable, row.Baseline.Unreliable))
			case o.Verdict == judge.Hint:
				a.Unknown = append(a.Unknown, where+": one repeat on a side; measure at least three")
			case met && change >= float64(g.By):
				a.Failed = append(a.Failed, fmt.Sprintf("%s: %s against %s, %s", where, g.Figure.Show(o.Taken.Mean), g.Figure.Show(row.Baseline.Taken.Mean), o.Verdict))
			default:
				a.Passed++
			}
		}
	}
	if !found {
		return a, fmt.Errorf("%w: no point of this comparison is called %q with a figure %s", ErrInvalid, g.Stage, g.Figure.Key)
	}
	return a, nil
}
