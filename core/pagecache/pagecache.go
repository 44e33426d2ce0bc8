// Package pagecache is the memory that a host has for data, in virtual time: it stands
// between programs and a device, answers what it holds, reads on ahead of who reads in
// order, and takes what is written to pass it on later. It keeps no contents.
//
// The main type is Cache. Whoever drives the device hands its answers to Done, calls Wake
// when the time of Timer has come, and looks at Woken for those who waited.
//
// What it does and the defaults of its settings are those of Linux (admin-guide/sysctl/vm
// of its documentation): who writes has to wait while more than Dirty is not on the device;
// what is older than Age, or more than Background, is passed on in the order of its places;
// a flush passes on its own. Pages leave by a clock (Corbató, A paging experiment with the
// Multics system, 1968).
package pagecache

import (
	"math"

	"patientheron/core/quantity"
)

const (
	page       = 4096
	largest    = 256 // pages that are moved at once
	background = 0   // host that writes
)

// Device is what lies behind the memory.
type Device interface {
	// Submit takes an operation. It is answered by calling Done with its tag.
	Submit(tag, host int, write bool, offset int64, length int)
	// Now is the virtual time in nanoseconds.
	Now() int64
}

// Range is a part of the device, in bytes.
type Range struct{ Offset, Length int64 }

// pages are the first page of a range, and the first behind it.
func (r Range) pages() (first, behind int64) {
	return r.Offset / page, (r.Offset + r.Length + page - 1) / page
}

// Woken tells a waiter that something it waited for has come.
type Woken struct {
	Waiter int
	Failed bool
}

// Counts are what it did, and what is dirty.
type Counts struct {
	Hits, Misses int64          // pages that were asked for, and were there or had to be read for that
	Dirty        quantity.Bytes // that are not on the device
}

// Cache is the memory of a host. It is not safe for concurrent use.
type Cache struct {
	settings Settings
	device   Device

	most, limit, background int // pages
	at                      map[int64]int32
	slots                   []slot
	unused                  []int32
	hand                    int

	dirty, writing int       // pages
	dirtied        []dirtied // by time; some have lapsed
	sweep          batch     // what is written without being asked
	flushes        []*batch
	lost           bool // something could not be written, and nobody knows

	transfers []transfer
	idle      []int
	held      bool  // no page can leave until something is answered
	throttled []int // writers that wait
	woken     []Woken
	counts    Counts
}

// slot is the place of a page.
type slot struct {
	page     int64
	since    int64 // it is dirty
	transfer int32 // that moves it; none for none
	used     bool
	dirty    bool
	claimed  bool // a flush is going to write it
	ahead    bool // it was read ahead, and nobody has asked for it yet
}

const none = -1

// transfer is an operation of the device.
type transfer struct {
	first   int64
	count   int
	write   *batch // that it is of; nil for a read
	waiters []int
}

// New makes an empty memory before a device.
func New(s Settings, device Device) *Cache {
	s = s.Completed()
	c := &Cache{settings: s, device: device, most: int(s.Size / page), at: map[int64]int32{}}
	c.limit = max(int(float64(c.most)*float64(s.Dirty)), 1)
	c.background = int(float64(c.most) * float64(s.Background))
	return c
}

// CopyTime is how many nanoseconds a thread copies so many bytes.
func (c *Cache) CopyTime(length int) int64 {
	return int64(float64(length) / float64(c.settings.Throughput) * 1e9)
}

// Counts are what it did since it was made, and what is dirty now.
func (c *Cache) Counts() Counts {
	c.counts.Dirty = quantity.Bytes(c.dirty+c.writing) * page
	return c.counts
}

// Settled reports whether all that was written is on the device.
func (c *Cache) Settled() bool { return c.dirty+c.writing == 0 }

// Woken are those for whom something has come since Forget.
func (c *Cache) Woken() []Woken { return c.woken }

// Forget empties the list of those who were woken.
func (c *Cache) Forget() { c.woken = c.woken[:0] }

func (c *Cache) wake(waiter int, failed bool) { c.woken = append(c.woken, Woken{waiter, failed}) }

// Read reads for a waiter, and tells for how many wakes it has to wait: none when all is
// there. Of who reads in order more is read, up to end.
func (c *Cache) Read(waiter, host int, by *Reader, part Range, end int64) (waits int) {
	first, behind := part.pages()
	from, upto := by.ahead(part, int64(c.settings.Ahead/page), (end+page-1)/page)
	if from == behind { // the device is asked for both at once
		return c.read(waiter, host, first, behind, upto)
	}
	waits = c.read(waiter, host, first, behind, behind)
	c.read(waiter, host, from, from, upto)
	return waits
}

// read reads pages up to behind for a waiter, and from there on ahead.
func (c *Cache) read(waiter, host int, first, behind, upto int64) (waits int) {
	for p := first; p < upto; p++ {
		at, is := c.at[p]
		switch {
		case !is:
			count := int64(1)
			for p+count < upto && count < largest && !c.has(p+count) {
				count++
			}
			number := c.load(host, p, int(count))
			if p < behind {
				waits += c.waitFor(number, waiter)
			}
			for n := p; n < p+count; n++ {
				if n < behind {
					c.counts.Misses++
				} else {
					c.slots[c.at[n]].ahead = true
				}
			}
			p += count - 1
		case p < behind:
			s := &c.slots[at]
			s.used = true
			if s.transfer != none && c.transfers[s.transfer].write == nil {
				waits += c.waitFor(int(s.transfer), waiter)
			}
			if s.ahead {
				c.counts.Misses++
				s.ahead = false
			} else {
				c.counts.Hits++
			}
		}
	}
	return waits
}

