// Package figure names the numbers of a measurement that can be compared, bounded and
// gated: each with its key, its unit, which way is better, and how it is said.
package figure

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// ErrInvalid is wrapped by errors about a figure that there is not.
var ErrInvalid = errors.New("impossible figure")

// Figure is one number of a measurement that can be compared.
type Figure struct {
	Key   string        `json:"key"`
	Label string        `json:"label"`
	Unit  string        `json:"unit" enum:"bytes per second,per second,files per second,requests per second,seconds,bytes,share,times"`
	Lower bool          `json:"lower" doc:"Less is better"`
	Side  string        `json:"-"` // class of operation it is about; all that move bytes when empty
	None  string        `json:"-"` // why a measurement may have none
	Spare bool          `json:"-"` // having none is as good as can be: nothing of it happened
	Waits bool          `json:"-"` // it counts the time in which an operation waits for its turn, so that an overload has none
	Rare  bool          `json:"-"` // most volumes cannot tell it: it is left out where nobody does
	of    workload.Kind // of load that has it; all kinds when empty

	// Value reads it from a summary; NaN when it has none.
	Value func(*measure.Summary) float64 `json:"-"`
}

// Show prints a value of f for people.
func (f Figure) Show(value float64) string {
	switch f.Unit {
	case "bytes per second":
		return quantity.ByteRate(value).String()
	case "per second":
		return quantity.OpRate(value).String()
	case "files per second":
		return quantity.FileRate(value).String()
	case "requests per second":
		return quantity.RequestRate(value).String()
	case "times":
		return quantity.Digits(value) + " times"
	case "bytes":
		return quantity.Bytes(value).String()
	case "share":
		return quantity.Share(value).String()
	}
	return quantity.Seconds(value).String()
}

// InWords says what a ratio of f to its baseline means: "throughput 18 %
// higher", "IOPS doubled", "p99 latency 63 % longer".
func (f Figure) InWords(ratio float64) string {
	more, less, much := "higher", "lower", "high"
	switch f.Unit {
	case "seconds":
		more, less, much = "longer", "shorter", "long"
	case "bytes", "times":
		more, less, much = "more", "less", "much"
	}
	words := "not known"
	switch {
	case !(ratio > 0) || math.IsInf(ratio, 0):
	case math.Abs(ratio-1) < 0.0005:
		words = "unchanged"
	case ratio >= 1.95 && ratio <= 2.05:
		words = "doubled"
	case ratio >= 1.8:
		words = quantity.Digits(ratio) + " times as " + much
	case ratio >= 1:
		words = quantity.Digits((ratio-1)*100) + " % " + more
	case ratio >= 1/2.05 && ratio <= 1/1.95:
		words = "halved"
	case ratio < 0.1:
		words = quantity.Digits(1/ratio) + " times " + less
	default:
		words = quantity.Digits((1-ratio)*100) + " % " + less
	}
	return f.Label + " " + words
}

// latencies are the figures of a latency distribution.
var latencies = []struct {
	key string
	of  func(measure.Latency) quantity.Seconds
}{
	{"mean", func(l measure.Latency) quantity.Seconds { return l.Mean }},
	{"p50", func(l measure.Latency) quantity.Seconds { return l.P50 }},
	{"p90", func(l measure.Latency) quantity.Seconds { return l.P90 }},
	{"p95", func(l measure.Latency) quantity.Seconds { return l.P95 }},
	{"p99", func(l measure.Latency) quantity.Seconds { return l.P99 }},
	{"p99.9", func(l measure.Latency) quantity.Seconds { return l.P999 }},
	{"p99.99", func(l measure.Latency) quantity.Seconds { return l.P9999 }},
}

// phased are the figures of the phases of a measurement.
var phased = []Figure{
	{Key: "start", Label: "throughput at the start", Unit: "bytes per second", None: "its phases were not told", Value: func(s *measure.Summary) float64 {
		if first := s.Phases.First(); first != nil {
			return float64(first.Throughput)
		}
		return math.NaN()
	}},
	{Key: "sustained", Label: "sustained throughput", Unit: "bytes per second", None: "no rate is known to have lasted", Value: func(s *measure.Summary) float64 {
		if last := s.Phases.Last(); last != nil && last.Kind == measure.Sustained {
			return float64(last.Throughput)
		}
		return math.NaN()
	}},
	{Key: "until-fall", Label: "time until it fell", Unit: "seconds", None: "it did not fall", Value: func(s *measure.Summary) float64 {
		if s.Phases != nil && s.Phases.Fall != nil {
			return float64(s.Phases.Fall.After)
		}
		return math.NaN()
	}},
	{Key: "bytes-until-fall", Label: "bytes until it fell", Unit: "bytes", None: "it did not fall", Value: func(s *measure.Summary) float64 {
		if s.Phases != nil && s.Phases.Fall != nil {
			return float64(s.Phases.Fall.Bytes)
		}
		return math.NaN()
	}},
}

