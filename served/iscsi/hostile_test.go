package iscsi

import (
	"encoding/binary"
	"net"
	"strings"
	"testing"
	"time"

	"patientheron/protocol/iscsi"
	"patientheron/protocol/iscsi/wire"
	"patientheron/protocol/scsi"
)

// command is a PDU with one, for the unit of number 0.
func commandOf(number, tag uint32, block scsi.CDB, flags byte, expected int, data []byte) []byte {
	h := iscsi.NewHeader(iscsi.Command)
	h.SetFlags(flags)
	h.SetTag(tag)
	h.SetCommandNumber(number)
	h.SetExpectedLength(uint32(expected))
	h.SetDataLength(len(data))
	copy(h.Block(), block[:])
	return append(append(h[:], data...), make([]byte, iscsi.Padded(len(data))-len(data))...)
}

// loggedIn is a connection whose login is through, over bytes that came already.
func loggedIn(t testing.TB, s *Server, received []byte) *connection {
	t.Helper()
	c, err := newConnection(s, wire.Over(received), "127.0.0.1:1")
	if err != nil {
		t.Fatal(err)
	}
	c.login, c.initiator, c.expected, c.status = nil, "iqn.2026-01.example:i", 1, 1
	c.parameters = iscsi.NewNegotiation(iscsi.Target, usual).Parameters()
	c.parameters.TakeSegment = 8192
	return c
}

