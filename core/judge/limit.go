package judge

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

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
	var found []string
	evidence := []Evidence{}
	for _, look := range []func(Observed) (string, []Evidence){nearCeiling, busyEngine, busyDisk, busyInside} {
		words, numbers := look(o)
		if words != "" {
			found = append(found, words)
		}
		evidence = append(evidence, numbers...)
	}
	next := "To go faster, widen this first; the hop with the next ceiling limits after it."
	if len(found) == 0 {
		if words, numbers := addedLatency(o); words != "" {
			found, evidence = append(found, words), append(evidence, numbers...)
			next = "Ask for more at once (depth, workers), or shorten the way."
		}
	}
	if len(found) == 0 {
		return []Finding{{
			Kind: "limit-not-found", Weight: Info, Figure: "all",
			Sentence: "What limits was not found: no known ceiling is near, and nothing that is known to hold operations up was always busy.",
			Next:     "Ask for more at once (depth, workers); when the rate does not rise, tell the setup more about the hops behind.",
			Evidence: evidence,
		}}
	}
	return []Finding{{
		Kind: "limited-by", Weight: Info, Figure: "all",
		Sentence: "The limit is " + strings.Join(found, ", and ") + ".",
		Next:     next,
		Evidence: evidence,
	}}
}

func nearCeiling(o Observed) (string, []Evidence) {
	if o.Load.Kind == workload.TogetherKind || len(o.Changed) > 0 { // of which no ceiling is known
		return "", nil
	}
	use := o.use()
	limit := setup.Limit(o.reached(o.Setup.Ceilings(use)))
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

// reached are the hops that what was asked came to: not those behind a cache or a tier that
// answered most of it, by its own counters.
func (o Observed) reached(hops []setup.Hop) []setup.Hop {
	front := 0.0
	for _, c := range Inside(o.Series) {
		if strings.HasSuffix(c.Name, " hit rate") || c.Name == "tier answered" {
			front = max(front, c.Value)
		}
	}
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
func busyEngine(o Observed) (string, []Evidence) {
	share := engineShare(o.Load, o.Summary)
	if o.Summary.Interface == "none" {
		return "the engine itself, since nothing stands behind it", []Evidence{{"busy share of the engine's workers", share}}
	}
	if share <= pegged {
		return "", nil
	}
	return fmt.Sprintf("the engine's own workers on this host, busy for %s of the time", quantity.Share(min(share, 1))), []Evidence{{"busy share of the engine's workers", share}}
}

// busyDisk looks for a hard disk that is always busy while more is waiting: one arm
// serves one operation. Other drives work on many at once.
func busyDisk(o Observed) (string, []Evidence) {
	kinds := o.Setup.Count("media")
	for i := range kinds {
		if o.Setup.Text(fmt.Sprintf("media[%d].kind", i)) != "hard disk" {
			return "", nil
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
		return "", nil
	}
	return fmt.Sprintf("the disk %s, always busy with operations waiting", name), []Evidence{{"share of the intervals in which " + name + " was always busy", busy / count}}
}

// busyInside looks for the busiest part of a simulated array.
func busyInside(o Observed) (string, []Evidence) {
	of := inside(o)
	busiest, share := "", pegged
	for _, part := range slices.Sorted(maps.Keys(of)) {
		if of[part] > share {
			busiest, share = part, of[part]
		}
	}
	if busiest == "" {
		return "", nil
	}
	alike := 0 // of its kind, and as busy
	for part, s := range of {
		if KindOfPart(part) == KindOfPart(busiest) && s > share-alikeBusy {
			alike++
		}
	}
	evidence := []Evidence{{"busy share of " + busiest, share}}
	if alike > 1 {
		return fmt.Sprintf("%d parts of the array alike, such as %s, each busy for about %s of the time", alike, busiest, quantity.Share(share)), evidence
	}
	return fmt.Sprintf("%s of the array, busy for %s of the time", busiest, quantity.Share(share)), evidence
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
func addedLatency(o Observed) (string, []Evidence) {
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
	if o.Load.Kind == workload.StoresKind || o.Load.Kind == workload.TogetherKind { // which has as many in flight as its requests bring with them
		asked = math.Round(flying*10) / 10
	}
	spent, parts := timeSpent(o) // who accounts for all the time leaves no doubt
	if !known || busiest >= idle || spent == "" && (o.Load.SyncEvery > 0 || math.Abs(flying/asked-1) > 0.1) {
		return "", nil
	}
	words := fmt.Sprintf("how long an operation takes: with %g in flight and %s each no more are done, and nothing on the way was busy for more than %s of the time", asked, o.Summary.Total.Latency.Mean, quantity.Share(busiest))
	evidence := []Evidence{{"operations in flight", flying}, {"mean latency, seconds", latency}, {"busiest share on the way", busiest}}
	if spent != "" {
		words += "; " + spent
		evidence = append(evidence, parts...)
	} else if way := distance(o); way > 0.3*latency {
		words += fmt.Sprintf("; %s of that is the way there and back", quantity.Seconds(way))
		evidence = append(evidence, Evidence{"time of the way, seconds", way})
	}
	return words, evidence
}

// timeSpent says where a simulated array lets the time of an operation go, by its own
// account of it: the two largest parts of the class that takes longest.
func timeSpent(o Observed) (string, []Evidence) {
	parts := map[string][]measure.Counter{}
	sums := map[string]float64{}
	for _, c := range Inside(o.Series) {
		if verb, _, found := strings.Cut(c.Name, " "); found && c.Unit == "seconds" {
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
		return "", nil
	}
	list := parts[longest]
	slices.SortStableFunc(list, func(x, y measure.Counter) int { return cmp.Compare(y.Value, x.Value) })
	var words []string
	var evidence []Evidence
	for _, c := range list[:min(2, len(list))] {
		words = append(words, fmt.Sprintf("%s %s", quantity.Seconds(c.Value), strings.TrimPrefix(c.Name, longest+" ")))
		evidence = append(evidence, Evidence{c.Name + ", seconds of each", c.Value})
	}
	return fmt.Sprintf("of %s each of the %s spends %s", quantity.Seconds(sums[longest]), longest, strings.Join(words, " and ")), evidence
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
