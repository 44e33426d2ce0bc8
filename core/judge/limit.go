package judge

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// The limits of what limits.
const (
	near   = 0.10 // of a ceiling, within which a rate is limited by it
	pegged = 0.9  // share of time from which on something counts as always busy
	idle   = 0.7  // and below which it does not hold anything up
)

// whoLimits names what limits, from evidence: a ceiling within 10 %; the engine's own
// workers, whatever others do with the cores; a part of a simulated array or a hard
// disk that is always busy with more waiting. When nothing on the way was busy, what
// limits is how long an operation takes and how many are in flight: their number is
// rate × latency (Little 1961). Otherwise nothing was found, which is said, and never
// a guess: a drive that works on many operations at once is busy long before it is at
// its limit.
func whoLimits(o Observed) []Finding {
	if o.Load.Open() || o.Load.Think > 0 || o.Summary.Total.Operations == 0 {
		return nil // the load itself sets the pace
	}
	if o.ofSource() >= 1-near {
		return nil // which was said
	}
	var found []claim.Claim
	evidence := []Evidence{}
	for _, look := range []func(Observed) ([]claim.Claim, []Evidence){nearCeiling, busyEngine, busyDisk, busyInside} {
		said, numbers := look(o)
		found, evidence = append(found, said...), append(evidence, numbers...)
	}
	next := "To go faster, widen this first; the hop with the next lowest limit comes after it."
	if len(found) == 0 {
		said, numbers := addedLatency(o)
		found, evidence = append(found, said...), append(evidence, numbers...)
		next = "Raise depth or workers, or shorten the path."
	}
	if len(found) == 0 {
		return nothingLimits.of(everything, "Raise depth or workers. If the rate does not rise, tell the setup more about the hops behind (heron setup tell).", evidence...)
	}
	return limitIs.puts(found, everything, next, evidence...)
}

var (
	limitIs = saysBy("limited-by", Info, func(t []claim.Term) bool { return len(t) > 0 }, func(t []claim.Term) string {
		words := "The bottleneck is " + t[0].Shown
		for _, p := range t[1:] {
			between := ", and "
			if p.Of == timeGoes || p.Of == wayTakes {
				between = "; "
			}
			words += between + p.Shown
		}
		return words + "."
	})
	nothingLimits = says("limit-not-found", Info, always,
		"The bottleneck was not found: no known limit is near, and no known part was always busy.")

	hopNear = claim.Declare("limit: a hop", func(t []claim.Term) bool { // what it can pass, and the share that was reached
		return len(t) == 2 && t[0].Value > 0 && math.Abs(t[1].Value-1) <= near
	}, func(t []claim.Term) string {
		return fmt.Sprintf("the hop %s, with a limit of %s (%s of it was reached)", t[0].Of, t[0].Shown, t[1].Shown)
	})
	hopNearForLong = claim.Declare("limit: a hop for long", func(t []claim.Term) bool {
		return len(t) == 2 && t[0].Value > 0 && math.Abs(t[1].Value-1) <= near
	}, func(t []claim.Term) string {
		return fmt.Sprintf("the hop %s, with a sustained limit of %s (%s of it was reached)", t[0].Of, t[0].Shown, t[1].Shown)
	})
	engineAlone = claim.Declare("limit: the engine alone", always, func([]claim.Term) string {
		return "the engine itself, since no storage is behind it"
	})
	engineBusy = claim.Declare("limit: the engine", mostly, func(t []claim.Term) string {
		return "the engine's own workers on this host, busy for " + t[0].Shown + " of the time"
	})
	diskBusy = claim.Declare("limit: a disk", mostly, func(t []claim.Term) string {
		return "the disk " + t[0].Of + ", always busy with operations waiting"
	})
	partBusy = claim.Declare("limit: a part", mostly, func(t []claim.Term) string {
		return fmt.Sprintf("%s of the array, busy for %s of the time", t[0].Of, t[0].Shown)
	})
	partsBusy = claim.Declare("limit: parts alike", func(t []claim.Term) bool { // the busiest, and how many are like it
		return mostly(t) && t[1].Value > 1
	}, func(t []claim.Term) string {
		return fmt.Sprintf("%s parts of the array alike, such as %s, each busy for about %s of the time", t[1].Shown, t[0].Of, t[0].Shown)
	})
	timeTaken = claim.Declare("limit: how long it takes", func(t []claim.Term) bool { // in flight, latency, the busiest share
		return len(t) == 3 && t[2].Value < idle
	}, func(t []claim.Term) string {
		return fmt.Sprintf("the latency of an operation: with %s in flight at %s each the rate cannot be higher, and no part was busy for more than %s of the time", t[0].Shown, t[1].Shown, t[2].Shown)
	})
	theWay = claim.Declare(wayTakes, func(t []claim.Term) bool { return len(t) == 2 && t[0].Value <= t[1].Value }, func(t []claim.Term) string {
		return t[0].Shown + " of that is the round trip"
	})
	spends = claim.Declare(timeGoes, func(t []claim.Term) bool { // of all, and in parts, the longest first
		return len(t) > 1 && claim.All(t[1:], func(p claim.Term) bool { return p.Value <= t[0].Value*1.001 && p.Value <= t[1].Value })
	}, func(t []claim.Term) string {
		words := make([]string, len(t)-1)
		for i, p := range t[1:] {
			words[i] = p.Shown + " " + p.Of
		}
		return fmt.Sprintf("the %s take %s each, %s", t[0].Of, t[0].Shown, strings.Join(words, " and "))
	})
)