func plain(t testing.TB) *Server {
	t.Helper()
	u, err := NewUnit(Instant(1<<20), 512, "fuzz", "test", true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	return &Server{options: Options{Name: name, Units: map[uint16]*Unit{0: u}}, all: map[*connection]bool{}}
}

// Whatever an initiator sends, it is taken or refused.
func FuzzReceived(f *testing.F) {
	f.Add(commandOf(1, 7, scsi.Read(0, 2), iscsi.ReadsFlag, 1024, nil))
	f.Add(commandOf(1, 7, scsi.Write(5, 2), iscsi.WritesFlag, 1024, make([]byte, 512)))
	f.Add(commandOf(1, 7, scsi.CompareAndWrite(5, 1), iscsi.WritesFlag, 1024, make([]byte, 1024)))
	f.Add(commandOf(1, 7, scsi.WriteSame16(5, 9, true), iscsi.WritesFlag, 512, make([]byte, 512)))
	f.Add(commandOf(1, 7, scsi.Unmap(24), iscsi.WritesFlag, 24, make([]byte, 24)))
	f.Add(commandOf(1, 7, scsi.InquiryPage(0x83, 255), iscsi.ReadsFlag, 255, nil))
	f.Add(commandOf(1, 7, scsi.CDB{scsi.OpPersistentReserve}, iscsi.WritesFlag, 24, make([]byte, 24)))
	s := plain(f)
	f.Fuzz(func(t *testing.T, data []byte) {
		c := loggedIn(t, s, data)
		defer c.close()
		if c.Deliver(c) == nil {
			c.answer()
		}
		for i := range c.commands {
			if c.commands[i].busy && len(c.finished) == 0 {
				t.Fatal("a command is at a disk that does all at once")
			}
		}
	})
}

// What ends a connection, and what is answered and goes on.
func TestWhatAnInitiatorMayDo(t *testing.T) {
	s := plain(t)
	write := func(block scsi.CDB, expected int, data []byte) []byte {
		return commandOf(1, 7, block, iscsi.WritesFlag, expected, data)
	}
	ranges := make([]byte, 24)
	scsi.PutUnmapRange(ranges, 1<<40, 8)
	copies := func(name []byte, segment scsi.Segment, change func([]byte)) []byte {
		list := make([]byte, scsi.CopyLength)
		scsi.PutCopy(list, name, 512, segment)
		if change != nil {
			change(list)
		}
		return write(scsi.ExtendedCopy(scsi.CopyLength), len(list), list)
	}
	own := s.options.Units[0].name[:]
	for name, c := range map[string]struct {
		sends  []byte
		ends   string     // why the connection ends; "" when it goes on
		sense  scsi.Sense // of the answer
		status byte
	}{
		"a read past the end":             {commandOf(1, 7, scsi.Read(2048, 1), iscsi.ReadsFlag, 512, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeOutOfRange}, scsi.CheckCondition},
		"a read of all there could be":    {commandOf(1, 7, scsi.Read(1<<63, 1<<31), iscsi.ReadsFlag, 512, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeOutOfRange}, scsi.CheckCondition},
		"a write that says it is shorter": {write(scsi.Write(0, 2), 512, make([]byte, 512)), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidField}, scsi.CheckCondition},
		"a write that says it is longer":  {write(scsi.Write(0, 1), 1024, make([]byte, 1024)), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidField}, scsi.CheckCondition},
		"data with what takes none":       {write(scsi.TestUnitReady(), 512, make([]byte, 512)), "", scsi.Sense{}, scsi.Good},
		"a write that says it reads":      {commandOf(1, 7, scsi.Write(0, 1), iscsi.ReadsFlag, 512, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidField}, scsi.CheckCondition},
		"a command that there is not":     {commandOf(1, 7, scsi.CDB{0xff}, 0, 0, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidOpcode}, scsi.CheckCondition},
		"ranges past the end":             {write(scsi.Unmap(24), 24, ranges), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeOutOfRange}, scsi.CheckCondition},
		"comparing what is not there":     {write(scsi.CompareAndWrite(0, 1), 1024, append([]byte{1}, make([]byte, 1023)...)), "", scsi.Sense{Key: scsi.Miscompare, Code: scsi.CodeMiscompare}, scsi.CheckCondition},
		"a copy past the end":             {copies(own, scsi.Segment{From: 0, To: 2048, Blocks: 1}, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeOutOfRange}, scsi.CheckCondition},
		"a copy from past the end":        {copies(own, scsi.Segment{From: 1 << 62, To: 0, Blocks: 1}, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeOutOfRange}, scsi.CheckCondition},
		"a copy within another unit":      {copies(make([]byte, 8), scsi.Segment{Blocks: 1}, nil), "", scsi.Sense{Key: scsi.CopyAborted, Code: scsi.CodeUnitNotReached}, scsi.CheckCondition},
		"a copy of nothing":               {copies(own, scsi.Segment{}, nil), "", scsi.Sense{}, scsi.Good},
		"a list that ends too soon":       {copies(own, scsi.Segment{Blocks: 1}, func(b []byte) { b[11]++ }), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeParamLength}, scsi.CheckCondition},
		"the status of no list":           {commandOf(1, 7, scsi.CopyStatus(3, 12), iscsi.ReadsFlag, 12, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidField}, scsi.CheckCondition},
		"a page that there is not":        {commandOf(1, 7, scsi.InquiryPage(0xc0, 255), iscsi.ReadsFlag, 255, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidField}, scsi.CheckCondition},
		"a command out of order":          {commandOf(9, 7, scsi.Read(0, 1), iscsi.ReadsFlag, 512, nil), "CmdSN 9", scsi.Sense{}, 0},
		"two of one tag":                  {append(commandOf(1, 7, scsi.Write(0, 4), iscsi.WritesFlag, 2048, nil), commandOf(2, 7, scsi.Write(0, 4), iscsi.WritesFlag, 2048, nil)...), "two of one tag", scsi.Sense{}, 0},
		"more data than it writes":        {write(scsi.Write(0, 1), 512, make([]byte, 1024)), "1024 bytes come", scsi.Sense{}, 0},
		"data of what reads":              {commandOf(1, 7, scsi.Read(0, 1), iscsi.ReadsFlag, 512, make([]byte, 512)), "512 bytes come", scsi.Sense{}, 0},
		"more than a segment":             {write(scsi.Write(0, 32), 16384, make([]byte, 12288)), "8192 are the most", scsi.Sense{}, 0},
		"what only a target sends":        {append([]byte{byte(iscsi.DataIn), 0x80}, make([]byte, 46)...), "Data-In", scsi.Sense{}, 0},
		"more commands than may come":     {manyWrites(), "more commands than may come", scsi.Sense{}, 0},
		"writes with nothing to write":    {commandOf(1, 7, scsi.Write(0, 0), iscsi.WritesFlag, 0, nil), "", scsi.Sense{}, scsi.Good},
		"a length of parameters too far":  {write(scsi.CDB{scsi.OpPersistentReserve}, 2<<20, nil), "", scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidField}, scsi.CheckCondition},
	} {
		con := loggedIn(t, s, c.sends)
		err := con.Deliver(con)
		con.answer()
		if c.ends != "" {
			if err == nil || !strings.Contains(err.Error(), c.ends) {
				t.Errorf("%s: %v", name, err)
			}
			con.close()
			continue
		}
		answers := &pdus{}
		if err != nil || con.Unsent().Deliver(answers) != nil || len(answers.all) != 1 {
			t.Errorf("%s: %v, %d answers", name, err, len(answers.all))
			con.close()
			continue
		}
		a := answers.all[0]
		if a.Header.Opcode() != iscsi.Response || a.Header.Status() != c.status || len(a.Data) > 2 && scsi.ParseSense(a.Data[2:]) != c.sense {
			t.Errorf("%s: %s, status %02x, %x", name, a.Header.Opcode(), a.Header.Status(), a.Data)
		}
		con.close()
	}
}

