package iscsi

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/protocol/scsi"
	"patientheron/storage/volume"
)

// patience is how long is waited for what does not come.
type patience struct {
	command time.Duration // for the answer to a command; then it is called back
	abort   time.Duration // for that to be done; then the session is given up
	silence time.Duration // without a word while commands are under way; then the target is asked
	ping    time.Duration // for its answer; then the session is given up
	login   time.Duration // for a login
	giveUp  time.Duration // without any path; then operations fail
}

// usualPatience is longer than what arrays take to hand over between controllers.
var usualPatience = patience{command: 30 * time.Second, abort: 5 * time.Second, silence: 5 * time.Second, ping: 5 * time.Second, login: 10 * time.Second, giveUp: 60 * time.Second}

// lookEvery is how often what takes too long is looked for.
const lookEvery = 100 * time.Millisecond

// queue is a queue for one worker: its sessions over all portals, and the commands that
// are under way on them. A path that is lost is logged in anew on a goroutine; until then
// its commands go over others, or wait.
type queue struct {
	volume   *opened
	paths    []*path
	turnOf   int   // of the paths
	asked    int64 // operations so far
	memory   []byte
	block    int // bytes of a buffer
	stride   int // from one to the next; twice as much where it compares what was there with what is to be
	slots    []slot
	zeros    []byte  // a block of them
	homeless []int32 // slots whose command is on no path
	done     []load.Completion
	event    int     // descriptor that is signalled when a path was logged in anew
	count    [8]byte // what is read from it
	polled   []unix.PollFd
	awaited  []*path // those that are polled, in the same order
	timeout  unix.Timespec
	looked   time.Time                          // when what takes too long was looked for
	lapsed   atomic.Pointer[volume.LapsedError] // why nothing more may be written
	ctx      context.Context
	cancel   context.CancelFunc
	logins   sync.WaitGroup // that are under way
}

// slot is an operation under way.
type slot struct {
	*load.Operation
	command scsi.CDB
	data    []byte
	writes  bool
	sent    int // times
	swaps   int // times that what was read was to be written anew
	list    [scsi.CopyLength]byte
}

// mostSent is how often a command is sent that gets lost with its session, or that
// something came between.
const mostSent = 8

// path is a session of a queue, which may be down.
type path struct {
	portal  string
	options options
	session *session // nil while it is down
	ready   chan *session
	since   time.Time // when it was lost
	agreed  []measure.Agreed
	carried traffic               // over sessions that were lost
	before  traffic               // what the session carried until it was up
	why     atomic.Pointer[error] // it is down, as it was last seen
}

// traffic is what went over a path.
type traffic struct{ commands, sent, received int64 }

func (t traffic) plus(other traffic, times int64) traffic {
	return traffic{t.commands + times*other.commands, t.sent + times*other.sent, t.received + times*other.received}
}

func (s *session) traffic() traffic { return traffic{s.commands, s.Sent, s.Received} }

// over is all that was carried since the path was first up.
func (p *path) over() traffic {
	if p.session == nil {
		return p.carried
	}
	return p.carried.plus(p.session.traffic(), 1).plus(p.before, -1)
}

// failed notes why the path is down; a nil error changes nothing.
func (p *path) failed(why error) {
	if why != nil {
		p.why.Store(&why)
	}
}

// up takes a session that was logged in.
func (p *path) up(s *session) {
	p.session, p.since, p.agreed, p.before = s, time.Time{}, nil, s.traffic()
	for _, f := range s.facts {
		p.agreed = append(p.agreed, measure.Agreed{Key: f.Key, Offered: f.Offered, Answered: f.Answered, InEffect: f.InEffect, Cut: string(f.Cut)})
	}
}