func (c *Cache) has(p int64) bool {
	_, is := c.at[p]
	return is
}

// load begins to read pages that are not there.
func (c *Cache) load(host int, first int64, count int) (number int) {
	number = c.newTransfer(first, count, nil)
	for n := range count {
		c.slots[c.put(first+int64(n))].transfer = int32(number)
	}
	c.device.Submit(number, host, false, first*page, count*page)
	return number
}

// waitFor lets a waiter wait for a transfer, once.
func (c *Cache) waitFor(number, waiter int) (waits int) {
	t := &c.transfers[number]
	if n := len(t.waiters); n > 0 && t.waiters[n-1] == waiter {
		return 0
	}
	t.waiters = append(t.waiters, waiter)
	return 1
}

// Write writes for a waiter, and tells for how many wakes it has to wait: until a page was
// read that is written in part and is not there, unless it is fresh and had nothing in it;
// and while too much is dirty.
func (c *Cache) Write(waiter, host int, part Range, fresh bool) (waits int) {
	first, behind := part.pages()
	now := c.device.Now()
	for p := first; p < behind; p++ {
		at, is := c.at[p]
		switch whole := p*page >= part.Offset && (p+1)*page <= part.Offset+part.Length; {
		case is:
			c.slots[at].used = true
		case whole || fresh:
			at = c.put(p)
		default:
			waits += c.waitFor(c.load(host, p, 1), waiter)
			at = c.at[p]
		}
		if s := &c.slots[at]; !s.dirty {
			s.dirty, s.since = true, now
			c.dirty++
			c.dirtied = append(c.dirtied, dirtied{p, now})
		}
	}
	c.sweepOn()
	if c.dirty+c.writing > c.limit {
		c.throttled = append(c.throttled, waiter)
		waits++
	}
	return waits
}

// put gives a page a place: that of one that was not used for long, or one more where all
// are dirty or on their way.
func (c *Cache) put(p int64) (at int32) {
	if len(c.at) >= c.most {
		c.evict()
	}
	if n := len(c.unused); n > 0 {
		at = c.unused[n-1]
		c.unused = c.unused[:n-1]
	} else {
		at = int32(len(c.slots))
		c.slots = append(c.slots, slot{})
	}
	c.slots[at] = slot{page: p, transfer: none}
	c.at[p] = at
	return at
}

// evict takes a page out that is neither dirty nor on its way, if there is one.
func (c *Cache) evict() bool {
	if c.held {
		return false
	}
	for range 2 * len(c.slots) {
		at := int32(c.hand)
		s := &c.slots[at]
		if c.hand++; c.hand == len(c.slots) {
			c.hand = 0
		}
		if s.page == none || s.dirty || s.transfer != none || s.used {
			s.used = false
			continue
		}
		c.drop(at)
		return true
	}
	c.held = true
	return false
}

// Drop removes a part of the device: nothing of it is there, and what is dirty is never
// written.
func (c *Cache) Drop(part Range) { c.eachIn(part, c.drop) }

func (c *Cache) drop(at int32) {
	s := &c.slots[at]
	if s.dirty {
		c.dirty--
	}
	c.held = false
	delete(c.at, s.page)
	*s = slot{page: none, transfer: none}
	c.unused = append(c.unused, at)
}

// eachIn calls do for the pages of a part of the device that are there.
func (c *Cache) eachIn(part Range, do func(at int32)) {
	first, behind := part.pages()
	switch {
	case len(c.at) == 0:
		return
	case behind-first > int64(len(c.slots)):
		for at := range c.slots {
			if p := c.slots[at].page; p >= first && p < behind {
				do(int32(at))
			}
		}
		return
	}
	for p := first; p < behind; p++ {
		if at, is := c.at[p]; is {
			do(at)
		}
	}
}

func (c *Cache) newTransfer(first int64, count int, of *batch) (number int) {
	if n := len(c.idle); n > 0 {
		number = c.idle[n-1]
		c.idle = c.idle[:n-1]
	} else {
		number = len(c.transfers)
		c.transfers = append(c.transfers, transfer{})
	}
	t := &c.transfers[number]
	t.first, t.count, t.write, t.waiters = first, count, of, t.waiters[:0]
	return number
}

// Done takes an answer of the device.
func (c *Cache) Done(number int, failed bool) {
	t := &c.transfers[number]
	b, count := t.write, t.count
	c.held = false
	for n := range count {
		at, is := c.at[t.first+int64(n)]
		if !is || c.slots[at].transfer != int32(number) {
			continue // dropped, or written anew
		}
		c.slots[at].transfer = none
		if failed && b == nil && !c.slots[at].dirty {
			c.drop(at)
		}
	}
	for _, waiter := range t.waiters {
		c.wake(waiter, failed)
	}
	c.idle = append(c.idle, number)
	for len(c.at) > c.most && c.evict() {
	}
	if b != nil {
		c.wrote(b, count, failed)
	}
}

// Timer is when Wake is to be called; math.MaxInt64 for never.
func (c *Cache) Timer() int64 {
	c.dropLapsed()
	switch age := int64(c.settings.Age.Duration()); {
	case c.sweep.out > 0: // its answers come
		return math.MaxInt64
	case len(c.sweep.pages) > 0:
		return c.sweep.oldest + age
	case len(c.dirtied) > 0:
		return c.dirtied[0].at + age
	}
	return math.MaxInt64
}

// Wake lets happen what is due.
func (c *Cache) Wake() { c.sweepOn() }
