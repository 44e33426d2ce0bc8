package iscsi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/protocol/iscsi"
	"patientheron/protocol/iscsi/wire"
	"patientheron/protocol/scsi"
)

// options are what a session is opened with.
type options struct {
	name     string // of the initiator
	target   string // "" for discovery
	session  [6]byte
	wishes   iscsi.Wishes
	secret   iscsi.Proof
	expected iscsi.Proof
}

const (
	mostRedirects = 4
	controlTasks  = 2 // beside those of the queue
)

// login opens a session at a portal with room for so many commands under way.
func login(ctx context.Context, portal string, o options, depth int) (*session, error) {
	for range mostRedirects {
		s, err := loginAt(ctx, portal, o, depth)
		var elsewhere *iscsi.RedirectError
		if !errors.As(err, &elsewhere) {
			return s, err
		}
		if portal, _, err = parsePortal(elsewhere.To); err != nil {
			return nil, fmt.Errorf("%s: the target sends to %q: %w", portal, elsewhere.To, err)
		}
	}
	return nil, fmt.Errorf("%s: it was sent from one portal to another %d times", portal, mostRedirects)
}

func loginAt(ctx context.Context, portal string, o options, depth int) (_ *session, err error) {
	w, err := wire.Dial(ctx, portal)
	if err != nil {
		return nil, err
	}
	s := &session{Wire: w, portal: portal, tasks: make([]task, depth+controlTasks), parameters: iscsi.Parameters{TakeSegment: 8192, SendSegment: 8192}}
	defer func() {
		if err != nil {
			w.Close()
			if errors.Is(err, wire.ErrClosed) && o.secret.Secret == "" { // some say no more than that
				err = fmt.Errorf("%w; it may want a user and a secret", err)
			}
			err = fmt.Errorf("%s: log in: %w", portal, err)
		}
	}()
	for i := range s.tasks {
		s.free = append(s.free, int32(len(s.tasks)-1-i))
	}
	l := iscsi.NewLogin(iscsi.LoginOptions{Name: o.name, Target: o.target, Session: o.session, Wishes: o.wishes, Proof: o.secret, Expected: o.expected, FirstTask: 1})
	for next, done := l.First(), false; !done; {
		s.Put(&next.Header, next.Data)
		answer, err := s.one(ctx)
		if err != nil {
			return nil, err
		}
		if next, done, err = l.Next(answer); err != nil {
			return nil, err
		}
	}
	n := l.Negotiation()
	s.parameters, s.facts = n.Parameters(), n.Facts()
	s.HeaderDigest, s.DataDigest = s.parameters.HeaderDigest, s.parameters.DataDigest
	s.command, s.most, s.status = l.Command, l.MostCommand, l.ExpectedStatus()
	s.heard = time.Now()
	return s, nil
}

// one waits for a single PDU, as in a login.
func (s *session) one(ctx context.Context) (p iscsi.PDU, err error) {
	o := &onlyOne{most: s.parameters.TakeSegment}
	for {
		if err := s.Flush(); err != nil {
			return p, err
		}
		if err := s.Deliver(o); err != nil || o.arrived {
			return o.PDU, err
		}
		if err := s.await(ctx); err != nil {
			return p, err
		}
		if _, err := s.Fill(); err != nil {
			return p, err
		}
	}
}

// onlyOne takes one PDU, and no other before it was answered.
type onlyOne struct {
	iscsi.PDU
	most    int
	arrived bool
}

func (o *onlyOne) Place(h *iscsi.Header) ([]byte, error) {
	if h.DataLength() > o.most {
		return nil, tooLong(h, o.most)
	}
	return make([]byte, h.DataLength()), nil
}

func (o *onlyOne) Take(h *iscsi.Header, data []byte) error {
	if o.arrived {
		return fmt.Errorf("%w: two answers to one request of a login", iscsi.ErrProtocol)
	}
	o.PDU, o.arrived = iscsi.PDU{Header: *h, Data: data}, true
	return nil
}

func tooLong(h *iscsi.Header, most int) error {
	return fmt.Errorf("%w: a %s with %d bytes of data, and %d are the most that were agreed on", iscsi.ErrProtocol, h.Opcode(), h.DataLength(), most)
}

// await waits until something can be received, or sent where that is wanted.
func (s *session) await(ctx context.Context) error {
	for {
		const look = 50 * time.Millisecond // the end of a context is seen this late
		if err := ctx.Err(); err != nil {
			if errors.Is(err, context.DeadlineExceeded) {
				return fmt.Errorf("it does not answer: %w", syscall.ETIMEDOUT)
			}
			return err
		}
		polled := []unix.PollFd{{Fd: int32(s.Descriptor()), Events: unix.POLLIN}}
		if s.Sending() {
			polled[0].Events |= unix.POLLOUT
		}
		n, err := unix.Poll(polled, int(look/time.Millisecond))
		if err != nil && err != unix.EINTR {
			return err
		}
		if n > 0 {
			return nil
		}
	}
}

