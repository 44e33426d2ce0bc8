package iscsi

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/protocol/iscsi"
	"patientheron/protocol/iscsi/wire"
	"patientheron/protocol/scsi"
	"patientheron/storage/volume"
	"patientheron/storage/volume/volumetest"
	"patientheron/test/peer"
)

// wicked is a target that lets anybody log in and answers commands as it likes.
type wicked struct {
	net.Conn
	status uint32
}

// pdu is one that came.
type pdu struct {
	iscsi.Header
	data []byte
}

func (w *wicked) read() (p pdu, err error) {
	if _, err = io.ReadFull(w, p.Header[:]); err != nil {
		return p, err
	}
	p.data = make([]byte, iscsi.Padded(p.DataLength()))
	_, err = io.ReadFull(w, p.data)
	p.data = p.data[:p.DataLength()]
	return p, err
}

// answer begins one to a PDU, with the numbers that are right.
func (w *wicked) answer(o iscsi.Opcode, to pdu) iscsi.Header {
	h := iscsi.NewHeader(o)
	h.SetTag(to.Tag())
	h.SetStatusNumber(w.status)
	h.SetExpectedCommand(to.CommandNumber() + 1)
	h.SetMostCommand(to.CommandNumber() + 32)
	h.SetTargetTag(iscsi.NoTag)
	return h
}

func (w *wicked) send(h iscsi.Header, data []byte) {
	h.SetDataLength(len(data))
	_, _ = w.Write(append(h[:], append(data, make([]byte, iscsi.Padded(len(data))-len(data))...)...))
}

// login answers the requests of a login, whatever they are.
func (w *wicked) login(first pdu) {
	for p := first; ; {
		h := w.answer(iscsi.LoginResponse, p)
		copy(h[8:16], p.Header[8:16])
		h[1] = p.Header[1]
		text := ""
		if p.Header[1]>>2&3 == 1 {
			text = "MaxRecvDataSegmentLength=8192\x00InitialR2T=Yes\x00ImmediateData=Yes\x00MaxBurstLength=65536\x00FirstBurstLength=65536\x00"
		}
		w.send(h, []byte(text))
		w.status++
		if p.Header[1]&0x83 == 0x83 {
			return
		}
		var err error
		if p, err = w.read(); err != nil {
			return
		}
	}
}

// serveWicked gives the portal of a target that treats connections as it is told.
func serveWicked(t *testing.T, treat func(*wicked)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				treat(&wicked{Conn: conn, status: 100})
			}()
		}
	}()
	return l.Addr().String()
}

