package race

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"gonum.org/v1/gonum/floats"
	"gonum.org/v1/gonum/stat"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/statistics"
)

// Setback is a stretch in which a racer did less than it had done before.
type Setback struct {
	At    quantity.Seconds `json:"atSeconds" doc:"Since the start"`
	Until quantity.Seconds `json:"untilSeconds,omitempty" doc:"When it was back; absent when it was not"`
	From  float64          `json:"from" doc:"Bytes or files a second before"`
	To    float64          `json:"to" doc:"And then"`
	Why   string           `json:"why,omitempty" doc:"What changed with it; absent where nothing is known that did"`
	Words string           `json:"words"`
}

// Moment is something that was marked or injected while a racer raced.
type Moment struct {
	At   quantity.Seconds
	Name string
}

// The limits of a fall: the share of its rate that has to be missing, by more than chance
// counts operations, and how many are told of a racer, those that cost most.
const (
	fallen    = 0.1
	mostFalls = 5
)

// falls finds where a racer fell back: at the levels that its phases tell, and in pauses, which
// are no phases. A pause is a stretch at less than half of what is usual, in which so few
// operations have a chance of one in a million at the usual rate.
func falls(r Racer, counts string) (all []Setback) {
	rates := make([]float64, len(r.Series))
	operations := make([]float64, len(r.Series))
	for i, of := range r.Series {
		flow := of.Moved()
		amount := float64(flow.Bytes)
		operations[i] = float64(flow.Operations)
		if counts == "files" {
			amount = float64(of.Classes[measure.File].Operations)
			operations[i] = amount
		}
		if of.Length > 0 {
			rates[i] = amount / float64(of.Length)
		}
	}
	mean := func(from, to int) float64 { return stat.Mean(rates[from:to], nil) }
	cuts := r.cuts()
	for n, cut := range cuts {
		// Pauses within a level.
		for i := cut.from; i < cut.to; {
			usual := median(rates[cut.from:cut.to])
			j := i
			for j < cut.to && rates[j] < usual/2 {
				j++
			}
			if j == i {
				i++
				continue
			}
			if expected := median(operations[cut.from:cut.to]) * float64(j-i); i > cut.from && expected > 0 && statistics.PoissonBelow(floats.Sum(operations[i:j]), expected) < 1e-6 {
				f := Setback{At: r.Series[i].Start, From: usual, To: mean(i, j)}
				if j < cut.to {
					f.Until = r.Series[j].Start
				}
				f.Why = r.why(i, j)
				all = append(all, f)
			}
			i = j
		}
		if n == 0 {
			continue
		}
		before, now := mean(cuts[n-1].from, cuts[n-1].to), mean(cut.from, cut.to)
		if now > before*(1-fallen) || before <= 0 {
			continue
		}
		f := Setback{At: r.Series[cut.from].Start, From: before, To: now, Why: r.why(cut.from, cut.to)}
		if n+1 < len(cuts) && mean(cuts[n+1].from, cuts[n+1].to) >= before*(1-fallen) {
			f.Until = r.Series[cuts[n+1].from].Start
		}
		all = append(all, f)
	}
	end := r.Series[len(r.Series)-1]
	cost := func(f Setback) float64 {
		until := f.Until
		if until == 0 {
			until = end.Start + end.Length
		}
		return float64(until-f.At) * (f.From - f.To)
	}
	slices.SortStableFunc(all, func(a, b Setback) int { return cmp.Compare(cost(b), cost(a)) })
	all = all[:min(len(all), mostFalls)]
	slices.SortStableFunc(all, func(a, b Setback) int { return cmp.Compare(a.At, b.At) })
	for i := range all {
		all[i].Words = all[i].inWords(r.Name, counts)
	}
	return all
}

// stretch is from one interval to another, which is not in it.
type stretch struct{ from, to int }

// cuts are the stretches of a series that its phases are; all of it after the warm-up where no
// phases are told.
func (r Racer) cuts() (cuts []stretch) {
	place := func(at quantity.Seconds) int {
		i := slices.IndexFunc(r.Series, func(i measure.Interval) bool { return i.Start+i.Length/2 >= at })
		if i < 0 {
			return len(r.Series)
		}
		return i
	}
	if r.Phases != nil {
		for _, p := range r.Phases.List {
			if s := (stretch{place(p.Start), place(p.Start + p.Length)}); s.to > s.from {
				cuts = append(cuts, s)
			}
		}
	}
	if len(cuts) == 0 {
		cuts = []stretch{{place(r.Load.WarmUp), len(r.Series)}}
	}
	return cuts
}

