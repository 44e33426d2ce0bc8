package judge

import (
	"fmt"
	"math"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Known is what is known of a measurement beside its figures. Whoever says something of a
// figure elsewhere asks it first: comparison, need, gate, twin, search, report.
type Known struct {
	Unkept string  // how much of a set rate was done, when that was not all of it
	Done   float64 // as a share of what was asked; 1 where no rate was set
	Engine bool    // it was the engine that could not keep it, not what was measured

	found []Finding
}

// KnownOf gathers what is known of a measurement under a load from its summary, nil when there
// is none, and from what was found of it.
func KnownOf(load workload.Spec, sum *measure.Summary, found []Finding) Known {
	k := Known{Done: 1}
	for _, f := range found {
		if f.Weight != Info {
			k.found = append(k.found, f)
		}
	}
	if sum == nil {
		return k
	}
	if done, kept := kept(load, *sum); !kept {
		k.Done, k.Engine = done, engineLimits(load, *sum)
		who := "the rate was not sustained"
		if k.Engine {
			who = "the engine itself could not sustain the rate"
		}
		wanted := quantity.OpRate(load.Arriving())
		for _, c := range claim.Add(nil, notKept, claim.Term{Of: who, Value: float64(sum.Total.Rate), Shown: sum.Total.Rate.String()}, claim.Term{Of: "asked", Value: float64(wanted), Shown: wanted.String()}) {
			k.Unkept = c.Words
		}
	}
	return k
}

// notKept needs what was done of a set rate, and what was asked.
var notKept = claim.Declare("rate-not-kept", func(t []claim.Term) bool { return t[0].Value < t[1].Value }, func(t []claim.Term) string {
	return fmt.Sprintf("%s: %s of %s were completed, and the latency only reflects the measured time", t[0].Of, t[0].Shown, t[1].Shown)
})

// Doubt is why a figure about a class of operation is not to be trusted, or about all that
// move bytes for ""; "" when it is.
func (k Known) Doubt(class string) string {
	for _, f := range k.found {
		if f.Weight == Unreliable && (f.Figure == "all" || class == "" || f.Figure == class) {
			return f.Sentence
		}
	}
	return ""
}

// DoubtOfAll is why no figure is to be trusted, whichever it is about; "" when some are.
func (k Known) DoubtOfAll() string {
	for _, f := range k.found {
		if f.Weight == Unreliable && f.Figure == "all" {
			return f.Sentence
		}
	}
	return ""
}

// Cautions are the findings that are to be known wherever its figures are used.
func (k Known) Cautions() (cautions []Finding) {
	for _, f := range k.found {
		if f.Weight == Caution {
			cautions = append(cautions, f)
		}
	}
	return cautions
}

// The limits of a rate that was kept: the share of what arrived that may be missing, and the
// least that counts where as much as that still waits.
const (
	mostMissing  = 0.02
	leastMissing = 0.003
)

// kept reports whether a load did what arrived at its set rate, and which share of it was
// done. It was not kept when more is missing than chance spaces arrivals (four standard
// deviations of a Poisson count), and that is 2 %, or as much as can only be a queue that
// grows: what is under way is rate × latency (Little 1961), and a queue that grows from
// nothing holds twice its mean at the end. Short of 100 operations nothing is said.
func kept(load workload.Spec, sum measure.Summary) (done float64, kept bool) {
	wanted := float64(load.Arriving())
	expected := wanted * float64(sum.Measured)
	if load.Amount > 0 || !(expected > 0) || sum.Total.Operations < 100 {
		return 1, true
	}
	missing := expected - float64(sum.Total.Operations)
	share := missing / expected
	waiting := wanted * float64(sum.Total.Latency.Mean)
	overload := share >= mostMissing || share >= leastMissing && missing > 1.5*waiting
	return 1 - share, !overload || missing < 4*math.Sqrt(expected)
}
