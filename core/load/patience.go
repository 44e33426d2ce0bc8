package load

import (
	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// keptPart is what one interval counted, kept until it is known from where on
// the summary counts.
type keptPart struct {
	reads, writes, syncs keptCount
	service              measure.Sparse
	late                 int64
}

type keptCount struct {
	operations, bytes int64
	latency           measure.Sparse
}

func (c *counted) keep() keptCount { return keptCount{c.operations, c.bytes, c.latency.Sparse()} }

func (c *counted) add(k keptCount) {
	c.operations += k.operations
	c.bytes += k.bytes
	c.latency.MergeSparse(k.latency)
}

// keep remembers an interval and asks patience whether that is enough, at
// first after every interval, later at every twentieth part more.
func (c *collector) keep(interval measure.Interval, p *part, last bool) {
	c.series = append(c.series, interval)
	c.kept = append(c.kept, keptPart{p.reads.keep(), p.writes.keep(), p.syncs.keep(), p.service.Sparse(), p.late})
	if last || len(c.series) < c.look {
		return
	}
	c.look = len(c.series) + max(len(c.series)/20, 1)
	_, enough, _ := c.patience(c.series, false)
	c.enough.Store(enough)
}

// patient makes the totals of a patient measurement from the intervals after
// the cut, and says how long they were and how much was cut off.
func (c *collector) patient(into *totals) (length, cut quantity.Seconds, record measure.Patience) {
	from, _, record := c.patience(c.series, true)
	*into = *into.withoutCounts()
	for i, k := range c.kept {
		if i < from {
			cut += c.series[i].Length
			continue
		}
		length += c.series[i].Length
		into.reads.add(k.reads)
		into.writes.add(k.writes)
		into.syncs.add(k.syncs)
		if into.service != nil {
			into.service.MergeSparse(k.service)
		}
		into.late += k.late
	}
	record.Cut = cut
	return length, cut, record
}

// withoutCounts is t with its faults and retries, which count from the start,
// and nothing else.
func (t *totals) withoutCounts() *totals {
	empty := newTotals(t.service != nil)
	empty.retries, empty.faults, empty.lastDone = t.retries, t.faults, t.lastDone
	return empty
}
