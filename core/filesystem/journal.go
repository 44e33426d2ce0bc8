package filesystem

import (
	"math"
	"slices"
)

// journal is where changed blocks of metadata go before they go to their places. One
// transaction is committed at a time; who asks meanwhile waits for the next, together
// with all others who do.
type journal struct {
	start, length uint32 // blocks
	head          uint32 // within
	live          uint32 // blocks whose contents are not in their places yet
	since         uint32 // of those, that were written since the writing back began

	running    transaction
	in         map[uint32]bool // blocks that the running transaction has
	committing transaction
	state      commitState
	again      bool // somebody waits for the running transaction
	parts      int  // operations of the commit that are not answered
	failed     bool
	commitAt   int64 // when the running one is committed without being asked

	old     map[uint32]bool // committed, and not in their places
	list    []uint32        // of those, what is being written back, in order
	writing int             // operations of that which are not answered
	backAt  int64           // when writing back begins without being asked
	ending  bool            // the list is written: the device flushes, and the journal's beginning moves
	full    bool            // a commit waits for room
}

type transaction struct {
	serial  uint64
	blocks  []uint32
	waiters []int // activities
}

// run is blocks that are written together.
type run struct{ start, count uint32 }

type commitState uint8

const (
	resting commitState = iota
	writingBlocks
	flushingBlocks
	writingCommit
	flushingCommit
)

const (
	mostWriting = 32              // operations of writing back at a time
	mostRun     = 16              // blocks of each
	backAfter   = int64(30 * 1e9) // after the first commit
	largestPart = 1 << 20
)

func (j *journal) reset(start, length uint32) {
	*j = journal{start: start, length: length, in: map[uint32]bool{}, old: map[uint32]bool{}, commitAt: math.MaxInt64, backAt: math.MaxInt64}
	j.running.serial = 1
}

// change notes that blocks of metadata were changed, in the running transaction.
func (f *FS) change(blocks ...uint32) {
	j := &f.journal
	for _, b := range blocks {
		if j.in[b] {
			continue
		}
		if len(j.running.blocks) == 0 {
			j.commitAt = f.device.Now() + int64(f.settings.Commit.Duration())
		}
		j.in[b] = true
		j.running.blocks = append(j.running.blocks, b)
		f.cache.setDirty(b, true)
	}
	if len(j.running.blocks) > int(j.length/4) {
		f.commit()
	}
}

// await lets an activity wait until a transaction is on stable storage: for the device
// alone where it is already.
func (f *FS) await(number int, serial uint64) {
	j := &f.journal
	switch {
	case serial == j.running.serial && len(j.running.blocks) > 0:
		j.running.waiters = append(j.running.waiters, number)
		f.commit()
	case serial == j.committing.serial && j.state != resting:
		j.committing.waiters = append(j.committing.waiters, number)
	default:
		f.device.Submit(tagOf(number, ofActivity), f.activities[number].queue, Flush, 0, 0)
	}
}

// commit begins to commit the running transaction, or notes that somebody asked.
func (f *FS) commit() {
	j := &f.journal
	if len(j.running.blocks) == 0 {
		return
	}
	if j.state != resting {
		j.again = true
		return
	}
	need := uint32(len(j.running.blocks)) + 2
	if j.live+need > j.length && j.live > 0 {
		j.full = true
		f.writeBack()
		return
	}
	j.committing, j.running = j.running, transaction{serial: j.running.serial + 1, blocks: j.committing.blocks[:0], waiters: j.committing.waiters[:0]}
	clear(j.in)
	j.again, j.commitAt, j.failed = false, math.MaxInt64, false
	j.live += need
	j.since += need
	j.state = writingBlocks
	f.log(need - 1)
}

// log writes blocks to the journal, from its end on to its beginning.
func (f *FS) log(count uint32) {
	j := &f.journal
	for count > 0 {
		part := min(count, j.length-j.head, largestPart/block)
		j.parts++
		f.counts.Written += int64(part) * block
		f.device.Submit(tagOf(0, ofJournal), background, Write, int64(j.start+j.head)*block, int(part)*block)
		j.head = (j.head + part) % j.length
		count -= part
	}
}

// committed is called when an operation of a commit was answered.
func (f *FS) committed(failed bool) {
	j := &f.journal
	j.failed = j.failed || failed
	if j.parts--; j.parts > 0 {
		return
	}
	switch j.state {
	case writingBlocks, writingCommit:
		j.state++
		j.parts = 1
		f.device.Submit(tagOf(0, ofJournal), background, Flush, 0, 0)
		return
	case flushingBlocks:
		j.state = writingCommit
		f.log(1)
		return
	}
	j.state = resting
	f.counts.Commits++
	for _, b := range j.committing.blocks {
		j.old[b] = true
	}
	if j.backAt == math.MaxInt64 && len(j.old) > 0 {
		j.backAt = f.device.Now() + backAfter
	}
	for _, waiting := range j.committing.waiters {
		f.partDone(waiting, j.failed)
	}
	j.committing.waiters = j.committing.waiters[:0]
	if j.live > j.length/2 {
		f.writeBack()
	}
	if j.again || len(j.running.waiters) > 0 {
		f.commit()
	}
}

// writeBack begins to write what was committed to its places.
func (f *FS) writeBack() {
	j := &f.journal
	if j.writing > 0 || j.ending || len(j.list) > 0 {
		return
	}
	j.list = j.list[:0]
	for b := range j.old {
		j.list = append(j.list, b)
	}
	slices.Sort(j.list)
	clear(j.old)
	j.since, j.backAt = 0, math.MaxInt64
	f.writeOn()
}

// writeOn writes more of the list. What has changed once more is left out: it is in a
// later transaction.
func (f *FS) writeOn() {
	j := &f.journal
	for j.writing < mostWriting && len(j.list) > 0 {
		if j.in[j.list[0]] {
			j.list = j.list[1:]
			continue
		}
		r := run{j.list[0], 0}
		for r.count < mostRun && len(j.list) > 0 && j.list[0] == r.start+r.count && !j.in[j.list[0]] {
			f.cache.setDirty(j.list[0], j.old[j.list[0]])
			j.list = j.list[1:]
			r.count++
		}
		j.writing++
		f.counts.Written += int64(r.count) * block
		f.device.Submit(tagOf(0, ofBack), background, Write, int64(r.start)*block, int(r.count)*block)
	}
	if j.writing == 0 && len(j.list) == 0 && !j.ending {
		j.ending = true
		j.writing = 1
		f.device.Submit(tagOf(0, ofBack), background, Flush, 0, 0)
	}
}

// wroteBack is called when an operation of writing back was answered.
func (f *FS) wroteBack() {
	j := &f.journal
	j.writing--
	if !j.ending {
		f.writeOn()
		return
	}
	j.ending = false
	j.live = j.since
	j.list = nil
	if j.full {
		j.full = false
		f.commit()
	}
}