// The kinds of claim that go on with what was said before them.
const (
	timeGoes = "limit: where time goes"
	wayTakes = "limit: the way"
)

// mostly needs a part that is busy for nearly all of the time.
func mostly(t []claim.Term) bool { return len(t) > 0 && t[0].Value > pegged }

// ofTime is a share of the time as a term.
func ofTime(of string, share float64) claim.Term {
	return claim.Term{Of: of, Value: share, Shown: quantity.Share(share).String()}
}

func nearCeiling(o Observed) ([]claim.Claim, []Evidence) {
	if o.Load.Several() || len(o.Changed) > 0 { // of which no ceiling is known
		return nil, nil
	}
	use := o.use()
	hops := o.reached(o.Setup.Ceilings(use))
	limit := setup.Limit(hops)
	if limit == nil {
		return nil, nil
	}
	against := func(kind claim.Kind, name string, most quantity.OpRate) ([]claim.Claim, float64) {
		share := float64(o.Summary.Total.Rate) / float64(most)
		can := claim.Term{Of: strconv.Quote(name), Value: float64(most), Shown: use.Show(most)}
		return claim.Add(nil, kind, can, ofTime("reached", share)), share
	}
	said, share := against(hopNear, limit.Name, limit.Rate)
	if long := setup.ForLong(hops); len(said) == 0 && long != nil && long.Long < limit.Rate {
		if said, of := against(hopNearForLong, long.Name, long.Long); len(said) > 0 {
			return said, []Evidence{unsaid("share of the lowest ceiling for long", of)}
		}
	}
	return said, []Evidence{unsaid("share of the lowest ceiling", share)}
}

// reached are the hops that what was asked came to: not those behind a cache or a tier that
// answered most of it, by its own counters.
func (o Observed) reached(hops []setup.Hop) []setup.Hop {
	front, tiers := 0.0, 0.0
	for _, c := range Inside(o.Series) {
		if strings.HasSuffix(c.Name, " hit rate") {
			front = max(front, c.Value)
		}
		if c.OfTier() {
			tiers += c.Value
		}
	}
	front = max(front, tiers)
	if front*float64(o.Load.Reads) < mostlyHits {
		return hops
	}
	return slices.DeleteFunc(slices.Clone(hops), setup.Hop.Behind)
}

// engineShare is which share of their time the workers of the engine spent on the
// processor; 0 where that was not recorded.
func engineShare(load workload.Spec, sum measure.Summary) float64 {
	if load.Workers < 1 {
		return 0
	}
	return float64(sum.WorkerCPUPerOp) * float64(sum.Total.Rate) / float64(load.Workers)
}

// engineLimits reports that the engine itself can do no more, or has nothing behind it.
func engineLimits(load workload.Spec, sum measure.Summary) bool {
	return sum.Interface == "none" || engineShare(load, sum) > pegged
}

// busyEngine looks at the engine's own workers. What else the cores of the host do is
// not their limit; where it keeps them waiting, waitedForCores says so.
func busyEngine(o Observed) ([]claim.Claim, []Evidence) {
	share := engineShare(o.Load, o.Summary)
	evidence := []Evidence{unsaid("busy share of the engine's workers", share)}
	if o.Summary.Interface == "none" {
		return claim.Add(nil, engineAlone), evidence
	}
	said := claim.Add(nil, engineBusy, ofTime("workers", min(share, 1)))
	if said == nil {
		return nil, nil
	}
	return said, evidence
}

// busyDisk looks for a hard disk that is always busy while more is waiting: one arm
// serves one operation. Other drives work on many at once.
func busyDisk(o Observed) ([]claim.Claim, []Evidence) {
	kinds := o.Setup.Count("media")
	for i := range kinds {
		if o.Setup.Text(fmt.Sprintf("media[%d].kind", i)) != "hard disk" {
			return nil, nil
		}
	}
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
	if kinds == 0 || count == 0 || busy/count <= pegged {
		return nil, nil
	}
	return claim.Add(nil, diskBusy, ofTime(name, busy/count)), []Evidence{unsaid("share of the intervals in which "+name+" was always busy", busy/count)}
}

// busyInside looks for the busiest part of a simulated array.
func busyInside(o Observed) ([]claim.Claim, []Evidence) {
	of := inside(o)
	busiest, share := "", pegged
	for _, part := range slices.Sorted(maps.Keys(of)) {
		if of[part] > share {
			busiest, share = part, of[part]
		}
	}
	if busiest == "" {
		return nil, nil
	}
	alike := 0 // of its kind, and as busy
	for part, s := range of {
		if KindOfPart(part) == KindOfPart(busiest) && s > share-alikeBusy {
			alike++
		}
	}
	evidence := []Evidence{unsaid("busy share of "+busiest, share)}
	if its := ofTime(busiest, share); alike > 1 {
		return claim.Add(nil, partsBusy, its, claim.Term{Of: "alike", Value: float64(alike), Shown: strconv.Itoa(alike)}), evidence
	}
	return claim.Add(nil, partBusy, ofTime(busiest, share)), evidence
}

