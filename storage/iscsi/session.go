package iscsi

import (
	"errors"
	"fmt"
	"syscall"
	"time"

	"patientheron/protocol/iscsi"
	"patientheron/protocol/iscsi/wire"
	"patientheron/protocol/scsi"
)

// session is a logged-in connection with the commands that are under way on it, used by
// one goroutine. Commands end with finished; an error is about the session as a whole.
type session struct {
	*wire.Wire
	portal     string
	parameters iscsi.Parameters
	facts      []iscsi.Fact

	command, most uint32 // next CmdSN, and the last that may be sent
	status        uint32 // next StatSN
	commands      int64  // sent since it is up
	tasks         []task
	free          []int32
	waiting       []int32 // begun, and not sent because the target takes no more
	finished      []int32
	under         int // tasks that are busy

	text   []byte // data of what is not Data-In
	heard  time.Time
	pinged time.Time // when the target was asked whether it is there; zero when it answered
	leave  error     // the target asked for the end of the session
	spoken []byte    // text of a discovery
	broken error     // why commands can no longer be carried out one by one
}

// task is a command that is under way.
type task struct {
	tag          uint32
	busy         bool
	ended        bool // it is among those that are finished
	sent         bool
	aborting     bool
	writes       bool
	lun          uint64
	block        scsi.CDB
	data         []byte // to be read into, or written
	owner        int    // whoever began it knows it by this
	moved        int    // bytes of a read that arrived
	segment, r2t uint32 // next DataSN and R2TSN
	number       uint32 // CmdSN
	began        time.Time
	residual     int // bytes that were not moved
	err          error
}

// Place finds where the data of the PDU whose header arrived go.
func (s *session) Place(h *iscsi.Header) ([]byte, error) {
	length := h.DataLength()
	if length > s.parameters.TakeSegment {
		return nil, tooLong(h, s.parameters.TakeSegment)
	}
	if h.Opcode() == iscsi.DataIn {
		return s.placeRead(h, length)
	}
	if cap(s.text) < length {
		s.text = make([]byte, length)
	}
	return s.text[:length], nil
}

// placeRead finds where data that were read go, and checks that they come in order.
func (s *session) placeRead(h *iscsi.Header, length int) ([]byte, error) {
	t, err := s.task(h)
	if err != nil {
		return nil, err
	}
	switch {
	case t.writes || !t.sent:
		return nil, fmt.Errorf("%w: data for a command that reads nothing", iscsi.ErrProtocol)
	case h.DataNumber() != t.segment:
		return nil, fmt.Errorf("%w: DataSN %d came in the place of %d", iscsi.ErrProtocol, h.DataNumber(), t.segment)
	case int(h.Offset()) != t.moved:
		return nil, fmt.Errorf("%w: data at %d came in the place of those at %d", iscsi.ErrProtocol, h.Offset(), t.moved)
	case t.moved+length > len(t.data):
		return nil, fmt.Errorf("%w: %d bytes of data for a command that reads %d", iscsi.ErrProtocol, t.moved+length, len(t.data))
	}
	t.segment++
	t.moved += length
	return t.data[t.moved-length : t.moved], nil
}

// task finds what a PDU is about.
func (s *session) task(h *iscsi.Header) (*task, error) {
	number := int(h.Tag() & 0xffff)
	if number >= len(s.tasks) || !s.tasks[number].busy || s.tasks[number].ended || s.tasks[number].tag != h.Tag() {
		return nil, fmt.Errorf("%w: a %s about a task that there is not", iscsi.ErrProtocol, h.Opcode())
	}
	return &s.tasks[number], nil
}

// begin sends a command, or lets it wait for room. There has to be a free task. The data
// stay where they are until it is finished.
func (s *session) begin(lun uint64, block scsi.CDB, data []byte, writes bool, owner int, now time.Time) {
	number := s.free[len(s.free)-1]
	s.free = s.free[:len(s.free)-1]
	t := &s.tasks[number]
	*t = task{tag: (t.tag+1<<16)&0x7fff0000 | uint32(number), busy: true, writes: writes, lun: lun, block: block, data: data, owner: owner, began: now}
	s.under++
	if len(s.waiting) > 0 || !s.mayCommand() {
		s.waiting = append(s.waiting, number)
		return
	}
	s.send(t)
}

func (s *session) mayCommand() bool { return !iscsi.Before(s.most, s.command) }