// The status of a list of copies is held for whoever asks for it, once.
func TestCopyStatus(t *testing.T) {
	s := plain(t)
	list := make([]byte, scsi.CopyLength)
	scsi.PutCopy(list, s.options.Units[0].name[:], 512, scsi.Segment{From: 0, To: 8, Blocks: 4})
	list[0], list[1] = 9, 0 // its number, and that its status is to be held
	con := loggedIn(t, s, commandOf(1, 7, scsi.ExtendedCopy(scsi.CopyLength), iscsi.WritesFlag, len(list), list))
	defer con.close()
	if err := con.Deliver(con); err != nil {
		t.Fatal(err)
	}
	con.answer()
	ask := scsi.CopyStatus(9, 12)
	told, err := con.copyResults(&ask)
	if err != nil {
		t.Fatal(err)
	}
	if got, done, err := scsi.ParseCopied(told); err != nil || !done || got != (scsi.Copied{Segments: 1, Bytes: 2048}) {
		t.Errorf("%+v, %v (%v)", got, done, err)
	}
	if _, err := con.copyResults(&ask); err == nil {
		t.Error("it is told twice")
	}
}

func manyWrites() (all []byte) {
	for n := range uint32(mostCommands + immediateSpare + 1) {
		all = append(all, commandOf(1+n, 100+n, scsi.Write(0, 4), iscsi.WritesFlag, 2048, nil)...)
	}
	return all
}

// pdus gathers what was sent.
type pdus struct{ all []iscsi.PDU }

func (p *pdus) Place(h *iscsi.Header) ([]byte, error) { return make([]byte, h.DataLength()), nil }

func (p *pdus) Take(h *iscsi.Header, data []byte) error {
	p.all = append(p.all, iscsi.PDU{Header: *h, Data: data})
	return nil
}

// Whoever connects and speaks nonsense, or nothing, leaves others alone, and is gone when it
// leaves.
func TestWhoeverConnects(t *testing.T) {
	s := serve(t, Instant(size), nil)
	var held []net.Conn
	for _, says := range []string{"", "GET / HTTP/1.1\r\nHost: example\r\n\r\n", strings.Repeat("x", 1<<16), "\x43\x87\x00\x00\x00\xff\xff\xff" + strings.Repeat("\x00", 40), "\x03"} {
		conn, err := net.Dial("tcp", s.Portals()[0])
		if err != nil {
			t.Fatal(err)
		}
		_, _ = conn.Write([]byte(says))
		held = append(held, conn)
	}
	large(t, prepare(t, locator(s, "")))
	for _, conn := range held {
		_ = conn.Close()
	}
	for end := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Millisecond) {
		s.mutex.Lock()
		left := len(s.all)
		s.mutex.Unlock()
		if left == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%d connections are left", left)
		}
	}
}

// A reservation keeps others out until it is given back, and who only looks is let look.
func TestReservations(t *testing.T) {
	s := plain(t)
	u := s.options.Units[0]
	key := func(own, other uint64) []byte {
		return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, own), other)[:16:16]
	}
	out := func(initiator string, action, kind byte, own, other uint64) error {
		return u.changeReservation(initiator, action, kind, append(key(own, other), make([]byte, 8)...))
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	refused := func(err error) {
		t.Helper()
		if err == nil {
			t.Fatal("it is allowed")
		}
	}
	must(u.reserve("a"))
	refused(u.allowed("b", scsi.OpRead10))
	must(u.allowed("b", scsi.OpInquiry))
	u.left("a")
	must(u.allowed("b", scsi.OpWrite10))

	must(out("a", 0, 0, 0, 1))
	must(out("b", 0, 0, 0, 2))
	refused(out("c", 1, exclusive, 9, 0)) // it has no key
	must(out("a", 1, writeExclusive, 1, 0))
	must(u.allowed("b", scsi.OpRead10))
	refused(u.allowed("b", scsi.OpWrite10))
	refused(out("b", 1, writeExclusive, 2, 0))
	must(out("b", 4, exclusiveRegistrants, 2, 1)) // b takes it from a
	refused(u.allowed("a", scsi.OpRead10))
	must(u.allowed("b", scsi.OpWrite16))
	refused(out("a", 2, exclusiveRegistrants, 1, 0))
	must(out("b", 3, 0, 2, 0))
	must(u.allowed("a", scsi.OpWrite10))
}
