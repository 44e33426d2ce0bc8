package measure

import (
	"maps"
	"slices"

	"patientheron/core/quantity"
)

// Tally counts operations by class: what one worker completes in an interval,
// or what several parts come to together. Recording allocates nothing for the
// classes it was made for. It is not safe for concurrent use.
type Tally struct {
	Counts  [Classes]Count
	Groups  []Whole    // of whole files, by the groups that the load sorts them into
	Service *Histogram // latency from the real issue; nil in a closed loop
	Notes
}

// Count is what was counted of one class. Latency is nil when none was
// expected and none came.
type Count struct {
	Operations, Bytes int64
	Latency           *Histogram
}

// Whole is what was counted of the whole files of a group, and between which times, in
// nanoseconds since the common start: the first begin and the last end.
type Whole struct {
	Count
	First, Last int64
	Lateness
}

// Lateness is what is counted of pieces of feeds that came after they were needed.
type Lateness struct {
	Late  int64 `json:"late,omitempty" doc:"Pieces that came late"`
	Worst int64 `json:"worstNanoseconds,omitempty" doc:"By how much the worst of them did"`
	Stall int64 `json:"stallNanoseconds,omitempty" doc:"The longest time in which a feed waited for what was needed already"`
}

func (l *Lateness) add(other Lateness) {
	l.Late += other.Late
	l.Worst, l.Stall = max(l.Worst, other.Worst), max(l.Stall, other.Stall)
}

// Notes is what is counted beside the operations of each class.
type Notes struct {
	Late     int64   `json:"lateNanoseconds,omitempty" doc:"At a set rate: sum of the times by which operations were issued late although a slot was free"`
	Failed   int64   `json:"failed,omitempty" doc:"Operations that failed"`
	Retries  int64   `json:"retries,omitempty" doc:"Operations issued again because the system asked for it"`
	Pieces   int64   `json:"pieces,omitempty" doc:"Operations that were moved in more than one piece"`
	Faults   []Fault `json:"faults,omitempty"`
	LastDone int64   `json:"lastDoneNanoseconds,omitempty" doc:"When the last operation completed, since the common start"`
	CPU      int64   `json:"cpuNanoseconds,omitempty" doc:"CPU time of the worker's thread"`
	Waited   int64   `json:"waitedNanoseconds,omitempty" doc:"Time in which the worker's thread was ready to run and no core ran it"`
}

// Part is what one worker counted in one interval, as a value that can be kept,
// sent and added up: parts of several workers, hosts or intervals make a Tally.
type Part struct {
	Worker  int         `json:"worker" doc:"Number of the worker among all of the measurement, from 0"`
	Index   int         `json:"index" doc:"Number of the interval, from 0"`
	Counts  []PartCount `json:"counts,omitempty"`
	Groups  []PartGroup `json:"groups,omitempty"`
	Service *Sparse     `json:"service,omitempty"`
	Notes
}

// PartCount is what a part counted of one class.
type PartCount struct {
	Class      Class  `json:"class"`
	Operations int64  `json:"operations"`
	Bytes      int64  `json:"bytes"`
	Latency    Sparse `json:"latency"`
}

// PartGroup is what a part counted of the whole files of one group.
type PartGroup struct {
	Group      int    `json:"group" doc:"Number of the group among those of the load, from 0"`
	Operations int64  `json:"operations"`
	Bytes      int64  `json:"bytes"`
	Latency    Sparse `json:"latency"`
	First      int64  `json:"firstNanoseconds" doc:"When the first of them began, since the common start"`
	Last       int64  `json:"lastNanoseconds" doc:"When the last of them ended"`
	Lateness
}

// Sparse is what a histogram counted, in little memory.
type Sparse struct {
	Buckets []uint16 `json:"buckets" doc:"Numbers of the buckets that hold something, rising: below 2048 the nanosecond itself, above 1024 × s + n for n × 2^s to (n + 1) × 2^s - 1 nanoseconds, n from 1024 to 2047"`
	Counts  []int64  `json:"counts" doc:"How many latencies each holds"`
	Count   int64    `json:"count"`
	Sum     float64  `json:"sumNanoseconds"`
	Squares float64  `json:"sumOfSquares"`
	Min     int64    `json:"minNanoseconds"`
	Max     int64    `json:"maxNanoseconds"`
}

// Sparse copies what h counted.
func (h *Histogram) Sparse() Sparse {
	s := Sparse{Count: h.count, Sum: h.sum, Squares: h.squares, Min: h.min, Max: h.max}
	held := 0
	for bucket := h.low; bucket <= h.high; bucket++ {
		if h.counts[bucket] > 0 {
			held++
		}
	}
	s.Buckets, s.Counts = make([]uint16, 0, held), make([]int64, 0, held)
	for bucket := h.low; bucket <= h.high; bucket++ {
		if count := h.counts[bucket]; count > 0 {
			s.Buckets, s.Counts = append(s.Buckets, uint16(bucket)), append(s.Counts, count)
		}
	}
	return s
}