func newQueue(v *opened, o load.QueueOptions) (*queue, error) {
	stride := o.LargestBlock
	if v.swaps {
		stride *= 2
	}
	q := &queue{volume: v, block: o.LargestBlock, stride: stride, slots: make([]slot, o.Depth), memory: make([]byte, o.Depth*stride), zeros: make([]byte, v.unit.BlockLength), done: make([]load.Completion, 0, o.Depth), looked: time.Now()}
	var err error
	if q.event, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err != nil {
		return nil, fmt.Errorf("get an event: %w", err)
	}
	q.ctx, q.cancel = context.WithCancel(context.Background())
	for range v.address.Sessions {
		for _, portal := range v.address.Portals {
			q.paths = append(q.paths, &path{portal: portal, options: v.options(), ready: make(chan *session, 1)})
		}
	}
	failed := q.open()
	if len(failed) == len(q.paths) {
		_ = q.Close(0)
		return nil, errors.Join(failed...)
	}
	for _, p := range q.paths {
		if p.session == nil {
			q.restore(p)
		}
	}
	for _, err := range failed {
		v.tell(volume.Event{What: volume.Lost, Words: "the path over " + err.Error()})
	}
	return q, nil
}

// open logs in over all paths at once, and gives the errors of those that are not up.
func (q *queue) open() (failed []error) {
	errs := make([]error, len(q.paths))
	var together sync.WaitGroup
	for i, p := range q.paths {
		together.Go(func() {
			s, err := q.volume.login(q.ctx, p, len(q.slots), false)
			if errs[i] = err; err == nil {
				p.up(s)
			}
		})
	}
	together.Wait()
	for _, err := range errs {
		if err != nil {
			failed = append(failed, err)
		}
	}
	return failed
}

func (q *queue) Interface() string { return "iSCSI" }

// Sessions tells what was agreed on for each path that was ever up.
func (q *queue) Sessions() (all []measure.Session) {
	asked := q.asked
	for _, p := range q.paths {
		if p.agreed != nil {
			t := p.over()
			all = measure.JoinSessions(all, []measure.Session{{Over: p.portal, Count: 1, Keys: p.agreed, Operations: asked, Commands: t.commands, Sent: t.sent, Received: t.received}})
			asked = 0 // of all paths together
		}
	}
	return all
}

func (q *queue) Buffer(number int) []byte {
	return q.memory[number*q.stride:][:q.block:q.stride]
}

func (q *queue) Submit(operations []*load.Operation) error {
	now := time.Now()
	q.asked += int64(len(operations))
	unit := int64(q.volume.unit.BlockLength)
	for _, o := range operations {
		s := &q.slots[o.Slot]
		s.Operation, s.sent, s.swaps, s.writes = o, 0, 0, o.Class != measure.Read && o.Class != measure.Swap
		at, blocks := uint64(o.Offset/unit), uint32(int64(o.Length)/unit)
		s.data = q.Buffer(o.Slot)[o.From : o.From+o.Length]
		switch o.Class {
		case measure.Read, measure.Swap: // first it is read
			s.command = scsi.Read(at, blocks)
		case measure.Write:
			s.command = scsi.Write(at, blocks)
		case measure.Trim:
			s.command, s.data = scsi.Unmap(scsi.UnmapLength), s.list[:scsi.UnmapLength]
			scsi.PutUnmapRange(s.data, at, blocks)
		case measure.Zero:
			s.command, s.data = scsi.WriteSame16(at, blocks, false), q.zeros
		case measure.Copy:
			s.command, s.data = scsi.ExtendedCopy(scsi.CopyLength), s.list[:]
			scsi.PutCopy(s.data, q.volume.name, q.volume.unit.BlockLength, scsi.Segment{From: uint64(o.Source / unit), To: at, Blocks: uint16(blocks)})
		default:
			s.command, s.data = scsi.SynchronizeCache(), nil
		}
		q.dispatch(int32(o.Slot), now)
	}
	return nil
}

