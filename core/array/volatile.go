package array

import (
	"math"
	"slices"
)

// volatileFlash is what an SSD without capacitors has accepted and not programmed yet: pages with
// the time at which each is on a die. Most drives that are sold for servers keep it through a
// power cut, most others do not.
type volatileFlash struct {
	pages []accepted // in the order in which they were accepted
	last  float64    // when the last of all is programmed
	lost  int64      // bytes
}

// accepted is a page that a drive has taken.
type accepted struct {
	page    int64
	done    float64
	command int32 // that is not answered yet: what a power cut empties it brings again; -1 for none
}

// writePage writes a page of a command and tells when it counts as written: for work that has to
// last, when it is on a die.
func (m *member) writePage(a *Array, id int32, page int64, die int) float64 {
	counts, done := m.flash.write(float64(a.now), page, die, m.takes(a), m.slow)
	v := m.flash.volatile
	if v == nil {
		return counts
	}
	v.settle(a, m)
	v.pages = append(v.pages, accepted{page, done, id})
	v.last = max(v.last, done)
	if a.jobs.at(a.commands.at(id).job).lasting {
		return max(counts, v.last)
	}
	return counts
}

// settle forgets the oldest pages as far as they are programmed.
func (v *volatileFlash) settle(a *Array, m *member) {
	first := 0
	for ; first < len(v.pages) && v.pages[first].done <= float64(a.now); first++ {
		if page := v.pages[first].page; a.watch != nil {
			a.watch.reached(m.number, page*pageSize, (page+1)*pageSize)
		}
	}
	v.pages = v.pages[first:]
}

// answered notes that a command is answered, so that its pages are the drive's to keep.
func (v *volatileFlash) answered(id int32) {
	for i := range v.pages {
		if v.pages[i].command == id {
			v.pages[i].command = -1
		}
	}
}

// flush lets a job wait until every page that was accepted is on a die. One that is programmed
// with others that are yet to come has to wait for none of them: the page is filled up.
func (v *volatileFlash) flush(a *Array, m *member, n int32) {
	if v.last <= float64(a.now) {
		return
	}
	id := a.commands.take()
	*a.commands.at(id) = command{job: n, member: int32(m.number), step: commandDone, piece: piece{member: m.number, write: true}}
	a.jobs.at(n).pending++
	m.waiting++
	a.events.add(int64(math.Ceil(v.last)), partGoesOn, id)
}

// lose removes what was answered and is on no die yet.
func (v *volatileFlash) lose(now float64) {
	pages := map[int64]bool{}
	v.pages = slices.DeleteFunc(v.pages, func(p accepted) bool {
		if p.done <= now || p.command >= 0 {
			return false
		}
		pages[p.page] = true
		return true
	})
	v.lost += int64(len(pages)) * pageSize
}

// volatile reports a drive that answers for writes out of memory that a power cut empties.
func (m *member) volatile() bool {
	return m.disk != nil && m.disk.cache != nil || m.flash != nil && m.flash.volatile != nil
}
