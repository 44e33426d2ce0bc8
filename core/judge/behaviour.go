package judge

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/gonum/stat/distuv"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// phases says how the rate went: that it fell, that it never stood still, or that
// this cannot be told. A load that is to move a fixed amount is measured over all of
// it, whatever happens on the way.
func phases(o Observed) []Finding {
	p := o.Summary.Phases
	if p == nil || len(p.List) == 0 {
		return nil
	}
	var findings []Finding
	evidence := []Evidence{}
	if f := p.Fall; f != nil {
		evidence = append(evidence, Evidence{"seconds until it fell", float64(f.After)}, Evidence{"bytes until it fell", float64(f.Bytes)},
			Evidence{"bytes per second before", float64(f.From)}, Evidence{"bytes per second after", float64(f.To)})
		counts := "The figures are those of what came last."
		if p.Cut == 0 {
			counts = "The figures mix both."
		}
		findings = append(findings, Finding{
			Kind: "fell", Weight: Info, Figure: "all",
			Sentence: fmt.Sprintf("The throughput fell from %s to %s after %s and %s. %s", f.From, f.To, f.After, f.Bytes, counts),
			Next:     "A use that comes in bursts smaller than that may count on the first figure, every other on the last.",
			Evidence: evidence,
		})
	}
	switch {
	case o.Load.Amount > 0 || p.Standing == measure.Settled:
	case p.Standing == measure.NotSettled:
		words := p.Words
		if d := p.Drift; d != nil {
			evidence = append(evidence, Evidence{"drift over the last phase, as a share of its mean", float64(d.Share)})
		}
		findings = append(findings, Finding{
			Kind: "never-settled", Weight: Caution, Figure: "all",
			Sentence: "The rate never settled: " + words,
			Next:     "Measure longer, or with --settled, after filling the volume as it will be in use.",
			Evidence: evidence,
		})
	default:
		findings = append(findings, Finding{
			Kind: "settling-not-known", Weight: Info, Figure: "all",
			Sentence: "Whether the rate settled is not known: " + p.Words,
			Next:     "Measure longer; --settled waits until it can be told.",
			Evidence: evidence,
		})
	}
	return findings
}

// unsteady says that some intervals were far below the rest, further than chance
// puts whole numbers of operations.
func unsteady(o Observed) []Finding {
	s := o.Summary.Steadiness
	if s == nil || s.Intervals < 5 || s.WorstShare >= 0.5 {
		return nil
	}
	usual := 0.0
	if s.WorstShare > 0 {
		usual = float64(s.Worst) / float64(s.WorstShare) * float64(s.Interval)
	} else {
		usual = float64(o.Summary.Total.Rate) * float64(s.Interval)
	}
	if usual <= 0 || (distuv.Poisson{Lambda: usual}).CDF(float64(s.Worst)*float64(s.Interval))*float64(s.Intervals) > 0.01 {
		return nil
	}
	return []Finding{{
		Kind: "unsteady", Weight: Caution, Figure: "all",
		Sentence: fmt.Sprintf("The slowest of %d intervals of %s reached %s, %s of the median; %d were below half of it.", s.Intervals, s.Interval, s.Worst, s.WorstShare, s.Slow),
		Next:     "Look at the series for what happened then; a use with deadlines lives by its worst seconds, not by the mean.",
		Evidence: []Evidence{{"worst over median", float64(s.WorstShare)}, {"coefficient of variation", float64(s.Variation)}, {"intervals below half the median", float64(s.Slow)}},
	}}
}

// stolenLimit is the share of CPU time from which on others on the same
// hardware distort what this host measures.
const stolenLimit = 0.02

// stolenTime says that a hypervisor gave CPU time of this host to others
// (proc_stat(5)): a rate can be too low by about that share, and differs from
// run to run.
func stolenTime(o Observed) []Finding {
	if o.Summary.Stolen < stolenLimit {
		return nil
	}
	return []Finding{{
		Kind: "stolen-time", Weight: Caution, Figure: "all",
		Sentence: fmt.Sprintf("A hypervisor gave %s of this host's CPU time to others meanwhile.", o.Summary.Stolen),
		Next:     "Measure when the hardware is quieter, or from a host of its own. Comparisons allow for that share.",
		Evidence: []Evidence{{"stolen share of CPU time", float64(o.Summary.Stolen)}},
	}}
}

