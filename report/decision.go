package report

import (
	"fmt"
	"html/template"
	"io"
	"slices"
	"strconv"

	"patientheron/core/choose"
	"patientheron/core/judge"
	"patientheron/core/need"
	"patientheron/resource"
)

// decisionPage is what the page of a decision shows.
type decisionPage struct {
	resource.Verdicts
	Name   string
	Parts  []decided
	Chosen *choose.Chosen // of designs that were simulated
}

// Take is the design to take; nil where none meets the need.
func (p decisionPage) Take() *choose.Design {
	c := p.Chosen
	if c == nil || len(c.Finalists) == 0 || len(c.Judged.Setups) == 0 || c.Judged.Setups[0].Outcome != judge.Meets {
		return nil
	}
	return &c.Finalists[0]
}

// decided is one need with what comes of it.
type decided struct {
	resource.Judgement
	Chart template.HTML
	Heads []string // what the columns of setups are headed by: their names, or numbers where those are long or many
	Costs []string // what there is a price of
	Open  []open

	Closest []need.Answer // shown demand by demand: those in front
}

// mostClosest is how many setups are shown demand by demand.
const mostClosest = 3

// open is a verdict that is not shown or not measured, and why.
type open struct{ Setup, Demand, Words, Reason string }

// Price is what a setup pays for a unit; nil where it is not known.
func (d decided) Price(a need.Answer, of string) *need.Cost {
	for _, c := range a.Costs {
		if c.Of == of {
			return &c
		}
	}
	return nil
}

// Weakened reports whether any setup was measured in another state than whole.
func (d decided) Weakened() bool {
	return slices.ContainsFunc(d.Setups, func(a need.Answer) bool { return len(a.Meanwhile) > 0 })
}

// longName is how long the name of a setup may be at the head of a column, and manyNames how many
// stand beside each other.
const (
	longName  = 22
	manyNames = 8
)

// heads are what the columns of setups are headed by.
func heads(setups []need.Answer) (all []string) {
	long := len(setups) > manyNames || slices.ContainsFunc(setups, func(a need.Answer) bool { return len([]rune(a.Name)) > longName })
	for i, a := range setups {
		if long {
			all = append(all, strconv.Itoa(i+1))
		} else {
			all = append(all, a.Name)
		}
	}
	return all
}

// WriteDecision writes how setups stand to needs as one page that needs nothing else: what
// to do in a sentence, demands against setups, prices, what is not shown, how to repeat it.
func WriteDecision(w io.Writer, v resource.Verdicts) error {
	return writeDecision(w, decisionPage{Verdicts: v, Name: "Which setup meets the need?"})
}

// WriteChosen writes what a search for what to buy came to as such a page, with the bill of
// what to take, and why others fail.
func WriteChosen(w io.Writer, c choose.Chosen) error {
	v := resource.Verdicts{Judged: []resource.Judgement{{Judged: c.Judged}}}
	return writeDecision(w, decisionPage{Verdicts: v, Chosen: &c})
}

func writeDecision(w io.Writer, page decisionPage) error {
	v := page.Verdicts
	if len(v.Judged) == 1 {
		page.Name = v.Judged[0].Need.Name
	}
	for _, j := range v.Judged {
		part := decided{Judgement: j, Heads: heads(j.Setups), Closest: j.Setups[:min(len(j.Setups), mostClosest)]}
		var spots []spot
		known := map[string]bool{}
		for n, a := range j.Setups {
			if a.Price > 0 && a.Carries > 0 {
				spots = append(spots, spot{X: a.Price, Y: a.Carries, Label: part.Heads[n], Filled: a.Frontier})
			}
			for _, c := range a.Costs {
				if !known[c.Of] {
					known[c.Of] = true
					part.Costs = append(part.Costs, c.Of)
				}
			}
			for i, of := range a.Verdicts {
				if of.Open() {
					part.Open = append(part.Open, open{a.Name, j.Demands[i].Name(), of.Words, of.Reason})
				}
			}
		}
		var err error
		if part.Chart, err = scatter("Headroom against price", "price", "smallest headroom, ×", spots); err != nil {
			return err
		}
		page.Parts = append(page.Parts, part)
	}
	if err := pages.ExecuteTemplate(w, "decision.gohtml", page); err != nil {
		return fmt.Errorf("write the report of a decision: %w", err)
	}
	return nil
}
