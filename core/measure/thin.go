package measure

import "patientheron/core/quantity"

// Thinner keeps so many intervals of a long series that it can be drawn: of each
// stretch the one with the lowest rate, the one with the highest, and the one
// with the longest latency, so that no dip and no peak is lost. It holds no more
// than it keeps.
type Thinner struct {
	stretch int // intervals of which three are kept; 0 to keep all
	kept    []Interval
	of      []Interval // lowest, highest and slowest of the stretch under way
	seen    int        // intervals of the stretch under way
}

// NewThinner thins a series of total intervals to about points, or not at all
// when it has no more.
func NewThinner(total, points int) *Thinner {
	t := &Thinner{}
	if total > points {
		t.stretch = (3*total + points - 1) / max(points, 1)
	}
	return t
}

// Add takes the next interval.
func (t *Thinner) Add(i Interval) {
	if t.stretch == 0 {
		t.kept = append(t.kept, i)
		return
	}
	if t.seen == 0 {
		t.of = []Interval{i, i, i}
	}
	if rate(i) < rate(t.of[0]) {
		t.of[0] = i
	}
	if rate(i) > rate(t.of[1]) {
		t.of[1] = i
	}
	if slowest(i) > slowest(t.of[2]) {
		t.of[2] = i
	}
	if t.seen++; t.seen == t.stretch {
		t.close()
	}
}

// Kept are the intervals that were kept, in order, each once.
func (t *Thinner) Kept() []Interval {
	t.close()
	return append([]Interval{}, t.kept...)
}

func (t *Thinner) close() {
	if t.seen == 0 {
		return
	}
	for {
		next := -1
		for k, i := range t.of {
			later := len(t.kept) == 0 || i.Index > t.kept[len(t.kept)-1].Index
			if later && (next < 0 || i.Index < t.of[next].Index) {
				next = k
			}
		}
		if next < 0 {
			break
		}
		t.kept = append(t.kept, t.of[next])
	}
	t.seen = 0
}

func rate(i Interval) quantity.OpRate { return i.Moved().Rate }

func slowest(i Interval) quantity.Seconds { return i.Moved().Max }
