package target

import (
	"encoding/binary"
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
	current  *command // whose header has arrived
	scratch  []byte   // where data go that nobody wants
	text     []byte   // of a request that is not whole yet
	leaving  bool     // when all is sent

	event    int // descriptor that rouses the thread
	mutex    sync.Mutex
	finished []*command // by the disk
	taken    []*command
	asleep   bool
	stopped  bool
}

// command is one that is under way.
type command struct {
	of     *connection
	unit   *Unit
	block  scsi.CDB
	lun    uint64
	tag    uint32
	writes bool

	expected int    // bytes, as the initiator says
	wanted   int    // as the command says
	data     []byte // to be sent, or to be received into
	arrived  int
	asked    int // bytes of it that were asked for, or came unasked
	requests uint32
	err      error
	aborted  bool
	failed   bool
	busy     bool
	op       Operation
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

func (c *connection) rouse() { _, _ = unix.Write(c.event, []byte{1, 0, 0, 0, 0, 0, 0, 0}) }

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

// run drives the connection until it ends. What is then under way at the disk is waited
// for, since it uses the connection's memory.
func (c *connection) run() (err error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	began := time.Now()
	polled := []unix.PollFd{{Fd: int32(c.Descriptor())}, {Fd: int32(c.event), Events: unix.POLLIN}}
	for err == nil {
		if err = c.answer(); err != nil {
			break
		}
		if err = c.Flush(); err != nil {
			break
		}
		if c.leaving && !c.Sending() {
			return nil
		}
		if c.login != nil && time.Since(began) > loginPatience {
			return fmt.Errorf("a login that does not end: %w", syscall.ETIMEDOUT)
		}
		if err = c.sleep(polled); err != nil {
			break
		}
		if polled[0].Revents&^unix.POLLOUT != 0 {
			if _, err = c.Fill(); err == nil {
				err = c.Deliver(c)
			}
		}
	}
	c.drain()
	if errors.Is(err, wire.ErrClosed) {
		return nil
	}
	return err
}

// sleep waits until there is something to do.
func (c *connection) sleep(polled []unix.PollFd) error {
	c.mutex.Lock()
	stopped, ready := c.stopped, len(c.finished) > 0
	c.asleep = !ready
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
	if _, err := unix.Poll(polled, wait); err != nil && err != unix.EINTR {
		return err
	}
	if polled[1].Revents != 0 {
		var count [8]byte
		_, _ = unix.Read(c.event, count[:])
	}
	c.mutex.Lock()
	c.asleep = false
	c.mutex.Unlock()
	return nil
}

// drain waits for what is under way at the disk.
func (c *connection) drain() {
	for range 200 {
		busy := 0
		for i := range c.commands {
			if c.commands[i].busy {
				busy++
			}
		}
		c.mutex.Lock()
		for _, d := range c.finished {
			d.busy = false
		}
		c.finished = c.finished[:0]
		c.mutex.Unlock()
		if busy == 0 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
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

// begin takes a command whose header arrived.
func (c *connection) begin(h *iscsi.Header, length int) ([]byte, error) {
	if err := c.count(h); err != nil {
		return nil, err
	}
	if len(c.free) == 0 || c.byTag[h.Tag()] != nil {
		return nil, fmt.Errorf("%w: more commands than may come, or two of one tag", iscsi.ErrProtocol)
	}
	d := c.free[len(c.free)-1]
	c.free = c.free[:len(c.free)-1]
	done := d.op.Done
	*d = command{of: c, lun: h.LUN(), tag: h.Tag(), writes: h.Flags()&iscsi.WritesFlag != 0, expected: int(h.ExpectedLength())}
	d.op.Done = done
	copy(d.block[:], h.Block())
	c.byTag[d.tag] = d
	c.current = d
	d.prepare()
	switch {
	case length == 0:
		return nil, nil
	case !d.writes || length > d.expected:
		return nil, fmt.Errorf("%w: %d bytes come with a command that writes %d", iscsi.ErrProtocol, length, d.expected)
	case length > len(d.data):
		return c.nowhere(length), nil
	}
	return d.data[:length], nil
}

// prepare finds what a command is about, and where its data are.
func (d *command) prepare() {
	number, known := scsi.LUNNumber(d.lun)
	d.unit = d.of.server.options.Units[number]
	op := d.block[0]
	if !known || d.unit == nil {
		if d.unit = nil; op != scsi.OpInquiry && op != scsi.OpReportLUNs && op != scsi.OpRequestSense {
			d.err = sense(scsi.IllegalRequest, scsi.CodeNoLUN)
		}
		return
	}
	u := d.unit
	if d.err = u.allowed(d.of.initiator, op); d.err != nil {
		return
	}
	place := scsi.PlaceOf(&d.block)
	switch op {
	case scsi.OpRead10, scsi.OpRead16, scsi.OpWrite10, scsi.OpWrite16:
		if d.err = u.inside(place); d.err != nil {
			return
		}
		if d.wanted = int(place.Blocks) * int(u.block); d.wanted > mostBlocks {
			d.err, d.wanted = sense(scsi.IllegalRequest, scsi.CodeInvalidField), 0
			return
		}
		d.op.Kind, d.op.Offset, d.op.Length = Read, int64(place.At)*u.block, d.wanted
		if op == scsi.OpWrite10 || op == scsi.OpWrite16 {
			d.op.Kind = Write
		}
		if (d.op.Kind == Write) != d.writes && d.wanted > 0 {
			d.err = sense(scsi.IllegalRequest, scsi.CodeInvalidField)
			return
		}
		d.data = u.contents[d.op.Offset:][:min(d.wanted, d.expected):d.wanted]
	case scsi.OpUnmap, scsi.OpPersistentReserve, scsi.OpWriteSame10, scsi.OpWriteSame16, scsi.OpCompareAndWrite:
		d.wanted = d.expected
		switch op {
		case scsi.OpWriteSame10, scsi.OpWriteSame16:
			d.wanted = int(u.block)
		case scsi.OpCompareAndWrite:
			d.wanted = 2 * int(place.Blocks) * int(u.block)
		}
		if op != scsi.OpUnmap && op != scsi.OpPersistentReserve {
			if d.err = u.inside(place); d.err != nil {
				return
			}
		}
		if d.wanted > mostParameters || op == scsi.OpCompareAndWrite && place.Blocks > mostCompare || d.expected < d.wanted {
			d.err = sense(scsi.IllegalRequest, scsi.CodeInvalidField)
			return
		}
		d.data = make([]byte, d.wanted)
	}
}

// takeCommand goes on with a command whose own PDU is there whole.
func (c *connection) takeCommand(h *iscsi.Header, length int) error {
	d := c.current
	d.arrived, d.asked = length, length
	if d.err != nil || !d.writes {
		return c.carryOut(d)
	}
	if !h.Final() && c.parameters.InitialR2T {
		return fmt.Errorf("%w: data are to come unasked, and that was not agreed on", iscsi.ErrProtocol)
	}
	return c.goOn(d, h.Final())
}

// goOn asks for more of what a command writes, or carries it out.
func (c *connection) goOn(d *command, final bool) error {
	if d.arrived >= len(d.data) {
		return c.carryOut(d)
	}
	if !final {
		return nil
	}
	d.asked = max(d.asked, d.arrived)
	for outstanding := (d.asked - d.arrived + c.parameters.MaxBurst - 1) / c.parameters.MaxBurst; outstanding < c.parameters.OutstandingR2T && d.asked < len(d.data); outstanding++ {
		length := min(len(d.data)-d.asked, c.parameters.MaxBurst)
		h := iscsi.NewHeader(iscsi.ReadyToTake)
		h.SetLUN(d.lun)
		h.SetTag(d.tag)
		h.SetTargetTag(d.requests)
		h.SetStatusNumber(c.status)
		c.window(&h)
		h.SetDataNumber(d.requests)
		h.SetOffset(uint32(d.asked))
		h.SetDesiredLength(uint32(length))
		c.Put(&h, nil)
		d.requests++
		d.asked += length
	}
	return nil
}

// placeData says where data of a write go. Those of a command that was refused go nowhere.
func (c *connection) placeData(h *iscsi.Header, length int) ([]byte, error) {
	d := c.byTag[h.Tag()]
	if c.current = d; d == nil || d.err != nil {
		return c.nowhere(length), nil
	}
	if !d.writes || int(h.Offset()) != d.arrived || d.arrived+length > d.expected {
		return nil, fmt.Errorf("%w: %d bytes at %d came, of a command that writes %d and has %d", iscsi.ErrProtocol, length, h.Offset(), d.expected, d.arrived)
	}
	if d.arrived+length > len(d.data) {
		return c.nowhere(length), nil
	}
	return d.data[d.arrived:][:length], nil
}

func (c *connection) takeData(h *iscsi.Header, length int) error {
	d := c.current
	if d == nil || d.err != nil {
		return nil
	}
	if h.TargetTag() == iscsi.NoTag && d.arrived+length > c.parameters.FirstBurst {
		return fmt.Errorf("%w: %d bytes came unasked, and %d are the most that were agreed on", iscsi.ErrProtocol, d.arrived+length, c.parameters.FirstBurst)
	}
	d.arrived += length
	return c.goOn(d, h.Final())
}

// carryOut lets the disk do a command, or answers it.
func (c *connection) carryOut(d *command) error {
	if d.err != nil {
		c.finish(d, nil)
		return nil
	}
	u, place := d.unit, scsi.PlaceOf(&d.block)
	switch d.block[0] {
	case scsi.OpRead10, scsi.OpRead16, scsi.OpWrite10, scsi.OpWrite16:
	case scsi.OpSynchronizeCache10, scsi.OpSynchronizeCache16:
		d.op.Kind = Flush
	case scsi.OpWriteSame10, scsi.OpWriteSame16:
		if place.Blocks == 0 { // all to the end
			place.Blocks = uint32(min(u.size()/u.block-int64(place.At), 1<<31))
		}
		if int64(place.Blocks)*u.block > mostUnmap {
			d.err = sense(scsi.IllegalRequest, scsi.CodeInvalidField)
			c.finish(d, nil)
			return nil
		}
		unmaps := d.block[1]&(1<<3) != 0
		u.same(place, d.data, unmaps)
		d.op.Kind, d.op.Offset, d.op.Length = Write, int64(place.At)*u.block, int(place.Blocks)*int(u.block)
		if unmaps {
			d.op.Kind = Trim
		}
	case scsi.OpCompareAndWrite:
		if d.err = u.compareAndWrite(place, d.data); d.err != nil {
			c.finish(d, nil)
			return nil
		}
		d.op.Kind, d.op.Offset, d.op.Length = Write, int64(place.At)*u.block, len(d.data)/2
	case scsi.OpUnmap:
		if d.err = d.unmap(); d.err != nil || d.op.Length == 0 {
			c.finish(d, nil)
			return nil
		}
	default:
		c.finish(d, d.told())
		return nil
	}
	if d.op.Kind != Flush && d.op.Length == 0 {
		c.finish(d, nil)
		return nil
	}
	d.op.Host, d.busy = c.number, true
	u.disk.Begin(&d.op)
	return nil
}

// unmap gives the ranges of an UNMAP back. The disk is told of the whole of them, from the
// first to the last.
func (d *command) unmap() error {
	b := d.data
	if len(b) < 8 {
		return nil
	}
	descriptors := b[8:min(len(b), 8+int(binary.BigEndian.Uint16(b[2:])))]
	u := d.unit
	for ; len(descriptors) >= 16; descriptors = descriptors[16:] {
		p := scsi.Place{At: binary.BigEndian.Uint64(descriptors), Blocks: binary.BigEndian.Uint32(descriptors[8:])}
		if err := u.inside(p); err != nil {
			return err
		}
		if p.Blocks == 0 {
			continue
		}
		from, length := int64(p.At)*u.block, int64(p.Blocks)*u.block
		if length > mostUnmap {
			return sense(scsi.IllegalRequest, scsi.CodeInvalidParam)
		}
		u.contents.forget(from, length)
		d.op.Kind, d.op.Offset, d.op.Length = Trim, from, int(length)
	}
	return nil
}

// told is what a command that moves no contents is answered with.
func (d *command) told() (data []byte) {
	switch {
	case d.block[0] == scsi.OpReportLUNs:
		data = d.of.reportLUNs()
	case d.unit == nil && d.block[0] == scsi.OpInquiry:
		data = make([]byte, 36)
		data[0] = 0x7f // there is none of this number
	case d.unit == nil:
		data = scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeNoLUN}.FixedSense()
	default:
		data, d.err = d.unit.answer(&d.block, d.of.initiator, d.data)
	}
	return data[:min(len(data), d.room())]
}

// room is how much of an answer the command itself allows.
func (d *command) room() int {
	b := &d.block
	switch b[0] {
	case scsi.OpInquiry:
		return int(binary.BigEndian.Uint16(b[3:]))
	case scsi.OpModeSense6, scsi.OpRequestSense:
		return int(b[4])
	case scsi.OpModeSense10, scsi.OpPersistentReserveIn:
		return int(binary.BigEndian.Uint16(b[7:]))
	case scsi.OpReportLUNs:
		return int(binary.BigEndian.Uint32(b[6:]))
	case scsi.OpServiceActionIn16:
		return int(binary.BigEndian.Uint32(b[10:]))
	}
	return mostParameters
}

func (c *connection) reportLUNs() []byte {
	numbers := c.server.numbers()
	b := make([]byte, 8)
	binary.BigEndian.PutUint32(b, uint32(8*len(numbers)))
	for _, n := range numbers {
		b = binary.BigEndian.AppendUint64(b, scsi.LUN(n))
	}
	return b
}

// answer answers what the disk has done.
func (c *connection) answer() error {
	c.mutex.Lock()
	c.taken, c.finished = c.finished, c.taken[:0]
	c.mutex.Unlock()
	for _, d := range c.taken {
		d.busy = false
		if d.failed {
			code := uint16(scsi.CodeReadError)
			if d.op.Kind != Read {
				code = scsi.CodeWriteError
			}
			d.err = sense(scsi.MediumError, code)
		}
		var data []byte
		if d.op.Kind == Read {
			data = d.data
		}
		c.finish(d, data)
	}
	return nil
}

// finish answers a command, with data that it reads.
func (c *connection) finish(d *command, data []byte) {
	delete(c.byTag, d.tag)
	c.free = append(c.free, d)
	if d.aborted {
		return
	}
	if d.err != nil || d.writes || len(data) == 0 {
		c.respond(d)
		return
	}
	data = data[:min(len(data), d.expected)]
	if c.DataDigest { // what is written meanwhile must not change what its digest is of
		data = append([]byte(nil), data...)
	}
	for from, number, burst := 0, uint32(0), 0; from < len(data); number++ {
		length := min(len(data)-from, c.parameters.SendSegment, c.parameters.MaxBurst-burst)
		h := iscsi.NewHeader(iscsi.DataIn)
		last := from+length == len(data)
		if burst += length; burst == c.parameters.MaxBurst || last {
			burst = 0
		} else {
			h.SetFinal(false)
		}
		h.SetTag(d.tag)
		h.SetTargetTag(iscsi.NoTag)
		h.SetDataNumber(number)
		h.SetOffset(uint32(from))
		if last {
			h.SetFlags(iscsi.StatusFlag)
			h.SetStatusNumber(c.status)
			c.status++
			d.residual(&h, len(data))
		}
		c.window(&h)
		c.Put(&h, data[from:from+length])
		from += length
	}
}

// residual says how much was not moved, or would have been too much.
func (d *command) residual(h *iscsi.Header, moved int) {
	wanted := max(d.wanted, moved)
	switch {
	case d.expected > wanted:
		h.SetFlags(iscsi.ShortFlag)
		h.SetResidual(uint32(d.expected - wanted))
	case d.expected < wanted:
		h.SetFlags(iscsi.OverflowFlag)
		h.SetResidual(uint32(wanted - d.expected))
	}
}

// respond answers a command without data.
func (c *connection) respond(d *command) {
	h := c.reply(iscsi.Response, d.tag)
	var data []byte
	var failed *scsi.Error
	switch {
	case errors.As(d.err, &failed):
		h.SetStatus(failed.Status)
		if failed.Status == scsi.CheckCondition {
			fixed := failed.Sense.FixedSense()
			data = append(binary.BigEndian.AppendUint16(nil, uint16(len(fixed))), fixed...)
		}
		if d.expected > 0 {
			h.SetFlags(iscsi.ShortFlag)
			h.SetResidual(uint32(d.expected))
		}
	default:
		d.residual(&h, 0)
	}
	c.Put(&h, data)
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
		if !d.busy {
			d.err = errStopped // data of it go nowhere
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
