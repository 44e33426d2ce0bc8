package iscsi

import (
	"errors"
	"fmt"
	"runtime"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/protocol/iscsi"
	"patientheron/protocol/iscsi/wire"
	"patientheron/protocol/scsi"
)

const (
	mostCommands   = 256 // under way on a connection
	mostParameters = 1 << 20
	mostLoginData  = 64 << 10
	loginPatience  = 30 * time.Second
	immediateSpare = 8 // commands that may come outside the order
)

// connection is a session with its one connection, driven by one thread.
type connection struct {
	*wire.Wire
	server *Server
	local  string

	login      *iscsi.Accept // until it is through
	parameters iscsi.Parameters
	initiator  string
	target     string
	isid       [6]byte
	number     int // among all sessions

	status   uint32 // next StatSN
	expected uint32 // next CmdSN
	commands []command
	free     []*command
	byTag    map[uint32]*command
	current  *command             // whose header has arrived
	scratch  []byte               // where data go that nobody wants
	text     []byte               // of a request that is not whole yet
	copied   map[byte]scsi.Copied // what became of lists of copies, for who asks for it
	leaving  bool                 // when all is sent

	event    int     // descriptor that rouses the thread
	roused   [8]byte // what is read from it
	mutex    sync.Mutex
	finished []*command // by the disk
	taken    []*command
	asleep   bool
	stopped  bool
}

func newConnection(s *Server, w *wire.Wire, local string) (*connection, error) {
	c := &connection{
		Wire: w, server: s, local: local, login: iscsi.NewAccept(s.admission), byTag: map[uint32]*command{},
		commands: make([]command, mostCommands+immediateSpare), scratch: make([]byte, mostLoginData),
	}
	var err error
	if c.event, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err != nil {
		return nil, err
	}
	for i := range c.commands {
		d := &c.commands[i]
		d.of = c
		d.op.Done = d.done
		c.free = append(c.free, d)
	}
	return c, nil
}

func (c *connection) close() {
	c.Wire.Close()
	_ = unix.Close(c.event)
}

// stop ends the connection from outside.
func (c *connection) stop() {
	c.mutex.Lock()
	c.stopped = true
	c.mutex.Unlock()
	c.rouse()
}

func (c *connection) rouse() { _, _ = unix.Write(c.event, one) }

// done is called by the disk, from any goroutine.
func (d *command) done(failed bool) {
	c := d.of
	d.failed = failed
	c.mutex.Lock()
	c.finished = append(c.finished, d)
	rouse := c.asleep
	c.asleep = false
	c.mutex.Unlock()
	if rouse {
		c.rouse()
	}
}

// errStopped is the end that was asked for.
var errStopped = errors.New("the target ended it")

// run drives the connection until it ends. What the disk then has under way is not answered
// any more.
func (c *connection) run() error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	began := time.Now()
	polled := []unix.PollFd{{Fd: int32(c.Descriptor())}, {Fd: int32(c.event), Events: unix.POLLIN}}
	for {
		c.answer()
		err := c.Flush()
		switch {
		case err != nil:
			return err
		case c.leaving && !c.Sending():
			return nil
		case c.login != nil && time.Since(began) > loginPatience:
			return fmt.Errorf("a login that does not end: %w", syscall.ETIMEDOUT)
		}
		if err := c.sleep(polled); err != nil {
			return err
		}
		if polled[0].Revents&^unix.POLLOUT == 0 {
			continue
		}
		if _, err := c.Fill(); errors.Is(err, wire.ErrClosed) {
			return nil
		} else if err != nil {
			return err
		}
		if err := c.Deliver(c); err != nil {
			return err
		}
	}
}

// sleep waits until there is something to do.
func (c *connection) sleep(polled []unix.PollFd) error {
	c.mutex.Lock()
	stopped, ready := c.stopped, len(c.finished) > 0
	c.asleep = !ready && !stopped
	c.mutex.Unlock()
	if stopped {
		return errStopped
	}
	wait := 1000 // milliseconds; a login that does not end is seen
	if ready {
		wait = 0
	}
	polled[0].Events = unix.POLLIN
	if c.Sending() {
		polled[0].Events |= unix.POLLOUT
	}
	_, err := unix.Poll(polled, wait)
	c.mutex.Lock()
	c.asleep = false // nobody rouses a connection that has ended
	c.mutex.Unlock()
	if polled[1].Revents != 0 {
		_, _ = unix.Read(c.event, c.roused[:])
	}
	if err == unix.EINTR {
		return nil
	}
	return err
}

// Place says where the data of a PDU go.
func (c *connection) Place(h *iscsi.Header) ([]byte, error) {
	length := h.DataLength()
	if c.login != nil {
		if length > mostLoginData {
			return nil, fmt.Errorf("%w: a login with %d bytes", iscsi.ErrProtocol, length)
		}
		return make([]byte, length), nil
	}
	if length > c.parameters.TakeSegment {
		return nil, fmt.Errorf("%w: %d bytes of data, and %d are the most that were agreed on", iscsi.ErrProtocol, length, c.parameters.TakeSegment)
	}
	switch h.Opcode() {
	case iscsi.Command:
		return c.begin(h, length)
	case iscsi.DataOut:
		return c.placeData(h, length)
	}
	return c.nowhere(length), nil
}

func (c *connection) nowhere(length int) []byte {
	if len(c.scratch) < length {
		c.scratch = make([]byte, length)
	}
	return c.scratch[:length]
}