// send sends a command, with as much of what it writes as goes unasked.
func (s *session) send(t *task) {
	t.sent, t.number = true, s.command
	s.command++
	s.commands++
	h := iscsi.NewHeader(iscsi.Command)
	h.SetFlags(iscsi.SimpleTask)
	h.SetLUN(t.lun)
	h.SetTag(t.tag)
	h.SetExpectedLength(uint32(len(t.data)))
	h.SetCommandNumber(t.number)
	h.SetExpectedStatus(s.status)
	copy(h.Block(), t.block[:])
	p := &s.parameters
	unasked, along := 0, 0
	switch {
	case len(t.data) == 0:
	case !t.writes:
		h.SetFlags(iscsi.ReadsFlag)
	default:
		h.SetFlags(iscsi.WritesFlag)
		if p.ImmediateData {
			along = min(len(t.data), p.FirstBurst, p.SendSegment)
		}
		if unasked = along; !p.InitialR2T {
			unasked = min(len(t.data), p.FirstBurst)
		}
		h.SetFinal(unasked == along)
	}
	s.Put(&h, t.data[:along])
	if unasked > along {
		s.sendData(t, iscsi.NoTag, along, unasked-along)
	}
}

// sendData sends a sequence of what a command writes.
func (s *session) sendData(t *task, transfer uint32, from, length int) {
	for number := uint32(0); length > 0; number++ {
		part := min(length, s.parameters.SendSegment)
		h := iscsi.NewHeader(iscsi.DataOut)
		h.SetFinal(part == length)
		h.SetLUN(t.lun)
		h.SetTag(t.tag)
		h.SetTargetTag(transfer)
		h.SetExpectedStatus(s.status)
		h.SetDataNumber(number)
		h.SetOffset(uint32(from))
		s.Put(&h, t.data[from:from+part])
		from, length = from+part, length-part
	}
}

// turn sends and receives whatever goes without waiting.
func (s *session) turn() error {
	if err := s.Flush(); err != nil {
		return err
	}
	arrived, err := s.Fill()
	if err != nil {
		return err
	}
	if arrived {
		s.heard = time.Now()
	}
	if err := s.Deliver(s); err != nil {
		return err
	}
	for len(s.waiting) > 0 && s.mayCommand() {
		number := s.waiting[0]
		s.waiting = s.waiting[:copy(s.waiting, s.waiting[1:])]
		s.send(&s.tasks[number])
	}
	if s.leave != nil {
		return s.leave
	}
	return s.Flush()
}

// Take takes a PDU that is there whole.
func (s *session) Take(h *iscsi.Header, data []byte) error {
	if most := h.MostCommand(); !iscsi.Before(most+1, h.ExpectedCommand()) && iscsi.Before(s.most, most) {
		s.most = most
	}
	switch h.Opcode() {
	case iscsi.DataIn:
		t, err := s.task(h)
		if err != nil || h.Flags()&iscsi.StatusFlag == 0 {
			return err
		}
		if err := s.statusArrived(h); err != nil {
			return err
		}
		return s.finish(t, h, nil)
	case iscsi.Response:
		if err := s.statusArrived(h); err != nil {
			return err
		}
		t, err := s.task(h)
		if err != nil {
			return err
		}
		return s.finish(t, h, data)
	case iscsi.ReadyToTake:
		return s.readyToTake(h)
	case iscsi.NopIn:
		return s.nop(h, data)
	case iscsi.TaskResponse:
		if err := s.statusArrived(h); err != nil {
			return err
		}
		return s.aborted(h)
	case iscsi.TextResponse:
		if err := s.statusArrived(h); err != nil {
			return err
		}
		return s.textArrived(h, data)
	case iscsi.LogoutResponse:
		s.leave = errLeft
		return nil
	case iscsi.Reject:
		return fmt.Errorf("the target rejects what was sent: %s", iscsi.RejectInWords(h.Answer()))
	case iscsi.Asynchronous:
		return s.event(h)
	}
	return fmt.Errorf("%w: a %s, which a target does not send", iscsi.ErrProtocol, h.Opcode())
}

// errLeft is the end of a session that was asked for.
var errLeft = errors.New("logged out")

// statusArrived counts an answer that has a number.
func (s *session) statusArrived(h *iscsi.Header) error {
	if h.StatusNumber() != s.status {
		return fmt.Errorf("%w: StatSN %d came in the place of %d", iscsi.ErrProtocol, h.StatusNumber(), s.status)
	}
	s.status++
	return nil
}

// finish ends a command with its status, and the sense data that came along.
func (s *session) finish(t *task, h *iscsi.Header, data []byte) error {
	if h.Opcode() == iscsi.Response && h.Answer() != 0 {
		t.err = fmt.Errorf("the target could not carry it out (response 0x%02x): %w", h.Answer(), syscall.EIO)
	} else if h.Status() != scsi.Good && h.Status() != scsi.ConditionMet {
		failed := &scsi.Error{Status: h.Status()}
		if len(data) >= 2 {
			failed.Sense = scsi.ParseSense(data[2:min(len(data), 2+int(data[0])<<8+int(data[1]))])
		}
		t.err = failed
	}
	if h.Flags()&iscsi.ShortFlag != 0 {
		if t.residual = int(h.Residual()); t.residual < 0 || t.residual > len(t.data) {
			return fmt.Errorf("%w: %d bytes of %d were not moved", iscsi.ErrProtocol, h.Residual(), len(t.data))
		}
	}
	if t.err == nil && !t.writes && len(t.data) > 0 && t.moved+t.residual < len(t.data) {
		return fmt.Errorf("%w: a read of %d bytes ended after %d", iscsi.ErrProtocol, len(t.data), t.moved)
	}
	s.end(t)
	return nil
}

