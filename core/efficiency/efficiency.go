// Package efficiency sets an array against its members: what each of them does alone under a
// load, what that adds up to, and how much of it the array makes. It names the member that is
// not like the others, says what members do when all are at work at once, and what the level
// leaves of them in the first place.
//
//	result := efficiency.Of(array, members, atOnce)
package efficiency

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"patientheron/core/claim"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Efficiency is how much of its members an array makes.
type Efficiency struct {
	Array   string      `json:"array"`
	Members []string    `json:"members"`
	Level   string      `json:"level,omitempty" doc:"As far as it is known"`
	Points  []Made      `json:"points" doc:"Under each load that all were measured under"`
	Odd     []OddMember `json:"odd" doc:"Members that are not like the others"`
	LeftOut []string    `json:"leftOut" doc:"Loads that cannot be set side by side, and why"`
	Words   []string    `json:"words" doc:"What to know, in sentences"`
}

// Made is one load.
type Made struct {
	Title  string `json:"title"`
	Load   string `json:"load" doc:"Of the array, in words"`
	Member string `json:"member,omitempty" doc:"Of the members, where that is another: as many operations in flight for each as its share of those of the array, or another span"`
	Figure string `json:"figure" doc:"Key of the figure, which is a rate"`
	Label  string `json:"label"`
	Unit   string `json:"unit"`

	Alone      []judge.Mean `json:"alone" doc:"Of each member, alone"`
	Sum        judge.Mean   `json:"sum"`
	Array      judge.Mean   `json:"array"`
	Efficiency judge.Mean   `json:"efficiency" doc:"The array over the sum"`
	AtOnce     *judge.Mean  `json:"atOnce,omitempty" doc:"What the members do when all are at work at once, over the sum; absent where that was not measured"`
	Leaves     float64      `json:"leaves,omitempty" doc:"Share of the sum that the level leaves, copies and parity counted; as if reads and writes cost the same, where those of this kind were not measured by themselves; absent where the level is not known"`
	Words      string       `json:"words"`
}

// OddMember is a member that is not like the others.
type OddMember struct {
	Member int     `json:"member" doc:"Number in members, from 0"`
	Title  string  `json:"title" doc:"The load under which it is farthest from them"`
	Times  float64 `json:"times" doc:"What it does there over the nearest of the others"`
	Words  string  `json:"words"`

	claims []claim.Claim
}

// Fewest and Most are how many members there may be.
const (
	Fewest = 2
	Most   = 64
)

// matters is the smallest difference that is worth a word.
const matters = 0.05

// Of sets an array against its members, each of which was measured alone, and, where it was,
// against what they did at once. Sides of atOnce stand in the order of the members; none where
// nothing was measured at once.
func Of(array compare.Side, members, atOnce []compare.Side) Efficiency {
	r := Efficiency{Array: array.Name, Members: []string{}, Level: array.Setup.Text("layout.level"), Points: []Made{}, Odd: []OddMember{}, LeftOut: []string{}, Words: []string{}}
	w := work{level: r.Level, array: reader(array)}
	for _, m := range members {
		r.Members = append(r.Members, m.Name)
		w.members = append(w.members, reader(m))
	}
	for _, m := range atOnce {
		w.atOnce = append(w.atOnce, reader(m))
	}
	for _, of := range w.array.loads {
		p, why := w.point(of)
		if why != "" {
			r.LeftOut = append(r.LeftOut, fmt.Sprintf("%s: %s", of.title, why))
			continue
		}
		r.Points = append(r.Points, p)
	}
	r.Odd = odd(r)
	for _, c := range r.said() {
		r.Words = append(r.Words, c.Words)
	}
	return r
}

// work is what it takes.
type work struct {
	level   string
	array   measured
	members []measured
	atOnce  []measured
}

// measured are the loads of a side.
type measured struct {
	estimator compare.Estimator
	loads     []load
}

// load is what was measured under one load.
type load struct {
	title   string
	spec    workload.Spec
	samples []compare.Sample
	doubt   string
}

func reader(side compare.Side) measured {
	m := measured{estimator: side.Estimator()}
	at := map[string]int{}
	for _, s := range side.Samples {
		if s.Summary == nil || s.Reason != "" || s.Altered() {
			continue
		}
		key := s.Load.Key()
		if _, known := at[key]; !known {
			at[key] = len(m.loads)
			m.loads = append(m.loads, load{title: s.Title(), spec: s.Load})
		}
		l := &m.loads[at[key]]
		l.samples = append(l.samples, s)
		l.doubt = cmp.Or(l.doubt, s.Known().Doubt(""))
	}
	return m
}

// inFlight is how many operations are in flight.
func inFlight(s workload.Spec) int { return max(s.Depth, 1) * max(s.Workers, 1) }

// alike names what a load does, but for where it does it and how many operations are in flight.
func alike(s workload.Spec) string {
	s = s.Completed()
	s.Span, s.Offset, s.Depth, s.Workers = 0, 0, 1, 1
	return compare.WorkKey(s)
}

// among finds the load of a member that does what the array's does, with so many operations in
// flight.
func (m measured) among(of workload.Spec, flight int) *load {
	i := slices.IndexFunc(m.loads, func(l load) bool { return inFlight(l.spec) == flight && alike(l.spec) == alike(of) })
	if i < 0 {
		return nil
	}
	return &m.loads[i]
}