// around is how many intervals on either side tell what changed.
const around = 10

// why says what changed when a racer fell back: what was marked then, parts that became busy,
// caches that answer less or are full, cores of the host that became busy.
func (r Racer) why(from, to int) string {
	at := r.Series[from].Start
	var words []string
	for _, m := range r.Moments {
		if near := 2 * r.Series[from].Length; m.At >= at-near && m.At <= at+near {
			words = append(words, fmt.Sprintf("%q was then", m.Name))
		}
	}
	if r.Look != nil {
		before, during := r.Look(max(from-around, 0), from), r.Look(from, min(from+around, to))
		words = append(words, changed(before, during)...)
	}
	return strings.Join(words, "; ")
}

// The limits of what changed: by how much a share has to, and from which on a part is busy.
const (
	changedBy = 0.1
	busyFrom  = 0.9
	grows     = 0.02 // and by how much what fills has to
)

// changed says which parts became busy, which caches answer less, and which are full.
func changed(before, during []measure.Interval) (words []string) {
	was, is := levels(before), levels(during)
	for _, name := range is.order {
		b, d := was.of[name], is.of[name]
		if b == nil {
			continue
		}
		switch {
		case d.unit == "share" && strings.HasSuffix(name, " busy") && d.mean() >= busyFrom && d.mean() > b.mean()+changedBy,
			d.unit == "share" && (strings.HasSuffix(name, " hit rate") || strings.HasSuffix(name, " answered")) && d.mean() < b.mean()-changedBy:
			words = append(words, fmt.Sprintf("%s went from %s to %s", name, quantity.Share(b.mean()), quantity.Share(d.mean())))
		case (strings.HasSuffix(name, " in use") || strings.HasSuffix(name, " dirty")) && d.last > 0 && b.last > b.first*(1+grows) && d.last <= d.first*(1+grows):
			full := quantity.Share(d.last).String()
			if d.unit == "bytes" {
				full = quantity.Bytes(d.last).String()
			}
			words = append(words, fmt.Sprintf("%s stopped growing at %s", name, full))
		}
	}
	const most = 3
	if len(words) > most {
		words = append(words[:most], fmt.Sprintf("%d more changed", len(words)-most))
	}
	return words
}

// shown is one share or size over some intervals.
type shown struct {
	unit        string
	sum, count  float64
	first, last float64
}

func (l shown) mean() float64 { return l.sum / l.count }

type told struct {
	order []string
	of    map[string]*shown
}

// levels are the shares and sizes that are told of some intervals: of the inside of the volume,
// of the devices behind it, and of the cores of the hosts.
func levels(series []measure.Interval) told {
	t := told{of: map[string]*shown{}}
	add := func(name, unit string, value float64) {
		l := t.of[name]
		if l == nil {
			l = &shown{unit: unit, first: value}
			t.of[name] = l
			t.order = append(t.order, name)
		}
		l.sum, l.count, l.last = l.sum+value, l.count+1, value
	}
	for _, i := range series {
		for _, c := range i.Inside {
			add(c.Name, c.Unit, c.Value)
		}
		for _, d := range i.Devices() {
			add("device "+d.Name+" busy", "share", float64(d.Busy))
		}
		for n, core := range i.Cores() {
			add(fmt.Sprintf("core %d busy", n), "share", float64(core))
		}
	}
	return t
}

// median is the middle of values.
func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return stat.Quantile(0.5, stat.Empirical, sorted, nil)
}

// inWords says when a racer fell back, by how much, for how long and why.
func (f Setback) inWords(name, counts string) string {
	show := func(v float64) string {
		if counts == "files" {
			return quantity.FileRate(v).String()
		}
		return quantity.ByteRate(v).String()
	}
	words := fmt.Sprintf("%s fell back at %s, from %s to %s", name, f.At, show(f.From), show(f.To))
	if f.Until > 0 {
		words += fmt.Sprintf(", and was back %s later", f.Until-f.At)
	}
	if f.Why == "" {
		return words
	}
	return words + " (" + f.Why + ")"
}