// Take takes a PDU that is there whole.
func (c *connection) Take(h *iscsi.Header, data []byte) error {
	if c.login != nil {
		return c.takeLogin(h, data)
	}
	switch h.Opcode() {
	case iscsi.Command:
		return c.takeCommand(h, len(data))
	case iscsi.DataOut:
		return c.takeData(h, len(data))
	case iscsi.NopOut:
		return c.nop(h, data)
	case iscsi.TextRequest:
		return c.takeText(h, data)
	case iscsi.TaskRequest:
		return c.manage(h)
	case iscsi.LogoutRequest:
		if err := c.count(h); err != nil {
			return err
		}
		answer := c.reply(iscsi.LogoutResponse, h.Tag())
		c.Put(&answer, nil)
		c.leaving = true
		return nil
	}
	return fmt.Errorf("%w: a %s", iscsi.ErrProtocol, h.Opcode())
}

func (c *connection) takeLogin(h *iscsi.Header, data []byte) error {
	answer, through, err := c.login.Next(iscsi.PDU{Header: *h, Data: data}, c.server.nextHandle())
	var refused *iscsi.DeniedError
	if err != nil && !errors.As(err, &refused) {
		return err
	}
	c.Put(&answer.Header, answer.Data)
	if err != nil {
		c.leaving = true
		return nil
	}
	if !through {
		return nil
	}
	c.parameters = c.login.Negotiation().Parameters()
	c.HeaderDigest, c.DataDigest = c.parameters.HeaderDigest, c.parameters.DataDigest
	c.status, c.expected = c.login.Status(), c.login.Command
	c.server.loggedIn(c, c.login)
	c.login = nil
	return nil
}

// reply begins an answer, with the numbers of the session.
func (c *connection) reply(o iscsi.Opcode, tag uint32) iscsi.Header {
	h := iscsi.NewHeader(o)
	h.SetTag(tag)
	h.SetStatusNumber(c.status)
	c.status++
	c.window(&h)
	return h
}

// window says which commands may come.
func (c *connection) window(h *iscsi.Header) {
	h.SetExpectedCommand(c.expected)
	h.SetMostCommand(c.expected + uint32(max(len(c.free)-immediateSpare, 0)) - 1)
}

// count counts a request that has its place in the order of commands.
func (c *connection) count(h *iscsi.Header) error {
	if h.Immediate() {
		return nil
	}
	if h.CommandNumber() != c.expected {
		return fmt.Errorf("%w: CmdSN %d came in the place of %d", iscsi.ErrProtocol, h.CommandNumber(), c.expected)
	}
	c.expected++
	return nil
}

func (c *connection) nop(h *iscsi.Header, data []byte) error {
	if h.Tag() == iscsi.NoTag {
		return nil
	}
	if err := c.count(h); err != nil {
		return err
	}
	answer := c.reply(iscsi.NopIn, h.Tag())
	answer.SetLUN(h.LUN())
	answer.SetTargetTag(iscsi.NoTag)
	c.Put(&answer, append([]byte(nil), data[:min(len(data), c.parameters.SendSegment)]...))
	return nil
}

func (c *connection) takeText(h *iscsi.Header, data []byte) error {
	if err := c.count(h); err != nil {
		return err
	}
	if c.text = append(c.text, data...); len(c.text) > mostLoginData {
		return fmt.Errorf("%w: a text of more than %d bytes", iscsi.ErrProtocol, mostLoginData)
	}
	answer := c.reply(iscsi.TextResponse, h.Tag())
	answer.SetTargetTag(iscsi.NoTag)
	if h.Continues() {
		answer.SetFinal(false)
		answer.SetTargetTag(1)
		c.Put(&answer, nil)
		return nil
	}
	text, err := iscsi.ParseText(c.text)
	if c.text = nil; err != nil {
		return err
	}
	var said iscsi.Text
	for _, p := range text {
		if p.Key == "SendTargets" {
			said = append(said, c.server.targets(p.Value, c.local)...)
		} else {
			said = append(said, iscsi.Pair{Key: p.Key, Value: "NotUnderstood"})
		}
	}
	c.Put(&answer, said.Append(nil))
	return nil
}

// manage carries out task management: what is at the disk goes on, and is not answered.
func (c *connection) manage(h *iscsi.Header) error {
	if err := c.count(h); err != nil {
		return err
	}
	code := byte(iscsi.TaskDone)
	abort := func(d *command) {
		d.aborted = true
		delete(c.byTag, d.tag) // data of it go nowhere
		if !d.busy {
			c.finish(d, nil)
		}
	}
	switch h.Flags() & 0x7f {
	case iscsi.AbortTask:
		d := c.byTag[h.ReferencedTag()]
		if d == nil {
			code = iscsi.TaskUnknown
		} else {
			abort(d)
		}
	case iscsi.AbortTaskSet, iscsi.ClearTaskSet, iscsi.ResetLUN, iscsi.ResetTargetWarm:
		for _, d := range c.byTag {
			if d.lun == h.LUN() || h.Flags()&0x7f == iscsi.ResetTargetWarm {
				abort(d)
			}
		}
	default:
		code = iscsi.TaskUnsupported
	}
	answer := c.reply(iscsi.TaskResponse, h.Tag())
	answer.SetAnswer(code)
	c.Put(&answer, nil)
	return nil
}
