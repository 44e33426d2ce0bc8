// Package judge says what to believe of a measurement: pure functions from
// what was recorded to findings, each with its evidence and a next step.
//
// It reads no storage and knows no clock. Findings applies all rules to one
// measurement; Repeats, Compare and FitScaling look at several. Each rule names
// its source; docs/judgement.md has them in a table, with how often they are
// wrong.
package judge

import (
	"fmt"
	"slices"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Observed is everything the rules may look at.
type Observed struct {
	Load    workload.Spec
	Summary measure.Summary
	Series  []measure.Interval
	Facts   *setup.Facts     // of the volume; nil when it could not be looked at
	Setup   setup.Setup      // what is known of what stands behind it
	Source  *measure.Summary // of the folder alone that files are put from; nil for none

	Changed []quantity.Seconds // when something was changed on purpose, or went wrong, since the beginning
}

// use is what the load asked of the volume.
func (o Observed) use() setup.Use {
	use := setup.UseOf(o.Load)
	if o.Load.Traits().OwnSizes {
		use = use.Measured(o.Summary.Total.Operations, o.Summary.Total.Bytes)
	}
	return use
}

// Findings applies all rules. The order is that of the rules, so that the same
// measurement always gives the same list.
func Findings(o Observed) []Finding {
	findings := stoodStill(o)
	if o.Summary.Ending == measure.ByFailure {
		return append(findings, failed(o)...) // what led to it says nothing of the storage at work
	}
	o.Series = slices.Clone(o.Series)
	measure.CutWarmUp(o.Series, o.Summary.WarmUp)
	for _, rule := range []func(Observed) []Finding{
		memoryFileSystem, neverWritten, silentlyBuffered, cachedOnPurpose, aboveCeiling, cacheAnswered, stillWarming,
		phases, passesOfFiles, partsOfTogether, unsteady, stolenTime, waitedForCores, fewInFlight, lateFeeds, fellBehind, lateGenerator, portableInterface, offersCut, sourceLimits, whoLimits,
	} {
		findings = append(findings, rule(o)...)
	}
	return findings
}

// partsOfTogether applies to each of several loads at once what can be said of it by itself.
func partsOfTogether(o Observed) (findings []Finding) {
	for i := range o.Load.Together {
		part, sum := o.Load.Part(i, &o.Summary)
		if sum == nil || sum.Total.Operations == 0 {
			continue
		}
		alone := o
		alone.Load, alone.Summary = part, *sum
		for _, rule := range []func(Observed) []Finding{aboveCeiling, lateFeeds, fellBehind} {
			for _, f := range rule(alone) {
				f.Part, f.Sentence = part.Name, fmt.Sprintf("%q: %s", part.Name, f.Sentence)
				findings = append(findings, f)
			}
		}
	}
	return findings
}

var (
	refusedPart = says("portable-interface: a part of it", Info, always, "The kernel refused %s. That costs some CPU time for each operation.")
	refusedAll  = says("portable-interface", Caution, always, "This kernel refuses io_uring. Operations went through threads, which cost more CPU time each.")
	sentLate    = says("late-generator", Caution, func(t []claim.Term) bool { return t[0].Value >= 100e-6 && t[0].Value > t[1].Value/10 },
		"Operations were issued %s late on average, although the volume was ready; the mean latency is %s.")
)

// portableInterface says that operations went through threads: each then costs
// more of the host.
func portableInterface(o Observed) []Finding {
	if lacks, found := strings.CutPrefix(o.Summary.Interface, "io_uring without "); found {
		return refusedPart.of(everything, "On fast devices raise the service's limit on locked memory (ulimit -l), then measure again.", named("what it refused", lacks))
	}
	if o.Summary.Interface != "threads" {
		return nil
	}
	return refusedAll.of(everything, "On fast devices allow io_uring for the service (sysctl kernel.io_uring_disabled), then measure again.")
}

// lateGenerator compares how late the generator itself was with the latency:
// above a tenth of it, the generator is in the way.
func lateGenerator(o Observed) []Finding {
	lag, mean := o.Summary.IssueLag, o.Summary.Total.Latency.Mean
	if lag == nil || mean <= 0 {
		return nil
	}
	return sentLate.of(everything, "This host cannot keep the pace: use more workers or a lower rate.", number("issue lag, seconds", *lag), number("mean latency, seconds", mean))
}