// end puts a task among those that are finished.
func (s *session) end(t *task) {
	t.ended = true
	s.finished = append(s.finished, int32(t.tag&0xffff))
}

// forget gives a task that was finished free.
func (s *session) forget(number int32) {
	t := &s.tasks[number]
	t.busy, t.data = false, nil
	s.free = append(s.free, number)
	s.under--
}

// readyToTake sends what the target asks for.
func (s *session) readyToTake(h *iscsi.Header) error {
	t, err := s.task(h)
	if err != nil {
		return err
	}
	from, length := int(h.Offset()), int(h.DesiredLength())
	switch {
	case !t.writes || !t.sent:
		return fmt.Errorf("%w: it asks for the data of a command that writes nothing", iscsi.ErrProtocol)
	case h.DataNumber() != t.r2t:
		return fmt.Errorf("%w: R2TSN %d came in the place of %d", iscsi.ErrProtocol, h.DataNumber(), t.r2t)
	case length == 0 || length > s.parameters.MaxBurst || from+length > len(t.data) || h.TargetTag() == iscsi.NoTag:
		return fmt.Errorf("%w: it asks for %d bytes from %d on of %d", iscsi.ErrProtocol, length, from, len(t.data))
	}
	t.r2t++
	s.sendData(t, h.TargetTag(), from, length)
	return nil
}

// nop answers when the target asks whether somebody is there, or notes that it is.
func (s *session) nop(h *iscsi.Header, data []byte) error {
	if h.Tag() != iscsi.NoTag {
		s.pinged = time.Time{}
		return s.statusArrived(h)
	}
	if h.TargetTag() == iscsi.NoTag {
		return nil
	}
	answer := iscsi.NewHeader(iscsi.NopOut)
	answer.SetImmediate()
	answer.SetLUN(h.LUN())
	answer.SetTag(iscsi.NoTag)
	answer.SetTargetTag(h.TargetTag())
	answer.SetCommandNumber(s.command)
	answer.SetExpectedStatus(s.status)
	s.Put(&answer, append([]byte(nil), data...))
	return nil
}

// ping asks whether the target is there.
func (s *session) ping(now time.Time) {
	h := iscsi.NewHeader(iscsi.NopOut)
	h.SetImmediate()
	h.SetTag(pingTag)
	h.SetTargetTag(iscsi.NoTag)
	h.SetCommandNumber(s.command)
	h.SetExpectedStatus(s.status)
	s.Put(&h, nil)
	s.pinged = now
}

// Tags of what is no command; those of commands have the highest bit clear.
const (
	pingTag   = 0x80000001
	textTag   = 0x80000002
	logoutTag = 0x80000003
	abortTags = 0x90000000 // with the number of the task
)

// abort asks the target to give up a command.
func (s *session) abort(t *task) {
	t.aborting = true
	h := iscsi.NewHeader(iscsi.TaskRequest)
	h.SetImmediate()
	h.SetFlags(iscsi.AbortTask)
	h.SetLUN(t.lun)
	h.SetTag(abortTags | t.tag&0xffff)
	h.SetReferencedTag(t.tag)
	h.SetReferencedNumber(t.number)
	h.SetCommandNumber(s.command)
	h.SetExpectedStatus(s.status)
	s.Put(&h, nil)
}

// aborted ends a command that the target gave up. One that it does not know was answered
// before.
func (s *session) aborted(h *iscsi.Header) error {
	number := int(h.Tag() & 0xffff)
	if h.Tag()&^0xffff != abortTags || number >= len(s.tasks) {
		return fmt.Errorf("%w: an answer to a task management request that was not made", iscsi.ErrProtocol)
	}
	t := &s.tasks[number]
	if !t.busy || t.ended || !t.aborting {
		return nil
	}
	if h.Answer() != iscsi.TaskDone {
		return fmt.Errorf("a command was not answered, and the target does not give it up (response %d): %w", h.Answer(), syscall.ETIMEDOUT)
	}
	t.err = syscall.ETIMEDOUT
	s.end(t)
	return nil
}

// event takes an asynchronous message.
func (s *session) event(h *iscsi.Header) error {
	if err := s.statusArrived(h); err != nil {
		return err
	}
	switch h.Event() {
	case iscsi.EventLogout, iscsi.EventConnection, iscsi.EventSession:
		s.leave = errors.New("the target ends the session")
	}
	return nil
}