// MergeSparse adds all that s counted. What lies in no bucket there is counted
// with the longest.
func (h *Histogram) MergeSparse(s Sparse) {
	if s.Count == 0 {
		return
	}
	h.exact.merge(exact{s.Count, s.Sum, s.Squares, s.Min, s.Max})
	for i, bucket := range s.Buckets {
		h.put(min(int(bucket), buckets-1), s.Counts[i])
	}
}

// NewTally makes an empty tally that expects operations of the given classes,
// and service times when they are wanted.
func NewTally(service bool, expected ...Class) *Tally {
	t := &Tally{}
	for _, c := range expected {
		t.Counts[c].Latency = NewHistogram()
	}
	if service {
		t.Service = NewHistogram()
	}
	return t
}

// Record counts one operation of a class with the bytes it moved and its latency
// in nanoseconds.
func (t *Tally) Record(c Class, bytes, latency int64) { t.RecordAlike(c, 1, bytes, latency) }

// RecordAlike counts so many operations of one class that took equally long, and moved so
// many bytes together.
func (t *Tally) RecordAlike(c Class, operations, bytes, latency int64) {
	count := t.expect(c)
	count.Operations += operations
	count.Bytes += bytes
	count.Latency.RecordAlike(operations, latency)
}

func (t *Tally) expect(c Class) *Count { return t.Counts[c].ready() }

func (c *Count) ready() *Count {
	if c.Latency == nil {
		c.Latency = NewHistogram()
	}
	return c
}

// RecordFiles counts so many whole files of a group, of so many bytes together, all of which
// began and ended at the same times in nanoseconds since the common start.
func (t *Tally) RecordFiles(group int, files, bytes, began, ended int64) {
	count := t.group(group)
	count.between(began, ended)
	count.Operations += files
	count.Bytes += bytes
	count.Latency.RecordAlike(files, ended-began)
}

// RecordPiece counts one piece of a group of feeds that was asked for and came at times
// in nanoseconds since the common start; late says by how much after it was needed, and
// stall how long its feed had been waiting by then.
func (t *Tally) RecordPiece(group int, bytes, asked, came, late, stall int64) {
	count := t.group(group)
	count.between(asked, came)
	count.Operations++
	count.Bytes += bytes
	count.Latency.Record(came - asked)
	if late > 0 {
		count.add(Lateness{1, late, stall})
	}
}

func (t *Tally) group(number int) *Whole {
	for len(t.Groups) <= number {
		t.Groups = append(t.Groups, Whole{})
	}
	t.Groups[number].ready()
	return &t.Groups[number]
}

// between widens the time of a group, before its operations are counted.
func (w *Whole) between(first, last int64) {
	if w.Operations == 0 {
		w.First, w.Last = first, last
	}
	w.First, w.Last = min(w.First, first), max(w.Last, last)
}

// AddFault counts failed operations with others of their kind.
func (n *Notes) AddFault(f Fault) {
	if i := slices.IndexFunc(n.Faults, func(have Fault) bool { return have.Kind == f.Kind && have.Of == f.Of }); i >= 0 {
		n.Faults[i].Count += f.Count
		return
	}
	n.Faults = append(n.Faults, f)
}

func (n *Notes) add(other Notes) {
	n.Late += other.Late
	n.Failed += other.Failed
	n.Retries += other.Retries
	n.Pieces += other.Pieces
	n.LastDone = max(n.LastDone, other.LastDone)
	n.CPU += other.CPU
	n.Waited += other.Waited
	for _, f := range other.Faults {
		n.AddFault(f)
	}
}

// Take gives what was counted as the part of a worker and an interval, and
// empties t.
func (t *Tally) Take(worker, index int) Part {
	t.wholeFiles()
	p := Part{Worker: worker, Index: index, Notes: t.Notes}
	for c := range EachClass() {
		count := &t.Counts[c]
		if count.Operations == 0 {
			continue
		}
		p.Counts = append(p.Counts, PartCount{c, count.Operations, count.Bytes, count.Latency.Sparse()})
	}
	for number, count := range t.Groups {
		if count.Operations > 0 {
			p.Groups = append(p.Groups, PartGroup{number, count.Operations, count.Bytes, count.Latency.Sparse(), count.First, count.Last, count.Lateness})
		}
	}
	if t.Service != nil && t.Service.count > 0 {
		service := t.Service.Sparse()
		p.Service = &service
	}
	t.Reset()
	return p
}

// wholeFiles counts the files of all groups as those of their class, unless that was done.
func (t *Tally) wholeFiles() {
	all := &t.Counts[File]
	if len(t.Groups) == 0 || all.Operations > 0 || all.Latency == nil {
		return
	}
	for g := range t.Groups {
		if group := &t.Groups[g]; group.Operations > 0 {
			all.Operations += group.Operations
			all.Bytes += group.Bytes
			all.Latency.Merge(group.Latency)
		}
	}
}

// Reset removes all that was counted and keeps the memory.
func (t *Tally) Reset() {
	for c := range t.Counts {
		t.Counts[c].reset()
	}
	for g := range t.Groups {
		t.Groups[g].reset()
		t.Groups[g].Lateness = Lateness{}
	}
	if t.Service != nil {
		t.Service.Reset()
	}
	t.Notes = Notes{}
}