// OfPhases reports whether a figure is about the phases of a measurement, which are
// worth a line where there is more than one.
func (f Figure) OfPhases() bool {
	return slices.ContainsFunc(phased, func(p Figure) bool { return p.Key == f.Key })
}

// figures are all that can be compared, in the order in which they are shown.
var figures = func() []Figure {
	all := []Figure{
		{Key: "throughput", Label: "throughput", Unit: "bytes per second", Value: func(s *measure.Summary) float64 { return float64(s.Total.Throughput) }},
		{Key: "placed", Label: "brought into place", Unit: "bytes per second", None: "nothing was written, zeroed or copied", Value: func(s *measure.Summary) float64 {
			bytes := quantity.Bytes(0)
			for _, class := range []measure.Class{measure.Write, measure.Zero, measure.Copy} {
				bytes += s.Classes[class].Bytes
			}
			if s.Measured <= 0 || bytes == 0 {
				return math.NaN()
			}
			return float64(bytes) / float64(s.Measured)
		}},
		{Key: "finish", Label: "time to finish", Unit: "seconds", Lower: true, None: "it ended before all that was asked for was done", Value: func(s *measure.Summary) float64 {
			if s.Ending == measure.ByPasses || s.Ending == measure.ByAmount {
				return float64(s.Measured)
			}
			return math.NaN()
		}},
		{Key: "iops", Label: "IOPS", Unit: "per second", of: workload.BlockKind, Value: func(s *measure.Summary) float64 { return float64(s.Total.Rate) }},
	}
	for _, l := range latencies {
		all = append(all, Figure{Key: l.key, Label: l.key + " latency", Unit: "seconds", Lower: true, Waits: true, of: workload.BlockKind, Value: func(s *measure.Summary) float64 {
			return float64(l.of(s.Total.Latency))
		}})
	}
	for class := range measure.EachClass() {
		if !class.Moves() {
			continue
		}
		for _, l := range latencies {
			key, label := class.String()+"-"+l.key, l.key+" latency of "+class.String()
			all = append(all, Figure{Key: key, Label: label, Unit: "seconds", Lower: true, Waits: true, Side: class.String(), Value: func(s *measure.Summary) float64 {
				return float64(l.of(s.Classes[class].Latency))
			}})
		}
	}
	all = append(all, phased...)
	return append(all,
		Figure{Key: "worst", Label: "slowest interval", Unit: "per second", Value: func(s *measure.Summary) float64 {
			if s.Steadiness == nil {
				return math.NaN()
			}
			return float64(s.Steadiness.Worst)
		}},
		Figure{Key: "cpu", Label: "CPU time of an operation", Unit: "seconds", Lower: true, Value: func(s *measure.Summary) float64 { return float64(s.CPUPerOp) }},
		Figure{Key: "commands", Rare: true, Label: "commands of an operation", Unit: "times", Lower: true, None: "no commands were counted", Value: func(s *measure.Summary) float64 {
			return perOperation(s, func(of measure.Session) int64 { return of.Commands })
		}},
		Figure{Key: "wire", Rare: true, Label: "bytes on the wire of an operation", Unit: "bytes", Lower: true, None: "nothing on a wire was counted", Value: func(s *measure.Summary) float64 {
			return perOperation(s, func(of measure.Session) int64 { return of.Sent + of.Received })
		}},
		Figure{Key: "answered", Rare: true, Label: "reads that were answered on the way", Unit: "share", None: "nothing on the way tells what it answers", Value: onTheWay},
	)
}()

// perOperation is what all sessions counted of something for each operation that was asked of
// them; NaN where nothing was.
func perOperation(s *measure.Summary, of func(measure.Session) int64) float64 {
	count, operations := int64(0), int64(0)
	for _, session := range s.Sessions {
		count, operations = count+of(session), operations+session.Operations
	}
	if count == 0 || operations == 0 {
		return math.NaN()
	}
	return float64(count) / float64(operations)
}

