package judge

import (
	"fmt"
	"math"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/statistics"
	"patientheron/core/workload"
)

// phases says how the rate went: that it fell, that it never stood still, or that
// this cannot be told. A load that is to move a fixed amount is measured over all of
// it, whatever happens on the way.
func phases(o Observed) []Finding {
	p := o.Summary.Phases
	if p == nil || len(p.List) == 0 || o.Load.Uneven() {
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
		fell := fmt.Sprintf("The throughput fell from %s to %s", f.From, f.To)
		if o.Load.Open() {
			fell = fmt.Sprintf("The mean latency rose to %s", p.Last().Mean)
		}
		findings = append(findings, Finding{
			Kind: "fell", Weight: Info, Figure: "all",
			Sentence: fmt.Sprintf("%s after %s and %s. %s", fell, f.After, f.Bytes, counts),
			Next:     "A use that comes in bursts smaller than that may count on the first figure, every other on the last.",
			Evidence: evidence,
		})
	}
	switch {
	case o.Load.Amount > 0 || o.Load.Passes > 0 || o.Load.Kind == workload.FeedsKind || p.Standing == measure.Settled:
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
	if s == nil || s.Intervals < 5 || s.WorstShare >= 0.5 || o.Load.Uneven() {
		return nil
	}
	usual := 0.0
	if s.WorstShare > 0 {
		usual = float64(s.Worst) / float64(s.WorstShare) * float64(s.Interval)
	} else {
		usual = float64(o.Summary.Total.Rate) * float64(s.Interval)
	}
	if usual <= 0 || statistics.PoissonBelow(float64(s.Worst)*float64(s.Interval), usual)*float64(s.Intervals) > 0.01 {
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
		own, others := besideWorkers(o.Series)
		f.Evidence = append(f.Evidence, Evidence{"cores that this service used beside its workers", own}, Evidence{"cores that others used", others})
		share = fmt.Sprintf("Others used %s of the %d cores of this host", quantity.Digits(others), cores)
		f.Next = "See what else runs here, what serves the file system included, or measure from a host with more cores."
		if own >= ownWork {
			share += fmt.Sprintf(", and this service itself %s beside its workers", quantity.Digits(own))
		}
		if own > others {
			share = fmt.Sprintf("This service itself used %s of the %d cores of this host beside its workers", quantity.Digits(own), cores)
			f.Next = "Read results, export and compare when the measurement is over, or measure with a client on another host."
		}
	}
	f.Sentence = fmt.Sprintf("%s: the workers were ready and waited for a core for %s of the time, which latencies include.", share, wait)
	if wait < waitLimit {
		f.Sentence = share + ". This kernel does not tell how long they waited for a core; latencies include it."
	}
	return []Finding{f}
}

// ownWork is how many cores' worth of time the service has to use beside its workers to be named.
const ownWork = 0.1

// besideWorkers is how many cores' worth of time the service used beside its workers, for what it
// keeps, answers and works out, and how many all others on its hosts did.
func besideWorkers(series []measure.Interval) (own, others float64) {
	length := 0.0
	for _, i := range measured(series) {
		for _, b := range i.Beside {
			busy := 0.0
			for _, core := range b.CPU {
				busy += float64(core)
			}
			own += float64(i.Length) * max(b.EngineCores-b.WorkerCores, 0)
			others += float64(i.Length) * max(busy-b.EngineCores, 0)
		}
		length += float64(i.Length)
	}
	if length == 0 {
		return 0, 0
	}
	return own / length, others / length
}

// fewInFlight compares the operations in flight, which are rate × latency
// (Little 1961), with what the load asks for. Fewer mean that this host spent
// the rest of the time on its own work.
func fewInFlight(o Observed) []Finding {
	total := o.Summary.Total
	if o.Load.Open() || o.Load.Think > 0 || total.Operations < 1000 || o.Load.Amount > 0 || o.ownSteps() {
		return nil
	}
	asked := float64(o.Load.Workers * o.Load.Depth)
	found := float64(total.Rate) * float64(total.Latency.Mean)
	for class, figures := range o.Summary.Classes { // what moves nothing is in flight as well
		if class == measure.File { // which is made up of the others
			continue
		}
		if !class.Moves() {
			found += float64(figures.Rate) * float64(figures.Latency.Mean)
		}
	}
	if math.Abs(found/asked-1) <= 0.05 || total.Operations < 20*int64(asked) {
		return nil
	}
	if o.Summary.Interface == "simulated" { // no host spends any time
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

// lateFeeds says whether the pieces of feeds came before they were needed.
func lateFeeds(o Observed) []Finding {
	f := o.Summary.Feeds
	if f == nil || f.Pieces == 0 {
		return nil
	}
	evidence := []Evidence{{"pieces", float64(f.Pieces)}, {"late pieces", float64(f.Late)}, {"seconds before it was needed that the tightest piece was there", float64(f.Tightest)}}
	if f.Late == 0 && o.Load.Feeds != nil && f.Behind > o.Load.Feeds.Buffer*mostBehind {
		return []Finding{{
			Kind: "feeds-behind", Weight: Caution, Figure: "all",
			Sentence: fmt.Sprintf("No piece came late yet, but at the end %s of what had been asked for was missing, and the buffer lasts %s: it is not kept.", f.Behind, o.Load.Feeds.Buffer),
			Next:     "Let it go on for longer to see it, or use fewer feeds.",
			Evidence: append(evidence, Evidence{"seconds behind at the end", float64(f.Behind)}),
		}}
	}
	if f.Late == 0 {
		return []Finding{{
			Kind: "feeds-kept", Weight: Info, Figure: "all",
			Sentence: fmt.Sprintf("All %d pieces were there before they were needed, half of them %s before, the tightest %s.", f.Pieces, f.Usual, f.Tightest),
			Next:     "Let it go on for as long as the feeds do: a cache or a fast region carries them for a while.",
			Evidence: evidence,
		}}
	}
	return []Finding{{
		Kind: "late-pieces", Weight: Caution, Figure: "all",
		Sentence: fmt.Sprintf("%d of %d pieces (%s) came after they were needed, the worst %s; the longest time that a feed stood still was %s.", f.Late, f.Pieces, f.LateShare, f.WorstLate, f.LongestStall),
		Next:     "Fewer feeds, a lower rate of each, or a larger buffer where the lateness passes by.",
		Evidence: evidence,
	}}
}

// fellBehind says that a set rate was not kept: fewer operations were done than
// arrived, by more than chance spaces them. A queue then grows in front, so that the
// latency, which counts from the intended start, says how long was measured. It is the
// engine's own fault where its workers had no time left, or nothing stands behind it.
func fellBehind(o Observed) []Finding {
	total, wanted := o.Summary.Total, float64(o.Load.Arriving())
	if _, kept := kept(o.Load, o.Summary); kept {
		return nil
	}
	evidence := []Evidence{{"rate", float64(total.Rate)}, {"rate asked for", wanted}, {"mean latency, seconds", float64(total.Latency.Mean)}}
	waited := ""
	if service := o.Summary.Service; service != nil {
		evidence = append(evidence, Evidence{"mean service time, seconds", float64(service.Mean)})
		waited = fmt.Sprintf(", of which the volume itself took %s", service.Mean)
	}
	who, next := "The volume could not keep the rate", "Lower the rate until it is kept; the latency of an overload only says how long was measured."
	if engineLimits(o.Load, o.Summary) {
		who, next = "The engine could not keep the rate", "Use more workers, or a host with faster cores: the volume was not asked for more."
	}
	return []Finding{{
		Kind: "fell-behind", Weight: Caution, Figure: "all",
		Sentence: fmt.Sprintf("%s: %s of %s were done, and operations waited until their latency was %s%s.", who, total.Rate, quantity.OpRate(wanted), total.Latency.Mean, waited),
		Next:     next,
		Evidence: evidence,
	}}
}