func (c *Count) reset() {
	c.Operations, c.Bytes = 0, 0
	if c.Latency != nil {
		c.Latency.Reset()
	}
}

// Add counts all that a part counted.
func (t *Tally) Add(p Part) {
	for _, c := range p.Counts {
		count := t.expect(c.Class)
		count.Operations += c.Operations
		count.Bytes += c.Bytes
		count.Latency.MergeSparse(c.Latency)
	}
	for _, g := range p.Groups {
		count := t.group(g.Group)
		count.between(g.First, g.Last)
		count.add(g.Lateness)
		count.Operations += g.Operations
		count.Bytes += g.Bytes
		count.Latency.MergeSparse(g.Latency)
	}
	if p.Service != nil {
		if t.Service == nil {
			t.Service = NewHistogram()
		}
		t.Service.MergeSparse(*p.Service)
	}
	t.Notes.add(p.Notes)
}

// Moved is how many bytes of the load were moved.
func (p Part) Moved() (bytes int64) {
	for _, c := range p.Counts {
		if c.Class.Moves() {
			bytes += c.Bytes
		}
	}
	return bytes
}

// Figures is what each expected class came to over a length of time, and what
// those that move bytes came to together; where none does, what whole files came to.
func (t *Tally) Figures(over quantity.Seconds) (by map[Class]Figures, total Figures) {
	by, all, moves := map[Class]Figures{}, Count{Latency: NewHistogram()}, false
	for c := range EachClass() {
		count := t.Counts[c]
		if count.Latency == nil {
			continue
		}
		by[c] = count.figures(over)
		if c.Moves() {
			moves = true
			all.Operations += count.Operations
			all.Bytes += count.Bytes
			all.Latency.Merge(count.Latency)
		}
	}
	if files, is := by[File]; is && !moves {
		return by, files
	}
	return by, all.figures(over)
}

// GroupFigures is what each of the named groups came to over a length of time; zero for
// the time of each itself, from its first begin to its last end.
func (t *Tally) GroupFigures(names []string, over quantity.Seconds) (groups []FileGroup) {
	for number, name := range names {
		count := t.group(number)
		took := quantity.Seconds(count.Last-count.First) / 1e9
		of := over
		if over == 0 {
			of = took
		}
		groups = append(groups, FileGroup{
			Name: name, Took: took, Figures: count.figures(of),
			Late: count.Late, WorstLate: quantity.Seconds(count.Worst) / 1e9, LongestStall: quantity.Seconds(count.Stall) / 1e9,
		})
	}
	return groups
}

func (c Count) figures(over quantity.Seconds) Figures {
	f := Figures{Operations: c.Operations, Bytes: quantity.Bytes(c.Bytes), Latency: c.Latency.Latency()}
	f.Rate, f.Throughput = Per(c.Operations, c.Bytes, over)
	return f
}

// Flows is what each expected class came to in an interval of the given length.
func (t *Tally) Flows(length quantity.Seconds) map[Class]Flow {
	flows := map[Class]Flow{}
	for c := range EachClass() {
		count := t.Counts[c]
		if count.Latency == nil {
			continue
		}
		flows[c] = count.flow(length)
	}
	return flows
}

func (c Count) flow(length quantity.Seconds) Flow {
	f := Flow{
		Operations: c.Operations, Bytes: quantity.Bytes(c.Bytes),
		Mean: c.Latency.Mean(), P50: c.Latency.Quantile(0.5), P99: c.Latency.Quantile(0.99), Max: c.Latency.Max(),
	}
	f.Rate, f.Throughput = Per(c.Operations, c.Bytes, length)
	return f
}

// mostFlows is how many groups an interval tells apart: more would be most of what is
// kept of a measurement.
const mostFlows = 64

// GroupFlows is what each of so many groups came to in an interval of the given length;
// none when they are too many to tell apart.
func (t *Tally) GroupFlows(count int, length quantity.Seconds) []Flow {
	if count == 0 || count > mostFlows {
		return nil
	}
	flows := make([]Flow, count)
	for number := range min(count, len(t.Groups)) {
		if group := &t.Groups[number]; group.Operations > 0 {
			flows[number] = group.flow(length)
			flows[number].Late = group.Late
		}
	}
	return flows
}

// Spread counts the latencies of what moves bytes, or of whole files, by tenths of a decade, from
// short to long.
func (t *Tally) Spread() []Cell {
	counts := map[int]int64{}
	for c := range EachClass() {
		if latency := t.Counts[c].Latency; latency != nil && (c.Moves() || c == File) {
			latency.tenths(counts)
		}
	}
	cells := make([]Cell, 0, len(counts))
	for _, tenth := range slices.Sorted(maps.Keys(counts)) {
		cells = append(cells, Cell{tenth, counts[tenth]})
	}
	return cells
}

// Latencies are the histograms of the classes that something was counted of.
func (t *Tally) Latencies() map[Class]*Histogram {
	of := map[Class]*Histogram{}
	for c := range EachClass() {
		if t.Counts[c].Operations > 0 {
			of[c] = t.Counts[c].Latency
		}
	}
	return of
}
