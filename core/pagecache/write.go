package pagecache

import "slices"

// dirtied is a page that became dirty at a time. It has lapsed when it was written since.
type dirtied struct{ page, at int64 }

// batch is pages that are written in order.
type batch struct {
	pages   []int64 // that are still to be written
	oldest  int64   // when the first of them became dirty
	out     int     // operations under way
	forced  bool    // all of it is written, however little is dirty
	failed  bool
	waiters []int
}

// mostWriting is how many operations of a sweep or a flush are under way at a time.
const mostWriting = 64

// dropLapsed takes out of what became dirty what is not any more, from the first on.
func (c *Cache) dropLapsed() {
	for len(c.dirtied) > 0 && !c.stillDirty(c.dirtied[0]) {
		c.dirtied = c.dirtied[1:]
	}
}

func (c *Cache) stillDirty(d dirtied) bool {
	at, is := c.at[d.page]
	return is && c.slots[at].dirty && c.slots[at].since == d.at && !c.slots[at].claimed
}

// sweepOn writes on what is to be written without being asked: where too much is dirty as
// much as is too much, and what is too old.
func (c *Cache) sweepOn() {
	w := &c.sweep
	old := c.device.Now() - int64(c.settings.Age.Duration())
	if len(w.pages) == 0 {
		if w.out > 0 {
			return
		}
		c.dropLapsed()
		due, all := 0, c.dirty > c.background
		for due < len(c.dirtied) && (all || c.dirtied[due].at <= old) {
			due++
		}
		if due == 0 {
			return
		}
		w.oldest, w.forced = c.dirtied[0].at, false
		w.pages = make([]int64, 0, due)
		for _, d := range c.dirtied[:due] {
			if c.stillDirty(d) {
				w.pages = append(w.pages, d.page)
			}
		}
		c.dirtied = c.dirtied[due:]
		slices.Sort(w.pages)
	}
	w.forced = w.forced || w.oldest <= old
	c.writeOn(w)
}

// writeOn writes more of a batch, neighbours together.
func (c *Cache) writeOn(b *batch) {
	asked := b != &c.sweep
	takes := func(p int64) *slot {
		at, is := c.at[p]
		if !is || !c.slots[at].dirty || !asked && c.slots[at].claimed {
			return nil
		}
		return &c.slots[at]
	}
	for b.out < mostWriting && len(b.pages) > 0 && (b.forced || c.dirty > c.background) {
		first := b.pages[0]
		if takes(first) == nil {
			b.pages = b.pages[1:]
			continue
		}
		number := c.newTransfer(first, 0, b)
		count := 0
		for count < largest && len(b.pages) > 0 && b.pages[0] == first+int64(count) {
			s := takes(b.pages[0])
			if s == nil {
				break
			}
			s.dirty, s.claimed, s.transfer = false, false, int32(number)
			b.pages = b.pages[1:]
			count++
		}
		c.transfers[number].count = count
		c.dirty -= count
		c.writing += count
		b.out++
		c.device.Submit(number, background, true, first*page, count*page)
	}
	if asked && b.out == 0 && len(b.pages) == 0 {
		for _, waiter := range b.waiters {
			c.wake(waiter, b.failed)
		}
		c.flushes = slices.DeleteFunc(c.flushes, func(other *batch) bool { return other == b })
	}
}

// wrote is called when an operation of a batch was answered.
func (c *Cache) wrote(b *batch, count int, failed bool) {
	c.writing -= count
	b.out--
	if b == &c.sweep {
		c.lost = c.lost || failed
	} else {
		b.failed = b.failed || failed
		c.writeOn(b)
	}
	c.sweepOn()
	for len(c.throttled) > 0 && c.dirty+c.writing <= c.limit {
		c.wake(c.throttled[0], false)
		c.throttled = c.throttled[1:]
	}
}

// Flush writes what is dirty of parts of the device for a waiter, and tells for how many
// wakes it has to wait. Whoever asks first after something was lost that nobody asked for
// learns of that.
func (c *Cache) Flush(waiter int, parts ...Range) (waits int) {
	if c.lost {
		c.lost = false
		c.wake(waiter, true)
		waits++
	}
	if c.Settled() {
		return waits
	}
	b := &batch{forced: true, waiters: []int{waiter}}
	others := false
	for _, part := range parts {
		c.eachIn(part, func(at int32) {
			switch s := &c.slots[at]; {
			case s.claimed:
				others = true
			case s.dirty:
				s.claimed = true
				b.pages = append(b.pages, s.page)
			case s.transfer != none && c.transfers[s.transfer].write != nil:
				waits += c.waitFor(int(s.transfer), waiter)
			}
		})
	}
	if others { // of one of these; all are waited for
		for _, other := range c.flushes {
			other.waiters = append(other.waiters, waiter)
			waits++
		}
	}
	if len(b.pages) > 0 {
		slices.Sort(b.pages)
		c.flushes = append(c.flushes, b)
		waits++
		c.writeOn(b)
	}
	return waits
}