// alikeBusy is by how much shares of time may differ for parts to be as busy.
const alikeBusy = 0.03

// KindOfPart is the name of a part of an array without its number.
func KindOfPart(name string) string {
	return strings.Join(strings.FieldsFunc(name, func(r rune) bool { return r == ' ' || r >= '0' && r <= '9' }), " ")
}

// inside is which share of the time each part of a simulated array was busy.
func inside(o Observed) map[string]float64 {
	shares := map[string]float64{}
	for _, c := range Inside(o.Series) {
		if part, isBusy := strings.CutSuffix(c.Name, " busy"); isBusy && c.Unit == "share" {
			shares[part] = c.Value
		}
	}
	return shares
}

// addedLatency recognises a load that waits for answers while nothing on the way is
// busy: distance, or whatever else takes time without being at work. It is silent
// where nothing is known of what is busy, or the operations in flight are not those
// that the load asks for.
func addedLatency(o Observed) ([]claim.Claim, []Evidence) {
	busiest, known := 0.0, false
	for _, share := range inside(o) {
		busiest, known = max(busiest, share), true
	}
	devices := 0.0
	for _, i := range measured(o.Series) {
		for _, d := range i.Devices() {
			devices, known = max(devices, float64(d.Busy)), true
		}
	}
	busiest = max(busiest, devices, engineShare(o.Load, o.Summary))
	asked := float64(o.Load.Workers * o.Load.Depth)
	latency := float64(o.Summary.Total.Latency.Mean)
	flying := float64(o.Summary.Total.Rate) * latency
	if o.Load.Traits().OwnDepth { // which has as many in flight as its requests bring with them
		asked = math.Round(flying*10) / 10
	}
	spent := timeSpent(o) // who accounts for all the time leaves no doubt
	if !known || busiest >= idle || len(spent) == 0 && (o.Load.SyncEvery > 0 || math.Abs(flying/asked-1) > 0.1) {
		return nil, nil
	}
	terms := []claim.Term{
		{Of: "in flight", Value: asked, Shown: fmt.Sprintf("%g", asked)},
		{Of: "each", Value: latency, Shown: o.Summary.Total.Latency.Mean.String()}, ofTime("busiest", busiest),
	}
	evidence := []Evidence{unsaid("operations in flight", flying), unsaid("mean latency, seconds", latency), unsaid("busiest share on the way", busiest)}
	said := claim.Add(nil, timeTaken, terms...)
	for _, c := range spent {
		for _, t := range c.Terms[1:] {
			evidence = append(evidence, unsaid(c.Terms[0].Of+" "+t.Of+", seconds of each", t.Value))
		}
	}
	if way := distance(o); len(spent) == 0 && way > 0.3*latency {
		said = claim.Add(said, theWay, claim.Term{Of: "the way", Value: way, Shown: quantity.Seconds(way).String()}, terms[1])
		evidence = append(evidence, unsaid("time of the way, seconds", way))
	}
	return append(said, spent...), evidence
}

// timeSpent says where a simulated array lets the time of an operation go, by its own
// account of it: the two largest parts of the class that takes longest.
func timeSpent(o Observed) []claim.Claim {
	parts := map[string][]measure.Counter{}
	sums := map[string]float64{}
	for _, c := range Inside(o.Series) {
		if verb, _, is := c.Spent(); is {
			parts[verb] = append(parts[verb], c)
			sums[verb] += c.Value
		}
	}
	longest := ""
	for _, verb := range slices.Sorted(maps.Keys(sums)) {
		if longest == "" || sums[verb] > sums[longest] {
			longest = verb
		}
	}
	if longest == "" {
		return nil
	}
	list := parts[longest]
	slices.SortStableFunc(list, func(x, y measure.Counter) int { return cmp.Compare(y.Value, x.Value) })
	seconds := func(of string, v float64) claim.Term {
		return claim.Term{Of: of, Value: v, Shown: quantity.Seconds(v).String()}
	}
	terms := []claim.Term{seconds(longest, sums[longest])}
	for _, c := range list[:min(2, len(list))] {
		terms = append(terms, seconds(strings.TrimPrefix(c.Name, longest+" "), c.Value))
	}
	return claim.Add(nil, spends, terms...)
}

// fibre is the time light takes for a kilometre of glass and back.
const fibre = 2 * 4.9e-6

// distance is the time that the known ways take: the round trip of the link, and for
// writes that of a far copy that must have them first.
func distance(o Observed) float64 {
	way := float64(o.Setup.Seconds("link[0].roundTrip"))
	if o.Setup.Text("replication.mode") == "synchronous" {
		way += float64(1-o.Load.Reads) * o.Setup.Number("replication.kilometres") * fibre
	}
	return way
}
