package iscsi

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/workload"
	"patientheron/protocol/iscsi"
	"patientheron/protocol/scsi"
	served "patientheron/served/iscsi"
	"patientheron/storage/volume"
)

const unitSize = 256 << 10

// honest serves a unit of 256 KiB, and gives its portal.
func honest(t *testing.T) string {
	t.Helper()
	unit, err := served.NewUnit(served.Instant(unitSize), 512, "seed", "unit", true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(unit.Close)
	s, err := served.Listen(t.Context(), served.Options{Name: "iqn.2026-01.example:honest", Units: map[uint16]*served.Unit{0: unit}}, "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s.Portals()[0]
}

// lie does something else with a PDU of a target than to pass it on.
type lie struct {
	name string
	tell func(to net.Conn, pdu []byte)
}

// changed is a lie that changes a PDU.
func changed(name string, change func(pdu []byte) []byte) lie {
	return lie{name, func(to net.Conn, pdu []byte) { _, _ = to.Write(change(bytes.Clone(pdu))) }}
}

// header changes fields of the header alone.
func header(name string, change func(h *iscsi.Header)) lie {
	return changed(name, func(pdu []byte) []byte { change((*iscsi.Header)(pdu)); return pdu })
}

// answering puts other data in the place of those that there are.
func answering(name string, data func([]byte) []byte) lie {
	return changed(name, func(pdu []byte) []byte {
		h := (*iscsi.Header)(pdu)
		told := data(pdu[iscsi.HeaderLength:][:h.DataLength()])
		h.SetDataLength(len(told))
		return append(append(pdu[:iscsi.HeaderLength:iscsi.HeaderLength], told...), make([]byte, iscsi.Padded(len(told))-len(told))...)
	})
}

// responding answers a command with a status, and sense data.
func responding(name string, response, status byte, sense ...byte) lie {
	return changed(name, func(pdu []byte) []byte {
		h := (*iscsi.Header)(pdu)
		h[0], h[1] = byte(iscsi.Response), 0x80
		h.SetAnswer(response)
		h.SetStatus(status)
		data := append(binary.BigEndian.AppendUint16(nil, uint16(len(sense))), sense...)
		h.SetDataLength(len(data))
		return append(append(pdu[:iscsi.HeaderLength:iscsi.HeaderLength], data...), make([]byte, iscsi.Padded(len(data))-len(data))...)
	})
}

func filled(with byte) func([]byte) []byte {
	return func(b []byte) []byte { return bytes.Repeat([]byte{with}, len(b)) }
}

// lies are what a target may do in the place of one of its answers.
var lies = []lie{
	{"the end of the connection", func(to net.Conn, _ []byte) { to.Close() }},
	{"a reset", func(to net.Conn, _ []byte) { _ = to.(*net.TCPConn).SetLinger(0); to.Close() }},
	{"the end after the header", func(to net.Conn, pdu []byte) { _, _ = to.Write(pdu[:iscsi.HeaderLength]); to.Close() }},
	{"the end within the header", func(to net.Conn, pdu []byte) { _, _ = to.Write(pdu[:20]); to.Close() }},
	{"the end before the last byte", func(to net.Conn, pdu []byte) { _, _ = to.Write(pdu[:len(pdu)-1]); to.Close() }},
	{"silence", func(net.Conn, []byte) {}},
	{"one byte, and silence", func(to net.Conn, pdu []byte) { _, _ = to.Write(pdu[:1]) }},
	{"a byte at a time", func(to net.Conn, pdu []byte) {
		for i := range pdu {
			_, _ = to.Write(pdu[i : i+1])
			time.Sleep(5 * time.Millisecond)
		}
	}},
	{"the end of sending alone", func(to net.Conn, _ []byte) { _ = to.(*net.TCPConn).CloseWrite() }},
	{"another protocol", func(to net.Conn, _ []byte) {
		_, _ = to.Write([]byte(strings.Repeat("HTTP/1.1 400 Bad Request\r\n", 400)))
	}},
	{"zeros", func(to net.Conn, _ []byte) { _, _ = to.Write(make([]byte, 8192)) }},
	{"ones", func(to net.Conn, _ []byte) { _, _ = to.Write(bytes.Repeat([]byte{0xff}, 8192)) }},
	{"no end of zeros", func(to net.Conn, _ []byte) {
		for block, err := make([]byte, 64<<10), error(nil); err == nil; {
			_, err = to.Write(block)
		}
	}},
	{"no end of questions whether we are there", func(to net.Conn, pdu []byte) {
		h := iscsi.NewHeader(iscsi.NopIn)
		h.SetTag(iscsi.NoTag)
		h.SetTargetTag(7)
		copy(h[24:36], pdu[24:36])
		for err := error(nil); err == nil; time.Sleep(time.Millisecond) {
			_, err = to.Write(h[:])
		}
	}},
	changed("twice", func(pdu []byte) []byte { return append(pdu, pdu...) }),
	changed("a hundred times", func(pdu []byte) []byte { return bytes.Repeat(pdu, 100) }),
	header("another task", func(h *iscsi.Header) { h.SetTag(h.Tag() + 1) }),
	header("a task of another time", func(h *iscsi.Header) { h.SetTag(h.Tag() ^ 1<<16) }),
	header("no task", func(h *iscsi.Header) { h.SetTag(iscsi.NoTag) }),
	header("an answer to a question that was not asked", func(h *iscsi.Header) { h[0] = byte(iscsi.NopIn) }),
	header("a rejection", func(h *iscsi.Header) { h[0] = byte(iscsi.Reject) }),
	header("an answer to an abort", func(h *iscsi.Header) { h[0] = byte(iscsi.TaskResponse) }),
	header("an answer to a text", func(h *iscsi.Header) { h[0] = byte(iscsi.TextResponse) }),
	header("an answer to a login", func(h *iscsi.Header) { h[0] = byte(iscsi.LoginResponse) }),
	header("an answer to a logout", func(h *iscsi.Header) { h[0] = byte(iscsi.LogoutResponse) }),
	header("a wish for data", func(h *iscsi.Header) { h[0] = byte(iscsi.ReadyToTake); h.SetDesiredLength(1 << 20) }),
	header("an event", func(h *iscsi.Header) { h[0] = byte(iscsi.Asynchronous); h[36] = iscsi.EventLogout }),
	header("an opcode that there is not", func(h *iscsi.Header) { h[0] = 0x3a }),
	header("what an initiator sends", func(h *iscsi.Header) { h[0] = byte(iscsi.Command) }),
	header("more data than come", func(h *iscsi.Header) { h.SetDataLength(1<<24 - 1) }),
	header("segments that there are not", func(h *iscsi.Header) { h[4] = 255 }),
	header("the next status", func(h *iscsi.Header) { h.SetStatusNumber(h.StatusNumber() + 1) }),
	header("a status of long ago", func(h *iscsi.Header) { h.SetStatusNumber(h.StatusNumber() - 1<<30) }),
	header("no room for commands", func(h *iscsi.Header) { h.SetMostCommand(h.ExpectedCommand() - 1) }),
	header("all flags", func(h *iscsi.Header) { h[1] = 0xff }),
	header("no flags", func(h *iscsi.Header) { h[1] = 0 }),
	header("a residual of all there is", func(h *iscsi.Header) { h[1] |= iscsi.ShortFlag; h.SetResidual(1<<32 - 1) }),
	header("data of later", func(h *iscsi.Header) { h.SetDataNumber(h.DataNumber() + 1) }),
	header("data of elsewhere", func(h *iscsi.Header) { h.SetOffset(1 << 31) }),
	answering("nothing", func([]byte) []byte { return nil }),
	answering("half", func(b []byte) []byte { return b[:len(b)/2] }),
	answering("one byte", func(b []byte) []byte { return b[:min(len(b), 1)] }),
	answering("twice as much", func(b []byte) []byte { return append(bytes.Clone(b), b...) }),
	answering("nothing but zeros", filled(0)),
	answering("nothing but ones", filled(0xff)),
	answering("text", func(b []byte) []byte { return bytes.Repeat([]byte("A=B\x00"), (len(b)+3)/4)[:len(b)] }),
	answering("a text without an end", func([]byte) []byte { return bytes.Repeat([]byte("TargetName=iqn.2026-01.example:x\x00"), 240) }),
	responding("busy", 0, 0x08),
	responding("a failure without a word", 0, 0x02),
	responding("a failure with too many words", 0, 0x02, bytes.Repeat([]byte{0x72}, 255)...),
	responding("that something happened", 0, 0x02, 0x70, 0, 6, 0, 0, 0, 0, 10, 0, 0, 0, 0, 0x29, 0, 0, 0, 0, 0),
	responding("a status that there is not", 0, 0xee),
	responding("a response that there is not", 0xee, 0),
	responding("a reservation of another", 0, 0x18),
}

// relay passes on what an honest target and who connects say to each other, but for the
// answers of a connection that are picked.
func relay(t *testing.T, to string, picked func(number int) func(net.Conn, []byte)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			here, err := l.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", to)
			if err != nil {
				here.Close()
				return
			}
			go func() { _, _ = io.Copy(there, here); there.Close() }()
			go func() {
				defer there.Close()
				for number := 0; ; number++ {
					pdu := make([]byte, iscsi.HeaderLength)
					if _, err := io.ReadFull(there, pdu); err != nil {
						here.Close()
						return
					}
					data := make([]byte, iscsi.Padded((*iscsi.Header)(pdu).DataLength()))
					_, _ = io.ReadFull(there, data)
					pdu = append(pdu, data...)
					if tell := picked(number); tell != nil {
						tell(here, pdu)
					} else if _, err := here.Write(pdu); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

const forALook = 250 * time.Millisecond

// together is how many targets lie at a time: who looks at them mostly waits.
const together = 48

// looks are all ways to look at a target: a target that lies makes them fail, if that.
var looks = map[string]func(ctx context.Context, o Opener, unit, portal volume.Locator) error{
	"look": func(ctx context.Context, o Opener, unit, _ volume.Locator) error {
		_, err := o.Look(ctx, unit)
		return err
	},
	"portal": func(ctx context.Context, o Opener, _, portal volume.Locator) error {
		_, _, err := o.Describe(ctx, portal)
		return err
	},
	"consent": func(ctx context.Context, o Opener, unit, _ volume.Locator) error {
		_, err := o.Agree(ctx, unit, volume.Claim{Size: unitSize, Serial: "834cffc8b59b"})
		return err
	},
	"read": func(ctx context.Context, o Opener, unit, _ volume.Locator) error { return o.Readable(ctx, unit) },
}

// locators are those of the unit and of the portal of an honest target, over a relay.
func locators(t *testing.T, portal string) (unit, of volume.Locator) {
	t.Helper()
	unit, err := Opener{}.Parse("//" + portal + "/iqn.2026-01.example:honest/0")
	if err != nil {
		t.Fatal(err)
	}
	if of, err = (Opener{}).Parse("//" + portal); err != nil {
		t.Fatal(err)
	}
	return unit, of
}

// Whatever a target says in the place of any of its answers, whoever looks at it gets an
// answer in time, and the program goes on with no more memory than a look takes.
func TestATargetThatLiesEndsNothing(t *testing.T) {
	to := honest(t)
	answers := map[string]int64{} // that each look gets
	for name, look := range looks {
		var most atomic.Int64
		unit, of := locators(t, relay(t, to, func(number int) func(net.Conn, []byte) {
			most.Store(max(most.Load(), int64(number)+1))
			return nil
		}))
		if err := look(t.Context(), Opener{Patience: time.Minute}, unit, of); err != nil {
			t.Fatalf("%s: without a lie: %v", name, err)
		}
		answers[name] = most.Load()
	}
	if len(lies) < 30 || answers["consent"] < 10 {
		t.Fatalf("%d lies in the place of %v answers", len(lies), answers)
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	atOnce := make(chan bool, together)
	var all sync.WaitGroup
	for _, l := range lies {
		for name, look := range looks {
			for at := range int(answers[name]) {
				atOnce <- true
				all.Go(func() {
					defer func() { <-atOnce }()
					unit, of := locators(t, relay(t, to, func(number int) func(net.Conn, []byte) {
						if number == at {
							return l.tell
						}
						return nil
					}))
					ended := make(chan error, 1)
					go func() { ended <- look(t.Context(), Opener{Patience: forALook}, unit, of) }()
					select {
					case err := <-ended:
						if err != nil && err.Error() == "" {
							t.Errorf("%s, %s in the place of answer %d: an error without a word", name, l.name, at)
						}
					case <-time.After(time.Minute):
						t.Errorf("%s, %s in the place of answer %d: no end", name, l.name, at)
					}
				})
			}
		}
	}
	all.Wait()
	runtime.ReadMemStats(&after)
	if more := int64(after.HeapSys) - int64(before.HeapSys); more > 100<<20 {
		t.Errorf("looks took %d MiB", more>>20)
	}
}

// The same of whatever bytes come: answers with some bytes changed at random.
func TestATargetThatStammersEndsNothing(t *testing.T) {
	to := honest(t)
	atOnce := make(chan bool, together)
	var all sync.WaitGroup
	for seed := range 200 {
		atOnce <- true
		all.Go(func() {
			defer func() { <-atOnce }()
			r := rand.New(rand.NewPCG(uint64(seed), 7))
			var mutex sync.Mutex
			unit, of := locators(t, relay(t, to, func(int) func(net.Conn, []byte) {
				mutex.Lock()
				defer mutex.Unlock()
				if r.IntN(8) > 0 {
					return nil
				}
				bytesChanged, at, value := 1+r.IntN(3), r.Uint32(), r.Uint32()
				return func(to net.Conn, pdu []byte) {
					for i := range uint32(bytesChanged) {
						pdu[(at>>(i*8)&0xff+i)%uint32(min(len(pdu), 64+int(at&63)))] ^= byte(value>>(i*8)) | 1
					}
					_, _ = to.Write(pdu)
				}
			}))
			for name, look := range looks {
				ended := make(chan error, 1)
				go func() { ended <- look(t.Context(), Opener{Patience: forALook}, unit, of) }()
				select {
				case <-ended:
				case <-time.After(time.Minute):
					t.Errorf("%s, seed %d: no end", name, seed)
				}
			}
		})
	}
	all.Wait()
}

// A queue to a target that lies gives back every operation that it was given: one that lies
// once, and one that does nothing else from then on.
func TestAQueueToALiarAnswersEverything(t *testing.T) {
	to := honest(t)
	atOnce := make(chan bool, 16)
	var all sync.WaitGroup
	for _, l := range lies {
		for _, times := range []int64{1, 1 << 40} {
			atOnce <- true
			all.Go(func() {
				defer func() { <-atOnce }()
				if err := throughALiar(t, to, l, times); err != nil {
					t.Errorf("%s, %d times: %v", l.name, times, err)
				}
			})
		}
	}
	all.Wait()
}

func throughALiar(t *testing.T, to string, l lie, times int64) error {
	const depth = 4
	var left atomic.Int64
	unit, _ := locators(t, relay(t, to, func(int) func(net.Conn, []byte) {
		if left.Add(-1) >= 0 {
			return l.tell
		}
		return nil
	}))
	made, err := Opener{}.Prepare(t.Context(), unit, volume.Request{})
	if err != nil {
		return err
	}
	used, err := made.Use(t.Context(), workload.Spec{})
	if err != nil {
		return err
	}
	v := used.(*opened)
	v.patience = patience{command: 200 * time.Millisecond, abort: 100 * time.Millisecond, silence: 200 * time.Millisecond, ping: 100 * time.Millisecond, login: 300 * time.Millisecond, giveUp: 300 * time.Millisecond}
	again := v.patience.login
	v.patience.login = time.Minute // the first one is told the truth, on a machine that may be busy
	q, err := v.Open(load.QueueOptions{Depth: depth, LargestBlock: 4096})
	if err != nil {
		return err
	}
	v.patience.login = again
	operations := make([]*load.Operation, depth)
	for i := range operations {
		operations[i] = &load.Operation{Slot: i, Class: measure.Read, Offset: int64(i) * 4096, Length: 4096}
	}
	left.Store(times)
	if err := q.Submit(operations); err != nil {
		return err
	}
	answered, into := 0, make([]load.Completion, depth)
	for end := time.Now().Add(time.Minute); answered < depth; {
		if time.Now().After(end) {
			return fmt.Errorf("%d of %d operations were not answered", depth-answered, depth)
		}
		n, err := q.Collect(into, 50*time.Millisecond)
		if err != nil {
			return err
		}
		answered += n
	}
	return q.Close(0)
}

// A session of which a command failed on the way says so for each that follows.
func TestASessionThatBrokeStaysBroken(t *testing.T) {
	for _, l := range lies[:6] {
		var left atomic.Int64
		portal := relay(t, honest(t), func(int) func(net.Conn, []byte) {
			if left.Add(-1) >= 0 {
				return l.tell
			}
			return nil
		})
		s, err := login(within(t, time.Minute), portal, options{name: initiatorName, target: "iqn.2026-01.example:honest", session: identifier()}, 1)
		if err != nil {
			t.Fatal(err)
		}
		left.Store(1 << 40)
		for range 5 * controlTasks {
			if _, err := s.do(within(t, forALook), 0, scsi.Read(0, 1), make([]byte, 512), false); err == nil {
				t.Errorf("%s: a command was carried out", l.name)
			}
		}
		s.logout()
	}
}

// Who no longer wants to know is not waited for: a look at a target that says nothing ends, with
// its connection, when its context does.
func TestALookIsBrokenOff(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	come, gone := make(chan bool, 8), make(chan error, 8)
	go func() {
		for {
			connection, err := silent.Accept()
			if err != nil {
				return
			}
			go func() {
				defer connection.Close()
				come <- true
				_, err := io.Copy(io.Discard, connection)
				gone <- err
			}()
		}
	}()
	for name, look := range looks {
		unit, portal := locators(t, silent.Addr().String())
		ctx, leave := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- look(ctx, Opener{Patience: time.Hour}, unit, portal) }()
		<-come
		leave()
		if err := <-ended; err == nil {
			t.Errorf("%s: a target that said nothing was understood", name)
		}
		<-gone
	}
}