// Whatever a target does to a read or a write of 16 KiB, it ends with a word, in time.
func TestWhatATargetMayDo(t *testing.T) {
	const length = 16 << 10
	data := func(w *wicked, c pdu, number, offset uint32, n int, flags byte) {
		h := w.answer(iscsi.DataIn, c)
		h.SetFinal(flags != 0)
		h.SetFlags(flags)
		h.SetDataNumber(number)
		h.SetOffset(offset)
		w.send(h, make([]byte, n))
	}
	respond := func(w *wicked, c pdu, response, status byte, sense []byte) {
		h := w.answer(iscsi.Response, c)
		h.SetAnswer(response)
		h.SetStatus(status)
		if sense != nil {
			sense = append(binary.BigEndian.AppendUint16(nil, uint16(len(sense))), sense...)
		}
		w.send(h, sense)
	}
	ask := func(w *wicked, c pdu, number, offset, n, tag uint32) {
		h := w.answer(iscsi.ReadyToTake, c)
		h.SetTargetTag(tag)
		h.SetDataNumber(number)
		h.SetOffset(offset)
		h.SetDesiredLength(n)
		w.send(h, nil)
	}
	for _, c := range []struct {
		name   string
		writes bool
		does   func(*wicked, pdu)
		says   string
		as     error
	}{
		{"data out of order", false, func(w *wicked, c pdu) { data(w, c, 1, 0, length, 1) }, "DataSN 1 came in the place of 0", nil},
		{"data at another place", false, func(w *wicked, c pdu) { data(w, c, 0, 4096, 4096, 0) }, "data at 4096 came in the place of those at 0", nil},
		{"data twice", false, func(w *wicked, c pdu) { data(w, c, 0, 0, length, 0); data(w, c, 1, 0, length, 1) }, "in the place of those at 16384", nil},
		{"too much data", false, func(w *wicked, c pdu) { data(w, c, 0, 0, length+4, 1) }, "16388 bytes of data for a command that reads 16384", nil},
		{"a segment of 16 MiB", false, func(w *wicked, c pdu) { data(w, c, 0, 0, 1<<24-1, 1) }, "are the most that were agreed on", nil},
		{"too few data", false, func(w *wicked, c pdu) { data(w, c, 0, 0, 4096, 1) }, "ended after 4096", nil},
		{"no data", false, func(w *wicked, c pdu) { respond(w, c, 0, 0, nil) }, "ended after 0", nil},
		{"data for a write", true, func(w *wicked, c pdu) { data(w, c, 0, 0, 512, 1) }, "a command that reads nothing", nil},
		{"data of nobody", false, func(w *wicked, c pdu) { c.SetTag(c.Tag() + 1); data(w, c, 0, 0, 512, 1) }, "a task that there is not", nil},
		{"a residual of more than all", false, func(w *wicked, c pdu) {
			h := w.answer(iscsi.Response, c)
			h.SetFlags(iscsi.ShortFlag)
			h.SetResidual(1 << 31)
			w.send(h, nil)
		}, "were not moved", nil},
		{"an answer twice", false, func(w *wicked, c pdu) {
			first, again := w.answer(iscsi.Response, c), w.answer(iscsi.Response, c)
			first.SetStatus(scsi.Busy)
			again.SetStatusNumber(w.status + 1)
			_, _ = w.Write(append(first[:], again[:]...)) // so that both are there at once
		}, "a task that there is not", nil},
		{"a status out of order", false, func(w *wicked, c pdu) { w.status += 7; respond(w, c, 0, 0, nil) }, "StatSN", nil},
		{"garbage", false, func(w *wicked, _ pdu) { _, _ = w.Write([]byte(strings.Repeat("GET / HTTP/1.1\r\n", 32))) }, "according to the iSCSI standard", nil},
		{"a request", false, func(w *wicked, c pdu) { w.send(w.answer(iscsi.Command, c), nil) }, "which a target does not send", nil},
		{"an end", false, func(w *wicked, _ pdu) { w.Close() }, "closed the connection", nil},
		{"an end in the middle", false, func(w *wicked, c pdu) {
			h := w.answer(iscsi.DataIn, c)
			h.SetDataLength(length)
			_, _ = w.Write(append(h[:], make([]byte, 1000)...))
			w.Close()
		}, "closed the connection", nil},
		{"silence", false, func(*wicked, pdu) {}, "does not answer", syscall.ETIMEDOUT},
		{"one byte at a time, and no end", false, func(w *wicked, c pdu) {
			h := w.answer(iscsi.DataIn, c)
			for i := range h {
				_, _ = w.Write(h[i : i+1])
				time.Sleep(50 * time.Millisecond)
			}
		}, "does not answer", syscall.ETIMEDOUT},
		{"a reject", false, func(w *wicked, c pdu) {
			h := w.answer(iscsi.Reject, c)
			h.SetAnswer(iscsi.RejectInvalid)
			w.send(h, c.Header[:])
		}, "an invalid field", nil},
		{"asking for what a read does not have", false, func(w *wicked, c pdu) { ask(w, c, 0, 0, 512, 1) }, "a command that writes nothing", nil},
		{"asking for too much", true, func(w *wicked, c pdu) { ask(w, c, 0, 8192, length, 1) }, "asks for 16384 bytes from 8192 on", nil},
		{"asking for nothing", true, func(w *wicked, c pdu) { ask(w, c, 0, 0, 0, 1) }, "asks for 0 bytes", nil},
		{"asking out of order", true, func(w *wicked, c pdu) { ask(w, c, 3, 8192, 8192, 1) }, "R2TSN 3", nil},
		{"a reservation", true, func(w *wicked, c pdu) { respond(w, c, 0, scsi.ReservationConflict, nil) }, "another initiator has reserved it", syscall.EBUSY},
		{"write protection", true, func(w *wicked, c pdu) {
			respond(w, c, 0, scsi.CheckCondition, scsi.Sense{Key: scsi.DataProtect, Code: scsi.CodeWriteProtected}.FixedSense())
		}, "write-protected", syscall.EROFS},
		{"a unit that is gone", false, func(w *wicked, c pdu) {
			respond(w, c, 0, scsi.CheckCondition, scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeNoLUN}.FixedSense())
		}, "no such logical unit", syscall.ENODEV},
		{"a unit that shrank", false, func(w *wicked, c pdu) {
			respond(w, c, 0, scsi.CheckCondition, scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeOutOfRange}.FixedSense())
		}, "past its end", syscall.ENXIO},
		{"a failure without a word", false, func(w *wicked, c pdu) { respond(w, c, 0, scsi.CheckCondition, nil) }, "no sense", syscall.EIO},
		{"a failure of its own", false, func(w *wicked, c pdu) { respond(w, c, 1, 0, nil) }, "could not carry it out", syscall.EIO},
		{"a wish for the end", false, func(w *wicked, c pdu) {
			h := w.answer(iscsi.Asynchronous, c)
			h.SetTag(iscsi.NoTag)
			h[36] = iscsi.EventLogout
			w.send(h, nil)
		}, "ends the session", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			portal := serveWicked(t, func(w *wicked) {
				first, err := w.read()
				if err != nil {
					return
				}
				w.login(first)
				for {
					p, err := w.read()
					if err != nil {
						return
					}
					if p.Opcode() == iscsi.Command {
						c.does(w, p)
					}
				}
			})
			o := plainOptions()
			o.wishes = iscsi.Wishes{iscsi.SegmentLength: "65536"}
			s, err := login(within(t, 20*time.Second), portal, o, 1)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			began := time.Now()
			block := scsi.Read(0, length/512)
			if c.writes {
				block = scsi.Write(0, length/512)
			}
			_, err = s.do(within(t, 5*time.Second), 0, block, make([]byte, length), c.writes)
			if err == nil || !strings.Contains(err.Error(), c.says) || c.as != nil && !errors.Is(err, c.as) {
				t.Errorf("it is said: %v", err)
			}
			if time.Since(began) > time.Minute {
				t.Errorf("it took %s", time.Since(began))
			}
		})
	}
}