// dispatch sends the command of a slot over the path whose turn it is, or lets it wait for
// one.
func (q *queue) dispatch(number int32, now time.Time) {
	s := &q.slots[number]
	p := q.choose()
	switch {
	case p == nil && q.lostFor(now) > q.volume.patience.giveUp:
		q.answer(number, 0, q.Lost())
	case p == nil:
		q.homeless = append(q.homeless, number)
	case s.sent == mostSent:
		q.answer(number, 0, syscall.ETIMEDOUT)
	default:
		s.sent++
		p.session.begin(q.volume.lun, s.command, s.data, s.writes, int(number), now)
	}
}

// Lost says why no path is up, path by path; nil when one is.
func (q *queue) Lost() error {
	words := make([]string, 0, len(q.paths))
	for _, p := range q.paths {
		if p.session != nil {
			return nil
		}
		why := p.portal + " is not reached"
		if last := p.why.Load(); last != nil {
			why = (*last).Error()
		}
		if !slices.Contains(words, why) {
			words = append(words, why)
		}
	}
	return mistake.InWords("no portal can be reached: "+strings.Join(words, "; "), syscall.ENOTCONN)
}

// choose is the path that takes the next command; nil when none is up.
func (q *queue) choose() (best *path) {
	for range q.paths {
		p := q.paths[q.turnOf]
		switch q.volume.address.Policy {
		case One:
			if p.session != nil {
				return p
			}
			q.next()
		case Least:
			if p.session != nil && (best == nil || p.session.under < best.session.under) {
				best = p
			}
			q.next()
		default:
			q.next()
			if p.session != nil {
				return p
			}
		}
	}
	return best
}

func (q *queue) next() {
	if q.turnOf++; q.turnOf == len(q.paths) {
		q.turnOf = 0
	}
}

// lostFor is since when no path is up.
func (q *queue) lostFor(now time.Time) time.Duration {
	var last time.Time
	for _, p := range q.paths {
		if p.session != nil {
			return 0
		}
		if p.since.After(last) {
			last = p.since
		}
	}
	return now.Sub(last)
}

func (q *queue) answer(number int32, bytes int, err error) {
	q.done = append(q.done, load.Completion{Slot: int(number), Bytes: bytes, Err: err})
}

func (q *queue) Collect(into []load.Completion, wait time.Duration) (int, error) {
	now := time.Now()
	for _, p := range q.paths {
		if p.session != nil && p.session.Sending() {
			if err := p.session.Flush(); err != nil {
				q.lose(p, err, now)
			}
		}
	}
	for end := now.Add(wait); ; now = time.Now() {
		if now.Sub(q.looked) >= lookEvery {
			q.looked = now
			q.look(now)
		}
		if len(q.done) == 0 {
			if err := q.poll(min(max(end.Sub(now), 0), lookEvery), now); err != nil {
				return 0, err
			}
		}
		if n := copy(into, q.done); n > 0 {
			q.done = q.done[:copy(q.done, q.done[n:])]
			return n, nil
		}
		if !now.Before(end) {
			return 0, nil
		}
	}
}

// turn lets a session receive and send, and takes what it finished.
func (q *queue) turn(p *path, now time.Time) {
	s := p.session
	err := s.turn()
	for _, number := range s.finished {
		q.finish(s, number, now)
	}
	s.finished = s.finished[:0]
	if err != nil {
		q.lose(p, err, now)
	}
}

// finish answers the operation of a task. What a unit says first, because something
// happened to it, is no answer: the command is sent again.
func (q *queue) finish(s *session, number int32, now time.Time) {
	t := &s.tasks[number]
	owner, err, moved := int32(t.owner), t.err, len(t.data)-t.residual
	s.forget(number)
	o := &q.slots[owner]
	switch {
	case err != nil:
		q.failed(o, owner, err, now)
		return
	case o.Class == measure.Swap && !o.writes:
		q.swap(o)
		q.dispatch(owner, now)
		return
	}
	if o.Class != measure.Read && o.Class != measure.Write {
		moved = o.Length
	}
	q.answer(owner, moved, nil)
}