// waitLimit is the share of their time for which workers may wait for a core.
const waitLimit = 0.05

// waitedForCores says that the workers' own threads were ready to run and no core
// ran them: an operation that was answered meanwhile counts as slower than the
// storage was. It happens when workers outnumber cores, or others use them.
func waitedForCores(o Observed) []Finding {
	cores := 0
	for _, i := range o.Series {
		cores = max(cores, len(i.Cores()))
	}
	workers, wait := o.Load.Workers, o.Summary.CoreWait
	if cores == 0 || wait < waitLimit && (o.Summary.WorkerCPUPerOp > 0 || workers < 4*cores) {
		return nil
	}
	f := Finding{
		Kind: "waited-for-cores", Weight: Caution, Figure: "all",
		Next:     "Use fewer workers with a greater depth for as many operations in flight, or measure from a host with more cores that do nothing else.",
		Evidence: []Evidence{{"share of the workers' time waited for a core", float64(wait)}, {"workers", float64(workers)}, {"cores", float64(cores)}},
	}
	share := fmt.Sprintf("%d workers share %d cores", workers, cores)
	if workers <= cores {
		share = fmt.Sprintf("Others use the %d cores of this host too", cores)
		f.Next = "See what else runs here, what serves the file system included, or measure from a host with more cores."
	}
	f.Sentence = fmt.Sprintf("%s: the workers were ready and waited for a core for %s of the time, which latencies include.", share, wait)
	if wait < waitLimit {
		f.Sentence = share + ". This kernel does not tell how long they waited for a core; latencies include it."
	}
	return []Finding{f}
}

// fewInFlight compares the operations in flight, which are rate × latency
// (Little 1961), with what the load asks for. Fewer mean that this host spent
// the rest of the time on its own work.
func fewInFlight(o Observed) []Finding {
	total := o.Summary.Total
	if o.Load.Open() || o.Load.Think > 0 || o.Load.SyncEvery > 0 || total.Operations < 1000 || o.Load.Amount > 0 {
		return nil
	}
	asked := float64(o.Load.Workers * o.Load.Depth)
	found := float64(total.Rate) * float64(total.Latency.Mean)
	if math.Abs(found/asked-1) <= 0.05 || total.Operations < 20*int64(asked) {
		return nil
	}
	sentence := fmt.Sprintf("By rate and latency %.3g operations were in flight on average, where the load asks for %g: this host could not keep the volume busy.", found, asked)
	next := "Take the rate as what this host can ask for; use more workers to see what the volume can answer."
	if found > asked {
		sentence = fmt.Sprintf("By rate and latency %.3g operations were in flight on average, more than the %g of the load: the figures do not fit together.", found, asked)
		next = "Measure again for longer; long operations at the edges weigh too much here."
	}
	return []Finding{{
		Kind: "few-in-flight", Weight: Caution, Figure: "all", Sentence: sentence, Next: next,
		Evidence: []Evidence{{"rate × mean latency", found}, {"workers × depth", asked}},
	}}
}

// fellBehind compares, at a set rate, the latency from the intended start with
// the time the volume itself took: far apart means a queue in front of it that
// grows with time, so that latency says how long was measured.
func fellBehind(o Observed) []Finding {
	service, total := o.Summary.Service, o.Summary.Total
	if service == nil || total.Operations < 100 || service.Mean <= 0 || total.Latency.Mean < 3*service.Mean {
		return nil
	}
	wanted := float64(o.Load.Arriving())
	if float64(total.Rate) > 0.98*wanted {
		return nil
	}
	return []Finding{{
		Kind: "fell-behind", Weight: Caution, Figure: "all",
		Sentence: fmt.Sprintf("The volume could not keep the rate: %s of %s were done, and operations waited until their latency was %s, of which the volume itself took %s.",
			total.Rate, quantity.OpRate(wanted), total.Latency.Mean, service.Mean),
		Next:     "Lower the rate until it is kept; the latency of an overload only says how long was measured.",
		Evidence: []Evidence{{"rate", float64(total.Rate)}, {"rate asked for", wanted}, {"mean latency, seconds", float64(total.Latency.Mean)}, {"mean service time, seconds", float64(service.Mean)}},
	}}
}