// Whatever a target does at the login.
func TestWhatATargetMayDoAtTheLogin(t *testing.T) {
	text := func(flags byte, text string) func(*wicked, pdu) {
		return func(w *wicked, p pdu) {
			h := w.answer(iscsi.LoginResponse, p)
			h[1] = flags
			w.send(h, []byte(text))
			w.status++
		}
	}
	status := func(class, detail byte, words string) func(*wicked, pdu) {
		return func(w *wicked, p pdu) {
			h := w.answer(iscsi.LoginResponse, p)
			h[36], h[37] = class, detail
			w.send(h, []byte(words))
		}
	}
	for _, c := range []struct {
		name string
		does func(*wicked, pdu)
		says string
	}{
		{"nothing", func(*wicked, pdu) {}, "does not answer"},
		{"an end", func(w *wicked, _ pdu) { w.Close() }, "closed the connection"},
		{"another protocol", func(w *wicked, _ pdu) {
			_, _ = w.Write([]byte("220 mail.example ESMTP " + strings.Repeat("and more ", 99)))
		}, "according to the iSCSI standard"},
		{"a text without end", text(0x40, strings.Repeat("a=b\x00", 2000)), "a text of more than"},
		{"the same again and again", text(0x00, ""), "does not end"},
		{"another stage", text(0x87, ""), "stage"},
		{"a stage that there is not", text(0x82, ""), "from stage 0 to 2"},
		{"a proof that was not offered", text(0x00, "AuthMethod=KRB5\x00"), "KRB5"},
		{"a challenge that was not asked for", text(0x00, "CHAP_A=5\x00CHAP_I=1\x00CHAP_C=0x01\x00"), "not asked for"},
		{"no such target", status(2, 3, ""), "there is no such target"},
		{"no resources", status(3, 2, ""), "out of resources"},
		{"a status that there is not", status(9, 9, ""), "class 9"},
		{"elsewhere, and not where", status(1, 1, ""), "does not say where"},
		{"elsewhere, and nowhere", status(1, 1, "TargetAddress=nowhere:0\x00"), "sends to"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			portal := serveWicked(t, func(w *wicked) {
				for {
					p, err := w.read()
					if err != nil {
						return
					}
					c.does(w, p)
				}
			})
			s, err := login(within(t, time.Second), portal, plainOptions(), 1)
			if err == nil {
				s.Close()
			}
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("it is said: %v", err)
			}
		})
	}
}