// all finds it of each member: where the members were measured with their share of what the
// array has in flight, that, and otherwise as much as the array.
func all(members []measured, of workload.Spec) []*load {
	whole := inFlight(of)
	for _, flight := range []int{whole / len(members), whole} {
		if flight < whole && flight*len(members) != whole {
			continue
		}
		var found []*load
		for _, m := range members {
			if l := m.among(of, flight); l != nil {
				found = append(found, l)
			}
		}
		if len(found) == len(members) {
			return found
		}
	}
	return nil
}

// point sets one load side by side; or says why not.
func (w work) point(of load) (p Made, why string) {
	f := figure.Of(figure.Main(of.spec))
	if of.spec.Open() || of.spec.Deadlines() || f.Lower {
		return p, "its rate is set, so it does not show the limit of an array"
	}
	alone := all(w.members, of.spec)
	if alone == nil {
		return p, "not all members were measured under this load"
	}
	for i, l := range append([]*load{&of}, alone...) {
		if l.doubt != "" {
			return p, fmt.Sprintf("%s is unreliable: %s", append([]string{"the array"}, names(len(alone))...)[i], l.doubt)
		}
	}
	p = Made{Title: of.title, Load: of.spec.Describe(), Figure: f.Key, Label: f.Label, Unit: f.Unit, Leaves: leaves(w.level, len(alone), of.spec, w.costOfReads(of.spec))}
	if theirs := alone[0].spec.Describe(); theirs != p.Load {
		p.Member = theirs
	}
	for i, l := range alone {
		p.Alone = append(p.Alone, w.members[i].estimator.Of(l.samples, f).Mean)
	}
	p.Array = w.array.estimator.Of(of.samples, f).Mean
	p.Sum = sum(p.Alone)
	if p.Sum.Mean == 0 || p.Array.Mean == 0 {
		return p, "nothing moved"
	}
	p.Efficiency = p.Array.Over(p.Sum)
	if len(w.atOnce) == len(w.members) {
		if together := all(w.atOnce, of.spec); together != nil {
			var at []judge.Mean
			for i, l := range together {
				at = append(at, w.atOnce[i].estimator.Of(l.samples, f).Mean)
			}
			ratio := sum(at).Over(p.Sum)
			p.AtOnce = &ratio
		}
	}
	p.Words = p.words(f, len(alone))
	return p, ""
}

func names(n int) (all []string) {
	for i := range n {
		all = append(all, fmt.Sprintf("member %d", i+1))
	}
	return all
}

// sum adds means of what was measured apart up. Half of its interval is the root of the sum of
// the squares of the halves.
func sum(of []judge.Mean) judge.Mean {
	total, squares := 0.0, 0.0
	for _, m := range of {
		total += m.Mean
		squares += math.Pow(m.Mean*m.HalfOfLog(), 2)
	}
	return judge.WithinLog(total, math.Sqrt(squares)/total)
}

// extra are the reads and writes that a small write is made of: as many writes as there are
// copies; with parity what was there is read first, and parity with it.
var extra = map[string]struct{ reads, writes float64 }{"raid0": {0, 1}, "concatenation": {0, 1}, "raid10": {0, 2}, "raid5": {2, 2}, "raid6": {3, 3}}

// leaves is the share of what all members do together that a level leaves, when what is read
// and written lies in pieces much smaller than a stripe, or in whole ones where it is in order;
// 0 where that is not known. A read costs so many times what a write does.
func leaves(level string, members int, load workload.Spec, read float64) float64 {
	load = load.Completed()
	if !load.Traits().Plain || load.Trims > 0 {
		return 0
	}
	n := float64(members)
	of, known := extra[level]
	if level == "raid1" {
		of.writes, known = n, true
	}
	inOrder := load.Order == workload.Sequential || load.Order == workload.Descending
	parity := map[string]float64{"raid5": 1, "raid6": 2}[level]
	switch {
	case !known:
		return 0
	case inOrder && level == "concatenation": // which is at work on one at a time
		return 1 / n
	case inOrder && parity > 0:
		return (n - parity) / n
	}
	reads := float64(load.Reads)
	return (reads*read + 1 - reads) / (reads*read + (1-reads)*(of.reads*read+of.writes))
}

// costOfReads is what a read of a member costs in writes, where both were measured by themselves
// like a load; otherwise as much.
func (w work) costOfReads(of workload.Spec) float64 {
	f := figure.Of("iops")
	rate := func(reads quantity.Share) float64 {
		pure := of
		pure.Reads = reads
		total := 0.0
		for i, l := range all(w.members, pure) {
			total += w.members[i].estimator.Of(l.samples, f).Mean.Mean
		}
		return total
	}
	if reads, writes := rate(1), rate(0); reads > 0 && writes > 0 {
		return writes / reads
	}
	return 1
}

// words say what a point shows.
func (p Made) words(f figure.Figure, members int) string {
	words := fmt.Sprintf("%s: the array does %s, %s of the %s of its %d members one by one", p.Title, f.Show(p.Array.Mean), share(p.Efficiency), f.Show(p.Sum.Mean), members)
	if p.Leaves > 0 && p.Leaves < 1 {
		words += fmt.Sprintf(", of which its RAID level allows %s", quantity.Share(p.Leaves))
	}
	if p.AtOnce != nil {
		words += fmt.Sprintf("; together they do %s", share(*p.AtOnce))
	}
	return words + "."
}

// share is a share with its interval.
func share(m judge.Mean) string {
	if !m.Known {
		return quantity.Share(m.Mean).String()
	}
	return fmt.Sprintf("%s (%s to %s)", quantity.Share(m.Mean), quantity.Share(m.Low), quantity.Share(m.High))
}