// failed goes on with an operation whose command was not carried out, where something
// happened to the unit first or somebody was faster; otherwise that is the answer.
func (q *queue) failed(o *slot, owner int32, err error, now time.Time) {
	var why *scsi.Error
	switch {
	case !errors.As(err, &why) || why.Status != scsi.CheckCondition:
	case why.Sense.Key == scsi.UnitAttention && o.sent < mostSent:
		q.dispatch(owner, now)
		return
	case why.Sense.Key == scsi.Miscompare && o.swaps > 0 && o.swaps < mostSwaps:
		q.again(o)
		q.dispatch(owner, now)
		return
	}
	q.answer(owner, 0, err)
}

// mostSwaps is how often a range is read and compared until nobody was faster.
const mostSwaps = 64

// swap goes on with a swap whose range was read: it is to be written with a counter at its
// beginning one further, where it still is as it was read.
func (q *queue) swap(o *slot) {
	unit, length := int64(q.volume.unit.BlockLength), o.Length
	region := q.memory[o.Slot*q.stride:][:2*length]
	copy(region[length:], region[:length])
	counter := region[length:]
	binary.LittleEndian.PutUint64(counter, binary.LittleEndian.Uint64(counter)+1)
	o.command, o.data, o.writes = scsi.CompareAndWrite(uint64(o.Offset/unit), byte(int64(length)/unit)), region, true
	o.sent = 0
	o.swaps++
}

// again reads the range of a swap again.
func (q *queue) again(o *slot) {
	unit := int64(q.volume.unit.BlockLength)
	o.command, o.data, o.writes, o.sent = scsi.Read(uint64(o.Offset/unit), uint32(int64(o.Length)/unit)), q.Buffer(o.Slot)[:o.Length], false, 0
}

// poll waits until a session can go on, or a path was restored, and lets those go on.
func (q *queue) poll(wait time.Duration, now time.Time) error {
	q.polled = append(q.polled[:0], unix.PollFd{Fd: int32(q.event), Events: unix.POLLIN})
	q.awaited = q.awaited[:0]
	for _, p := range q.paths {
		if p.session == nil {
			continue
		}
		f := unix.PollFd{Fd: int32(p.session.Descriptor()), Events: unix.POLLIN}
		if p.session.Sending() {
			f.Events |= unix.POLLOUT
		}
		q.polled, q.awaited = append(q.polled, f), append(q.awaited, p)
	}
	n, err := q.wait(min(wait, briefly))
	if n == 0 && err == nil && wait > briefly {
		q.timeout = unix.NsecToTimespec(int64(wait - briefly))
		n, err = unix.Ppoll(q.polled, &q.timeout, nil)
	}
	if err != nil && err != unix.EINTR {
		return fmt.Errorf("wait for the target: %w", err)
	}
	if n <= 0 {
		return nil
	}
	if q.polled[0].Revents != 0 {
		_, _ = unix.Read(q.event, q.count[:])
		if lapsed := q.lapsed.Load(); lapsed != nil {
			return lapsed
		}
		q.restored(now)
	}
	for i, p := range q.awaited {
		if q.polled[i+1].Revents != 0 && p.session != nil {
			q.turn(p, now)
		}
	}
	return nil
}

// briefly is how long a wait may be of which the runtime is not told: so long the process
// waits for this thread at most when its memory is cleared up.
const briefly = 100 * time.Microsecond

// wait waits briefly. An answer that comes meanwhile, as most do, finds a thread that the
// runtime has not given up: getting it back takes longer than many an operation.
func (q *queue) wait(briefly time.Duration) (n int, err error) {
	q.timeout = unix.NsecToTimespec(int64(briefly))
	r, _, errno := unix.RawSyscall6(unix.SYS_PPOLL, uintptr(unsafe.Pointer(&q.polled[0])), uintptr(len(q.polled)), uintptr(unsafe.Pointer(&q.timeout)), 0, 0, 0)
	if errno != 0 {
		return 0, errno
	}
	return int(r), nil
}

