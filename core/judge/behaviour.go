package judge

import (
	"fmt"
	"math"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/statistics"
)

var (
	throughputFell = says("fell", Info, func(t []claim.Term) bool { return t[1].Value < t[0].Value },
		"The throughput fell from %s to %s after %s and %s. %s")
	latencyRose = says("fell: at a set rate", Info, func(t []claim.Term) bool { return t[1].Value > t[0].Value },
		"The mean latency rose from %s to %s after %s and %s. %s")
	neverSettled    = says("never-settled", Caution, always, "Steady state was not reached: %s")
	settlingUnknown = says("settling-not-known", Info, always, "Steady state is not shown: %s")
	slowIntervals   = says("unsteady", Caution, func(t []claim.Term) bool { return t[3].Value < 0.5 && t[4].Value <= t[0].Value },
		"The slowest of %s intervals of %s reached %s, %s of the median; %s were below half of it.")
	stolen        = says("stolen-time", Caution, atLeast(stolenLimit), "A hypervisor gave %s of this host's CPU time to others during the measurement.")
	waitedForCore = saysBy("waited-for-cores", Caution, func(t []claim.Term) bool { return t[2].Value > 0 }, waitedWords)
	fewFlew       = says("few-in-flight", Caution, func(t []claim.Term) bool { return t[0].Value < t[1].Value },
		"On average %s operations were in flight (rate × latency), and the load asks for %s: this host could not keep the volume busy.")
	manyFlew = says("few-in-flight: too many", Caution, func(t []claim.Term) bool { return t[0].Value > t[1].Value },
		"On average %s operations were in flight (rate × latency), more than the %s of the load: the figures contradict each other.")
	latePieces = says("late-pieces", Caution, func(t []claim.Term) bool { return t[0].Value > 0 && t[0].Value <= t[1].Value },
		"%s of %s pieces (%s) missed their deadline, the worst by %s. The longest stall of a stream was %s.")
	feedsBehind = says("feeds-behind", Caution, func(t []claim.Term) bool { return t[0].Value > mostBehind*t[1].Value },
		"No piece missed its deadline yet, but at the end the storage was %s behind, and the buffer holds %s: the rate is not sustained.")
	feedsKept = says("feeds-kept", Info, func(t []claim.Term) bool { return t[0].Value > 0 && t[2].Value >= 0 && t[2].Value <= t[1].Value },
		"All %s pieces met their deadline: half of them %s early, the closest %s early.")
	fellShort       = says("fell-behind", Caution, lessThanAsked, "%s: %s of %s were completed. Operations queued until their latency reached %s.")
	fellShortServed = says("fell-behind: and served", Caution, func(t []claim.Term) bool { return lessThanAsked(t) && t[4].Value <= t[3].Value },
		"%s: %s of %s were completed. Operations queued until their latency reached %s, of which the volume itself took %s.")
)

// lessThanAsked needs who, what was done, and what was asked for.
func lessThanAsked(t []claim.Term) bool { return t[1].Value < t[2].Value }

// phases says how the rate went: that it fell, that it never stood still, or that
// this cannot be told. A load that is to move a fixed amount is measured over all of
// it, whatever happens on the way.
func phases(o Observed) []Finding {
	p := o.Summary.Phases
	if p == nil || len(p.List) == 0 || o.Load.Traits().Uneven {
		return nil
	}
	var findings []Finding
	if f := p.Fall; f != nil {
		findings = append(findings, fallOf(o, *f)...)
	}
	words := named("how it went", p.Words)
	switch {
	case o.Load.Amount > 0 || o.Load.Passes > 0 || o.Load.Deadlines() || p.State == measure.Steady:
	case p.State == measure.NotSteady:
		evidence := []Evidence{words}
		if d := p.Drift; d != nil {
			evidence = append(evidence, unsaid("drift over the last phase, as a share of its mean", d.Share))
		}
		findings = append(findings, neverSettled.of(everything, "Precondition the volume to its state of use, then measure longer or with --steady.", evidence...)...)
	default:
		findings = append(findings, settlingUnknown.of(everything, "Measure longer; --steady waits until that is known.", words)...)
	}
	return findings
}

// fallOf says from what to what it fell: of a set rate by how fast it was answered, of every
// other by its throughput.
func fallOf(o Observed, f measure.Fall) []Finding {
	p, said := o.Summary.Phases, throughputFell
	from, to := number("bytes per second before", f.From), number("bytes per second after", f.To)
	if o.Load.Open() {
		before := p.List[0]
		for _, b := range p.List {
			if b.Start < f.After && b.Kind == measure.Burst {
				before = b
			}
		}
		said, from, to = latencyRose, number("mean latency before, seconds", before.Mean), number("mean latency after, seconds", p.Last().Mean)
	}
	counts := "The figures are those of what came last."
	if p.Cut == 0 {
		counts = "The figures mix both."
	}
	return said.of(everything, "Plan with the first figure only for bursts smaller than that, and with the last for everything else.",
		from, to, number("seconds until it fell", f.After), number("bytes until it fell", f.Bytes), named("what counts", counts))
}

