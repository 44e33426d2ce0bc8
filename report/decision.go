package report

import (
	"fmt"
	"html/template"
	"io"

	"patientheron/core/judge"
	"patientheron/core/need"
	"patientheron/resource"
)

// decisionPage is what the page of a decision shows.
type decisionPage struct {
	resource.Verdicts
	Name  string
	Parts []decided
}

// decided is one need with what comes of it.
type decided struct {
	resource.Judgement
	Chart template.HTML
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

// WriteDecision writes how setups stand to needs as one page that needs nothing else: what
// to do in a sentence, demands against setups, prices, what is not shown, how to repeat it.
func WriteDecision(w io.Writer, v resource.Verdicts) error {
	page := decisionPage{Verdicts: v, Name: "Which setup meets the need?"}
	if len(v.Judged) == 1 {
		page.Name = v.Judged[0].Need.Name
	}
	for _, j := range v.Judged {
		part := decided{Judgement: j, Closest: j.Setups[:min(len(j.Setups), mostClosest)]}
		var spots []spot
		known := map[string]bool{}
		for _, a := range j.Setups {
			if a.Price > 0 && a.Carries > 0 {
				spots = append(spots, spot{X: a.Price, Y: a.Carries, Label: a.Name, Filled: a.Frontier})
			}
			for _, c := range a.Costs {
				if !known[c.Of] {
					known[c.Of] = true
					part.Costs = append(part.Costs, c.Of)
				}
			}
			for i, of := range a.Verdicts {
				if of.Standing == judge.Undecided || of.Standing == judge.NotMeasured {
					part.Open = append(part.Open, open{a.Name, j.Demands[i].Name(), of.Words, of.Reason})
				}
			}
		}
		var err error
		if part.Chart, err = scatter("What each setup carries for its price", "price", "smallest headroom, times", spots); err != nil {
			return err
		}
		page.Parts = append(page.Parts, part)
	}
	if err := pages.ExecuteTemplate(w, "decision.gohtml", page); err != nil {
		return fmt.Errorf("write the report of a decision: %w", err)
	}
	return nil
}