// near is how close to a ceiling a rate is limited by it.
const near = 0.10

// whoLimits names what limits, when something shows: a ceiling within 10 %, a
// core of this host above 90 %, a device always busy with more in flight than
// it answers. Otherwise it says that nothing was found, never a guess.
func whoLimits(o Observed) []Finding {
	if o.Load.Open() || o.Load.Think > 0 || o.Summary.Total.Operations == 0 {
		return nil // the load itself sets the pace
	}
	var found []string
	evidence := []Evidence{}
	for _, look := range []func(Observed) (string, []Evidence){nearCeiling, busyCore, busyDevice, busyInside} {
		words, numbers := look(o)
		if words != "" {
			found = append(found, words)
		}
		evidence = append(evidence, numbers...)
	}
	if len(found) == 0 {
		return []Finding{{
			Kind: "limit-not-found", Weight: Info, Figure: "all",
			Sentence: "What limits was not found: no known ceiling is near, no core of this host and no device was always busy.",
			Next:     "Ask for more at once (depth, workers); when the rate does not rise, tell the setup more about the hops behind.",
			Evidence: evidence,
		}}
	}
	return []Finding{{
		Kind: "limited-by", Weight: Info, Figure: "all",
		Sentence: "The limit is " + strings.Join(found, ", and ") + ".",
		Next:     "To go faster, widen this first; the hop with the next ceiling limits after it.",
		Evidence: evidence,
	}}
}

func nearCeiling(o Observed) (string, []Evidence) {
	use := setup.UseOf(o.Load)
	limit := setup.Limit(o.Setup.Ceilings(use))
	if limit == nil {
		return "", nil
	}
	share := float64(o.Summary.Total.Rate) / float64(limit.Rate)
	evidence := []Evidence{{"share of the lowest ceiling", share}}
	if math.Abs(share-1) > near {
		return "", evidence
	}
	return fmt.Sprintf("the hop %q, which can pass %s (%s of it was reached)", limit.Name, use.Show(limit.Rate), quantity.Share(share)), evidence
}

// pegged is the share of time from which on something counts as always busy.
const pegged = 0.9

// busyCore looks for a core of this host without rest: the busiest of each
// interval.
func busyCore(o Observed) (string, []Evidence) {
	sum, count := 0.0, 0.0
	for _, i := range measured(o.Series) {
		count++
		busiest := 0.0
		for _, c := range i.Cores() {
			busiest = max(busiest, float64(c))
		}
		sum += busiest
	}
	if count == 0 || sum/count <= pegged {
		return "", nil
	}
	return fmt.Sprintf("a core of this host, busy for %s of the time", quantity.Share(sum/count)), []Evidence{{"busy share of the busiest core", sum / count}}
}

// busyDevice looks for a device that is always busy while more is waiting.
func busyDevice(o Observed) (string, []Evidence) {
	busy, count, name := 0.0, 0.0, ""
	for _, i := range measured(o.Series) {
		count++
		for _, d := range i.Devices() {
			if d.InFlight > 1 && d.Busy > 0.97 {
				busy++
				name = d.Name
				break
			}
		}
	}
	if count == 0 || busy/count <= pegged {
		return "", nil
	}
	return fmt.Sprintf("the device %s, always busy with operations waiting", name), []Evidence{{"share of the intervals in which " + name + " was always busy", busy / count}}
}

// busyInside looks for the busiest part of a simulated array.
func busyInside(o Observed) (string, []Evidence) {
	sums, count := map[string]float64{}, 0.0
	for _, i := range measured(o.Series) {
		count++
		for _, c := range i.Inside {
			if part, isBusy := strings.CutSuffix(c.Name, " busy"); isBusy && c.Unit == "share" {
				sums[part] += c.Value
			}
		}
	}
	busiest, share := "", pegged
	for _, part := range slices.Sorted(maps.Keys(sums)) {
		if s := sums[part] / count; s > share {
			busiest, share = part, s
		}
	}
	if busiest == "" {
		return "", nil
	}
	return fmt.Sprintf("%s of the array, busy for %s of the time", busiest, quantity.Share(share)), []Evidence{{"busy share of " + busiest, share}}
}