// A login that is sent elsewhere goes there; one that is sent round ends.
func TestSentElsewhere(t *testing.T) {
	g := peer.StartTgt(t, 1)
	redirect := func(to func() string) string {
		return serveWicked(t, func(w *wicked) {
			for {
				p, err := w.read()
				if err != nil {
					return
				}
				h := w.answer(iscsi.LoginResponse, p)
				h[36], h[37] = 1, 1
				w.send(h, []byte("TargetAddress="+to()+",1\x00"))
			}
		})
	}
	s, err := login(within(t, 20*time.Second), redirect(func() string { return g.Ports[0] }), plainOptions(), 1)
	if err != nil || s.portal != g.Ports[0] {
		t.Fatal(err)
	}
	s.logout()
	round := make(chan string, 1)
	portal := redirect(func() string {
		here := <-round
		round <- here
		return here
	})
	round <- portal
	if _, err := login(within(t, 20*time.Second), portal, plainOptions(), 1); err == nil || !strings.Contains(err.Error(), "from one portal to another") {
		t.Errorf("it is said: %v", err)
	}
}

// A target that is there and does not answer a command: it is called back, and counted as
// timed out; where that is not answered either, sessions are given up until it is plain
// that it never will.
func TestCommandsWithoutAnAnswer(t *testing.T) {
	for _, givesUp := range []bool{true, false} {
		var sessions, aborts atomic.Int32
		portal := serveWicked(t, func(w *wicked) {
			first, err := w.read()
			if err != nil {
				return
			}
			sessions.Add(1)
			w.login(first)
			for {
				p, err := w.read()
				if err != nil {
					return
				}
				h := w.answer(iscsi.NopIn, p)
				switch {
				case p.Opcode() == iscsi.NopOut:
				case p.Opcode() == iscsi.TaskRequest && p.Flags()&0x7f == iscsi.AbortTask:
					aborts.Add(1)
					if !givesUp {
						continue
					}
					h = w.answer(iscsi.TaskResponse, p)
				case p.Opcode() == iscsi.Command && p.Block()[0] != scsi.OpRead10:
					w.disk(p)
					continue
				default:
					continue
				}
				w.send(h, nil)
				w.status++
			}
		})
		a, err := parseAddress("//" + portal + "/" + peer.Target + "/0")
		if err != nil {
			t.Fatal(err)
		}
		v := &opened{address: a, lun: a.lunOf(), patience: impatient, tell: func(volume.Event) {}}
		v.patience.command, v.patience.abort = 300*time.Millisecond, 200*time.Millisecond
		s, err := login(within(t, 20*time.Second), portal, v.options(), 1)
		if err != nil {
			t.Fatal(err)
		}
		if v.unit, err = ask(within(t, 20*time.Second), s, v.lun); err != nil {
			t.Fatal(err)
		}
		s.Close()
		q, err := v.Open(load.QueueOptions{Depth: 1, LargestBlock: 4096})
		if err != nil {
			t.Fatal(err)
		}
		if err := volumetest.Submit(q, []load.Operation{{Class: measure.Read, Length: 4096}}); err != nil {
			t.Fatal(err)
		}
		into := make([]load.Completion, 1)
		n := 0
		for end := time.Now().Add(3 * time.Minute); n == 0 && time.Now().Before(end); {
			if n, err = q.Collect(into, 100*time.Millisecond); err != nil {
				t.Fatal(err)
			}
		}
		if n != 1 || !errors.Is(into[0].Err, syscall.ETIMEDOUT) || aborts.Load() == 0 {
			t.Errorf("gives up: %v: %d answers, %v, %d aborts, %d sessions", givesUp, n, into[0].Err, aborts.Load(), sessions.Load())
		}
		if err := q.Close(0); err != nil {
			t.Error(err)
		}
	}
}

