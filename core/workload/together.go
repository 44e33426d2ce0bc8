package workload

import (
	"fmt"
	"slices"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// TogetherKind is the kind of several loads at once on one volume, each with workers and
// regions of its own.
const TogetherKind Kind = "together"

// mostTogether is how many loads there may be at once.
const mostTogether = 16

// Parts are the loads of which it consists: itself, or those at once.
func (s Spec) Parts() []Spec {
	if s.Several() {
		return s.Together
	}
	return []Spec{s}
}

// OfFiles are those of its parts that work on files, in their order; blocks is set when there
// are others.
func (s Spec) OfFiles() (parts []Spec, blocks bool) {
	for _, p := range s.Parts() {
		if p.Traits().OnFiles {
			parts = append(parts, p)
		} else {
			blocks = true
		}
	}
	return parts, blocks
}

// Shallower is the load with so many operations of each worker in flight at most.
func (s Spec) Shallower(depth int) Spec {
	s.Depth = min(s.Depth, depth)
	s.Together = slices.Clone(s.Together)
	for i := range s.Together {
		s.Together[i].Depth = min(s.Together[i].Depth, depth)
	}
	return s
}

// SetTogether makes the load one of several at once, whose time it says. What stands beside
// them is the default until they are there.
func (s *Spec) SetTogether() {
	s.Kind, s.Pattern, s.Pace = TogetherKind, Default().Pattern, Default().Pace
}

// togetherBody is several loads at once as a Body. Each sorts what it does into groups of its
// own: those of its requests where it has some, and otherwise one for all that it does.
type togetherBody struct{}

func (togetherBody) Kind() Kind             { return TogetherKind }
func (togetherBody) Complete(s *Spec)       { s.completeTogether() }
func (togetherBody) Validate(s Spec) error  { return s.validateTogether() }
func (togetherBody) Describe(s Spec) string { return s.describeTogether() }

func (togetherBody) Classes(s Spec) (issued []measure.Class) {
	are := map[measure.Class]bool{}
	for _, p := range s.Together {
		for _, c := range p.Classes() {
			are[c] = true
		}
	}
	for c := range measure.EachClass() {
		if are[c] {
			issued = append(issued, c)
		}
	}
	return issued
}

func (togetherBody) Traits(Spec) Traits {
	return Traits{OwnSizes: true, OwnDepth: true, Main: "throughput", Done: "throughput"}
}

// Reach is how far into the volume the load goes, 0 for all of it, and whether it writes there;
// of several at once that of those that work on blocks: files lie in a file system.
func (s Spec) Reach() (size quantity.Bytes, writes bool) {
	if !s.Several() {
		return s.Pattern.Reach()
	}
	for _, p := range s.Together {
		if !p.Traits().OnFiles {
			end, changes := p.Reach()
			size, writes = max(size, end), writes || changes
		}
	}
	return size, writes
}

func (togetherBody) Groups(s Spec) (names []string) {
	for _, p := range s.Together {
		if !p.ownGroups() {
			names = append(names, p.Name)
			continue
		}
		for _, request := range p.Groups() {
			names = append(names, p.Name+": "+request)
		}
	}
	return names
}

func (togetherBody) Source(s Spec, worker int) (Source, error) {
	number, first, group := s.partOf(worker)
	part := s.Together[number]
	source, err := NewSource(part, worker-first)
	return &together{source, group, !part.ownGroups()}, err
}

// partOf finds the number of the load that a worker belongs to, the first of its workers, and
// the first of its groups.
func (s Spec) partOf(worker int) (number, first, group int) {
	for number < len(s.Together)-1 && worker >= first+s.Together[number].Workers {
		first += s.Together[number].Workers
		group += s.Together[number].groupCount()
		number++
	}
	return number, first, group
}

func (s Spec) groupCount() int {
	if s.ownGroups() {
		return len(s.Groups())
	}
	return 1
}

// ownGroups reports whether a load among several keeps its groups apart: requests that are not
// operations of the storage.
func (s Spec) ownGroups() bool {
	traits := s.Traits()
	return !traits.Operations && !traits.OnFiles
}

// Of is what one worker does: the load itself, or the one of several that it belongs to, with
// its number. Group is the number of the group that all its operations belong to; -1 where its
// source says that of whole files, pieces and requests.
func (s Spec) Of(worker int) (own Spec, number, group int) {
	if !s.Several() {
		return s, 0, -1
	}
	number, _, group = s.partOf(worker)
	own = s.Together[number]
	if !own.Traits().Plain {
		group = -1
	}
	return own, number, group
}

// together gives the groups of a load among several their place.
type together struct {
	Source
	group int
	one   bool // all that it does is one group
}

func (t *together) Completed(a *Access, now int64, err error) *Whole {
	whole := t.Source.Completed(a, now, err)
	for w := whole; w != nil; w = w.More {
		if t.one {
			w.Group = 0
		}
		w.Group += t.group
	}
	return whole
}

// completeTogether makes the parts what they are measured as: with the time and the seed of
// all, one region behind the other unless they say where theirs is. What stands beside them
// of blocks is what they come to on average, by how much each has in flight.
func (s *Spec) completeTogether() {
	parts := make([]Spec, len(s.Together))
	placed := false
	for _, p := range s.Together {
		placed = placed || p.Offset > 0
	}
	s.Pattern = Pattern{Order: Random, Cached: s.Cached, Offset: s.Offset}
	s.Depth, s.Workers, s.Rate, s.ByteRate, s.Think, s.Arrivals = 0, 0, 0, 0, 0, ""
	end, reads, weights := s.Offset, 0.0, 0.0
	for i, p := range s.Together {
		p.Ending, p.Cached = s.Ending, s.Cached
		p.Ending.Steady, p.Ending.Margin = false, 0
		p.Seed = s.Seed + uint64(i)*7919 // unrelated, and the same each time
		ofFiles := p.Traits().OnFiles    // which have no region: a file system finds them a place
		if !placed && !ofFiles {
			p.Offset = quantity.Bytes(AlignUp(int64(end), Unit))
		}
		p = p.Completed()
		if parts[i] = p; !ofFiles {
			end = max(end, p.Offset+p.Span)
		}
		s.Depth, s.Workers = max(s.Depth, p.Depth), s.Workers+p.Workers
		weight := float64(p.Depth * p.Workers)
		reads, weights = reads+float64(p.Reads)*weight, weights+weight
		for _, b := range p.Blocks {
			s.Blocks = append(s.Blocks, BlockShare{b.Size, b.Weight * weight})
		}
	}
	s.Blocks = s.Blocks[:min(len(s.Blocks), 32)]
	s.Span = end - s.Offset
	if s.Reads = 1; weights > 0 {
		s.Reads = quantity.Share(reads / weights)
	}
	s.Together = parts
}

// validateTogether reports what cannot be of several loads at once.
func (s Spec) validateTogether() error {
	if len(s.Together) < 2 || len(s.Together) > mostTogether {
		return Invalid("together", "%d loads at once; from 2 to %d", len(s.Together), mostTogether)
	}
	if s.Amount > 0 || s.Passes > 0 {
		return Invalid("for", "loads at once go on for a time; leave amount and passes out")
	}
	if s.For == 0 {
		return Invalid("for", "loads at once go on for a time; try for: 60s")
	}
	names := map[string]bool{}
	for _, p := range s.Completed().Together {
		switch {
		case p.Name == "":
			return Invalid("together", "each of several loads at once needs a name of its own")
		case names[p.Name]:
			return Invalid("together", "two of the loads at once are called %q", p.Name)
		case p.Kind == TogetherKind:
			return Invalid("together", "%q is several loads itself; name each of them beside the others", p.Name)
		case p.Alone() != "":
			return Invalid("together", "%q %s", p.Name, p.Alone())
		case p.Span == 0:
			return Invalid("together", "%q does not say how large its region is (span)", p.Name)
		}
		names[p.Name] = true
		if err := p.Validate(); err != nil {
			return Invalid("together", "%q: %s", p.Name, strings.TrimPrefix(err.Error(), ErrInvalid.Error()+": "))
		}
	}
	return nil
}

// describeTogether says in a few words what several loads at once do.
func (s Spec) describeTogether() string {
	words := make([]string, len(s.Together))
	for i, p := range s.Together {
		words[i] = fmt.Sprintf("%s (%s)", p.Name, p.Describe())
	}
	return fmt.Sprintf("%d loads together: %s", len(s.Together), strings.Join(words, "; "))
}

// Part is what one of several loads came to, as a measurement of its own: the load as it was
// given, and its figures.
func (s Spec) Part(number int, sum *measure.Summary) (Spec, *measure.Summary) {
	part := s.Completed().Together[number]
	if sum == nil {
		return part, nil
	}
	first := 0
	for _, p := range s.Together[:number] {
		first += p.groupCount()
	}
	last := first + part.groupCount()
	if last > len(sum.Groups) {
		return part, nil
	}
	own := &measure.Summary{Measured: sum.Measured, WarmUp: sum.WarmUp, Ending: sum.Ending, Interface: sum.Interface, Stolen: sum.Stolen, Groups: sum.Groups[first:last], Total: sum.Groups[first].Figures}
	part.Summarize(own)
	switch traits := part.Traits(); {
	case traits.OnFiles:
		own.Classes = map[measure.Class]measure.Figures{measure.File: own.Total}
	case !traits.Operations:
		own.Total = measure.Figures{} // the storage's own operations are counted together
	}
	if moving := part.Classes(); len(moving) == 1 {
		own.Classes = map[measure.Class]measure.Figures{moving[0]: own.Total}
	}
	return part, own
}