// say asks a question of a discovery session.
func (s *session) say(t iscsi.Text, transfer uint32) {
	h := iscsi.NewHeader(iscsi.TextRequest)
	h.SetTag(textTag)
	h.SetTargetTag(transfer)
	h.SetCommandNumber(s.command)
	h.SetExpectedStatus(s.status)
	s.command++
	s.Put(&h, t.Append(nil))
}

func (s *session) textArrived(h *iscsi.Header, data []byte) error {
	const most = 1 << 20 // of the answer to a discovery
	if s.spoken = append(s.spoken, data...); len(s.spoken) > most {
		return fmt.Errorf("%w: an answer of more than %d bytes", iscsi.ErrProtocol, most)
	}
	if !h.Final() || h.Continues() {
		s.say(nil, h.TargetTag())
		return nil
	}
	s.leave = errLeft // all was said
	return nil
}

// logout ends the session in good order, as far as that goes within a short time.
func (s *session) logout() {
	if s.broken != nil {
		s.Close()
		return
	}
	h := iscsi.NewHeader(iscsi.LogoutRequest)
	h.SetImmediate()
	h.SetFlags(iscsi.CloseSession)
	h.SetTag(logoutTag)
	h.SetCommandNumber(s.command)
	h.SetExpectedStatus(s.status)
	s.Put(&h, nil)
	ctx, cancel := context.WithTimeout(context.Background(), politeness)
	defer cancel()
	for s.leave = nil; s.turn() == nil; {
		if s.await(ctx) != nil {
			break
		}
	}
	s.Close()
}

// politeness is how long the answer to a logout is waited for.
const politeness = 500 * time.Millisecond

// do carries out one command and waits for it. It gives how many bytes were moved. What
// fails on the way is the end of the session, since the command may still be under way.
func (s *session) do(ctx context.Context, lun uint64, block scsi.CDB, data []byte, writes bool) (int, error) {
	if s.broken == nil && len(s.free) == 0 {
		s.broken = errors.New("every task of the session is taken")
	}
	if s.broken != nil {
		return 0, s.broken
	}
	s.begin(lun, block, data, writes, -1, time.Now())
	number, err := s.outcome(ctx)
	if err != nil {
		s.broken = err
		return 0, err
	}
	t := &s.tasks[number]
	moved, err := len(t.data)-t.residual, t.err
	s.forget(number)
	return moved, err
}

// doAll carries out reads, as many at a time as the session has room for, each answer within the
// patience. Where one fails it gives its number; what was under way then is the end of the session.
func (s *session) doAll(ctx context.Context, patience time.Duration, lun uint64, blocks []scsi.CDB, into [][]byte) (failed int, err error) {
	if s.broken != nil {
		return 0, s.broken
	}
	room, refused := max(len(s.free)-controlTasks, 1), 0
	for begun, ended := 0, 0; ended < len(blocks); ended++ {
		for begun < len(blocks) && begun-ended < room {
			s.begin(lun, blocks[begun], into[begun], false, begun, time.Now())
			begun++
		}
		within, done := context.WithTimeout(ctx, patience)
		number, err := s.outcome(within)
		done()
		if err != nil {
			s.broken = err
			return ended, err
		}
		t := &s.tasks[number]
		owner, err := t.owner, t.err
		if err == nil && t.residual > 0 {
			err = io.ErrUnexpectedEOF
		}
		s.forget(number)
		if tooMany(err) && refused < len(blocks) { // it takes one at a time, then
			room, refused = 1, refused+1
			s.begin(lun, blocks[owner], into[owner], false, owner, time.Now())
			ended--
			continue
		}
		if err != nil {
			s.broken = err
			return owner, err
		}
	}
	return 0, nil
}

// tooMany reports a target that takes no more commands for now.
func tooMany(err error) bool {
	var failed *scsi.Error
	return errors.As(err, &failed) && (failed.Status == scsi.Busy || failed.Status == scsi.TaskSetFull)
}

// outcome waits until a task is finished.
func (s *session) outcome(ctx context.Context) (number int32, err error) {
	for {
		if err := s.turn(); err != nil {
			return 0, err
		}
		if len(s.finished) > 0 {
			number = s.finished[0]
			s.finished = s.finished[:copy(s.finished, s.finished[1:])]
			return number, nil
		}
		if err := s.await(ctx); err != nil {
			return 0, err
		}
	}
}