// disk answers what is asked of a disk of 64 MiB before it is read.
func (w *wicked) disk(p pdu) {
	data := make([]byte, 96)
	switch p.Block()[0] {
	case scsi.OpInquiry:
		if p.Block()[1]&1 != 0 { // it has no pages
			h := w.answer(iscsi.Response, p)
			h.SetStatus(scsi.CheckCondition)
			w.send(h, append([]byte{0, 18}, scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidField}.FixedSense()...))
			w.status++
			return
		}
	case scsi.OpReadCapacity10:
		data = []byte{0, 1, 0xff, 0xff, 0, 0, 2, 0}
	default:
		h := w.answer(iscsi.Response, p)
		h.SetStatus(scsi.CheckCondition)
		w.send(h, append([]byte{0, 18}, scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeInvalidOpcode}.FixedSense()...))
		w.status++
		return
	}
	h := w.answer(iscsi.DataIn, p)
	h.SetFlags(iscsi.StatusFlag)
	if expected := int(p.ExpectedLength()); expected > len(data) {
		h.SetFlags(iscsi.ShortFlag)
		h.SetResidual(uint32(expected - len(data)))
	} else {
		data = data[:expected]
	}
	w.send(h, data)
	w.status++
}

// Whatever comes, it is taken or refused, and no data land outside of where they belong.
func FuzzReceived(f *testing.F) {
	in := iscsi.NewHeader(iscsi.DataIn)
	in.SetTag(1 << 16)
	in.SetDataLength(16)
	in.SetStatusNumber(100)
	f.Add(append(in[:], make([]byte, 16)...), uint8(0))
	ask := iscsi.NewHeader(iscsi.ReadyToTake)
	ask.SetTag(1<<16 | 1)
	ask.SetDesiredLength(64)
	f.Add(ask[:], uint8(0))
	f.Add(append(in[:], make([]byte, 24)...), uint8(3))
	f.Fuzz(func(t *testing.T, data []byte, digests uint8) {
		s := &session{Wire: wire.Over(data), tasks: make([]task, 2), free: []int32{1, 0}, status: 100, command: 1, most: 40}
		s.parameters = iscsi.Parameters{TakeSegment: 8192, SendSegment: 512, MaxBurst: 4096, FirstBurst: 512, InitialR2T: true, OutstandingR2T: 1}
		s.HeaderDigest, s.DataDigest = digests&1 != 0, digests&2 != 0
		memory := make([]byte, 3*1024)
		for i := range memory {
			memory[i] = 0xaa
		}
		s.begin(0, scsi.Read(0, 2), memory[1024:2048:2048], false, 0, time.Time{})
		s.begin(0, scsi.Write(0, 1), make([]byte, 512), true, 1, time.Time{})
		_ = s.Deliver(s)
		for i, b := range memory {
			if (i < 1024 || i >= 2048) && b != 0xaa {
				t.Fatalf("byte %d was written", i-1024)
			}
		}
	})
}