// onTheWay is the share of the reads that caches and tiers answered, each of what reached it;
// NaN where none tells.
func onTheWay(s *measure.Summary) float64 {
	passed, tiers, told := 1.0, 0.0, false
	for _, c := range s.Inside {
		switch {
		case strings.HasSuffix(c.Name, " hit rate"):
			passed, told = passed*(1-c.Value), true
		case c.OfTier():
			tiers, told = tiers+c.Value, true
		}
	}
	if !told {
		return math.NaN()
	}
	return 1 - passed*(1-tiers)
}

// lacking says of some kinds which of its own figures a load of it has not.
var lacking = map[workload.Kind]func(workload.Spec, string) bool{}

// Register adds the figures that one kind of load alone has: those that say how much was done,
// and those that say how long that took. Of those a load lacks the ones that lacks says; nil for
// none. It is called before main, once for a kind.
func Register(kind workload.Kind, done, times []Figure, lacks func(load workload.Spec, key string) bool) {
	add := func(own []Figure, before func(Figure) bool) {
		own = slices.Clone(own)
		for i := range own {
			own[i].of = kind
		}
		figures = slices.Insert(figures, slices.IndexFunc(figures, before), own...)
	}
	add(done, func(f Figure) bool { return f.Key == "finish" })
	add(times, func(f Figure) bool { return f.Side != "" })
	lacking[kind] = lacks
}

// Times makes a figure of each kind of time that is told of something: its key, such as "p99", and
// how that is read.
func Times(of func(key string, read func(measure.Latency) quantity.Seconds) Figure) (all []Figure) {
	for _, l := range latencies {
		all = append(all, of(l.key, l.of))
	}
	return all
}

// All lists all figures, in the order in which they are shown.
func All() []Figure { return figures }

// Of finds a figure by its key; the zero Figure when there is none.
func Of(key string) Figure {
	if i := slices.IndexFunc(figures, func(f Figure) bool { return f.Key == key }); i >= 0 {
		return figures[i]
	}
	return Figure{}
}

// Lookup finds a figure by its key or says which there are.
func Lookup(key string) (Figure, error) {
	if f := Of(strings.ToLower(key)); f.Key != "" {
		return f, nil
	}
	keys := make([]string, len(figures))
	for i, f := range figures {
		keys[i] = f.Key
	}
	return Figure{}, fmt.Errorf("%w: there is no figure %q; there are %s", ErrInvalid, key, strings.Join(keys, ", "))
}

// For leaves out what a load cannot have: reads apart from writes where it does only one
// of them; whole files where it has none, and where it has them the pieces they are moved
// in.
func For(load workload.Spec) []Figure {
	kind, traits := cmp.Or(load.Kind, workload.BlockKind), load.Traits()
	moving := slices.DeleteFunc(load.Classes(), func(c measure.Class) bool { return !c.Moves() })
	own := func(side string) bool { // a side that is not all there is
		return len(moving) > 1 && slices.ContainsFunc(moving, func(c measure.Class) bool { return c.String() == side })
	}
	return slices.DeleteFunc(slices.Clone(figures), func(f Figure) bool {
		if lacks := lacking[kind]; lacks != nil && f.of == kind && lacks(load, f.Key) {
			return true
		}
		if f.Key == "placed" { // of loads that do the same by other means
			return true
		}
		if f.Key == "finish" && !traits.Ends && load.Amount == 0 && load.Passes == 0 { // it has no end of its own
			return true
		}
		return f.Side != "" && !own(f.Side) || traits.Still && (f.Unit == "bytes per second" || f.OfPhases()) || f.of != "" && f.of != kind && !(f.of == workload.BlockKind && traits.Operations)
	})
}

// Common are the figures that two loads have, which do the same by other means, and the key of
// the one that says how much of it they did: what both would be judged by, or bytes that are
// brought into place where one lets the storage do that and the other does not, or throughput.
func Common(a, b workload.Spec) (common []Figure, main string) {
	other := For(b)
	for _, f := range For(a) {
		if slices.ContainsFunc(other, func(o Figure) bool { return o.Key == f.Key }) {
			common = append(common, f)
		}
	}
	byStorage := func(s workload.Spec) bool { return s.Zeroes+s.Copies > 0 }
	switch {
	case byStorage(a) != byStorage(b):
		return append([]Figure{Of("placed")}, common...), "placed"
	case Main(a) == Main(b):
		return common, Main(a)
	}
	return common, "throughput"
}

// Main is the key of the figure that matters most for a load: at a set rate the
// throughput is given and latency is what differs, and of small files it is how many of
// them are done.
func Main(load workload.Spec) string {
	if load.Open() {
		return "p99"
	}
	return load.Traits().Main
}

// Done is the key of the figure that says how much was done of a set rate.
func Done(load workload.Spec) string { return load.Traits().Done }