// unsteady says that some intervals were far below the rest, further than chance
// puts whole numbers of operations.
func unsteady(o Observed) []Finding {
	s := o.Summary.Steadiness
	if s == nil || s.Intervals < 5 || s.WorstShare >= 0.5 || o.Load.Traits().Uneven {
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
	return slowIntervals.of(everything, "Look at the time series for the cause. For a use with deadlines the worst seconds count, not the mean.",
		counted("intervals", s.Intervals), number("length of each, seconds", s.Interval), number("worst, operations a second", s.Worst), number("worst over median", s.WorstShare),
		counted("intervals below half the median", s.Slow), unsaid("coefficient of variation", s.Variation))
}

// stolenLimit is the share of CPU time from which on others on the same
// hardware distort what this host measures.
const stolenLimit = 0.02

// stolenTime says that a hypervisor gave CPU time of this host to others
// (proc_stat(5)): a rate can be too low by about that share, and differs from
// run to run.
func stolenTime(o Observed) []Finding {
	return stolen.of(everything, "Measure when the hardware is quieter, or from a dedicated host. Comparisons allow for that share.",
		number("stolen share of CPU time", o.Summary.Stolen))
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
	own, others := besideWorkers(o.Series)
	evidence := []Evidence{
		unsaid("share of the workers' time waited for a core", wait), unsaid("workers", workers), unsaid("cores", cores),
		unsaid("cores that this service used beside its workers", own), unsaid("cores that others used", others),
	}
	next := "See what else runs here, what serves the file system included, or measure from a host with more cores."
	switch {
	case workers > cores:
		next = "Use fewer workers with a greater depth for as many operations in flight, or measure from a host with more cores that do nothing else."
	case own > others:
		next = "Read results, export and compare when the measurement is over, or measure with a client on another host."
	}
	return waitedForCore.of(everything, next, evidence...)
}

// waitedWords say who used the cores, of as many of them as there are, and for how long workers
// waited for one, where that is known.
func waitedWords(t []claim.Term) string {
	wait, workers, cores, own, others := t[0].Value, t[1].Value, t[2].Value, t[3].Value, t[4].Value
	who := fmt.Sprintf("%g workers share %g cores", workers, cores)
	switch {
	case workers > cores:
	case own > others:
		who = fmt.Sprintf("This service itself used %s of the %g cores of this host beside its workers", quantity.Digits(own), cores)
	default:
		who = fmt.Sprintf("Others used %s of the %g cores of this host", quantity.Digits(others), cores)
		if own >= ownWork {
			who += fmt.Sprintf(", and this service itself %s beside its workers", quantity.Digits(own))
		}
	}
	if wait < waitLimit {
		return who + ". How long they waited for a core is not known on this kernel; latencies include it."
	}
	return fmt.Sprintf("%s: the workers were ready and waited for a core for %s of the time, which latencies include.", who, quantity.Share(wait))
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
	if o.Load.Open() || o.Load.Think > 0 || total.Operations < 1000 || o.Load.Amount > 0 || o.Load.Traits().OwnSizes {
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
	said, next := fewFlew, "Take the rate as what this host can ask for; use more workers to see what the volume can answer."
	if found > asked {
		said, next = manyFlew, "Measure again for longer; long operations at the edges weigh too much here."
	}
	return said.of(everything, next, Evidence{"rate × mean latency", found, fmt.Sprintf("%.3g", found)}, Evidence{"workers × depth", asked, fmt.Sprintf("%g", asked)})
}

// lateFeeds says whether the pieces of feeds came before they were needed.
func lateFeeds(o Observed) []Finding {
	f := o.Summary.Feeds
	if f == nil || f.Pieces == 0 {
		return nil
	}
	pieces := counted("pieces", f.Pieces)
	switch {
	case f.Late > 0:
		return latePieces.of(everything, "Use fewer streams or a lower rate; a larger buffer helps if the delay is temporary.",
			counted("late pieces", f.Late), pieces, number("share that was late", f.LateShare), number("worst lateness, seconds", f.WorstLate), number("longest time that a feed stood still, seconds", f.LongestStall))
	case o.Load.Deadlines() && f.Behind > o.Load.Traits().Streams.Buffer*mostBehind:
		return feedsBehind.of(everything, "Measure longer to see the misses, or use fewer streams.",
			number("seconds behind at the end", f.Behind), number("buffer, seconds", o.Load.Traits().Streams.Buffer))
	}
	return feedsKept.of(everything, "Measure for as long as the streams will run: a cache or a fast region can carry them for a while.",
		pieces, number("seconds before it was needed that half of them were there", max(f.Usual, f.Tightest)), number("seconds before it was needed that the tightest piece was there", f.Tightest))
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
	who, next := "The volume could not keep the rate", "Lower the rate until it is kept; the latency of an overload only says how long was measured."
	if engineLimits(o.Load, o.Summary) {
		who, next = "The engine could not keep the rate", "Use more workers, or a host with faster cores: the volume was not asked for more."
	}
	evidence := []Evidence{named("who", who), number("rate", total.Rate), number("rate asked for", quantity.OpRate(wanted)), number("mean latency, seconds", total.Latency.Mean)}
	if service := o.Summary.Service; service != nil && service.Mean <= total.Latency.Mean {
		return fellShortServed.of(everything, next, append(evidence, number("mean service time, seconds", service.Mean))...)
	}
	return fellShort.of(everything, next, evidence...)
}