// lose gives a session up. Its commands go over other paths, or wait until it is back.
func (q *queue) lose(p *path, why error, now time.Time) {
	s := p.session
	p.carried = p.over()
	p.session = nil
	p.failed(fmt.Errorf("%s: %w", p.portal, why))
	for i := range s.tasks {
		if t := &s.tasks[i]; t.busy {
			q.homeless = append(q.homeless, int32(t.owner))
		}
	}
	s.Close()
	q.volume.tell(volume.Event{What: volume.Lost, Words: fmt.Sprintf("the path over %s: %v", p.portal, why)})
	p.since = now
	q.restore(p)
	q.rehouse(now)
}

// rehouse sends what is on no path over one that is up.
func (q *queue) rehouse(now time.Time) {
	waiting := q.homeless
	q.homeless = nil
	for _, number := range waiting {
		q.dispatch(number, now)
	}
}

// restore logs in anew, as often as it takes.
func (q *queue) restore(p *path) {
	if p.since.IsZero() {
		p.since = time.Now()
	}
	q.logins.Go(func() {
		for pause := 100 * time.Millisecond; q.ctx.Err() == nil; pause = min(2*pause, 2*time.Second) {
			s, err := q.volume.login(q.ctx, p, len(q.slots), true)
			var lapsed *volume.LapsedError
			if errors.As(err, &lapsed) {
				q.lapsed.Store(lapsed)
			} else if err == nil {
				p.ready <- s
			}
			p.failed(err)
			if err == nil || lapsed != nil {
				_, _ = unix.Write(q.event, []byte{1, 0, 0, 0, 0, 0, 0, 0})
				return
			}
			select {
			case <-q.ctx.Done():
			case <-time.After(pause):
			}
		}
	})
}

// restored takes the sessions that were logged in anew.
func (q *queue) restored(now time.Time) {
	for _, p := range q.paths {
		select {
		case s := <-p.ready:
			q.volume.tell(volume.Event{What: volume.Back, Words: fmt.Sprintf("the path over %s, after %.1f s", p.portal, now.Sub(p.since).Seconds())})
			p.up(s)
		default:
		}
	}
	q.rehouse(now)
}

// look looks for commands and sessions without an answer.
func (q *queue) look(now time.Time) {
	for _, p := range q.paths {
		if s := p.session; s != nil {
			if err := s.look(now, q.volume.patience); err != nil {
				q.lose(p, err, now)
			}
		}
	}
	if q.lostFor(now) > q.volume.patience.giveUp {
		q.rehouse(now)
	}
}

// look calls commands back that were not answered for long, and asks a target that has
// not said anything whether it is there. An error gives the session up.
func (s *session) look(now time.Time, patient patience) error {
	if s.under == 0 {
		return nil
	}
	for i := range s.tasks {
		t := &s.tasks[i]
		switch late := now.Sub(t.began) - patient.command; {
		case !t.busy || late < 0:
		case late > patient.abort || !t.sent:
			return fmt.Errorf("a command was not answered for %.0f s", now.Sub(t.began).Seconds())
		case !t.aborting:
			s.abort(t)
		}
	}
	switch {
	case now.Sub(s.heard) < patient.silence:
		s.pinged = time.Time{}
	case s.pinged.IsZero():
		s.ping(now)
	case now.Sub(s.pinged) > patient.ping:
		return fmt.Errorf("the target has not said anything for %.0f s", now.Sub(s.heard).Seconds())
	}
	return nil
}

func (q *queue) Close(unanswered int) error {
	q.cancel()
	q.logins.Wait()
	var together sync.WaitGroup // a target that hangs is waited for once, and not by each
	for _, p := range q.paths {
		select {
		case p.session = <-p.ready:
		default:
		}
		switch {
		case p.session == nil:
		case unanswered > 0:
			p.session.Close() // the target gives up what was under way
		default:
			together.Go(p.session.logout)
		}
	}
	together.Wait()
	return unix.Close(q.event)
}
