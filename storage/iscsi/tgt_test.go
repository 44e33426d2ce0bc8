package iscsi

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/workload"
	"patientheron/protocol/iscsi"
	"patientheron/storage/volume"
	"patientheron/storage/volume/volumetest"
	"patientheron/test/peer"
)

func within(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), d)
	t.Cleanup(cancel)
	return ctx
}

func plainOptions() options {
	return options{name: "iqn.2026-01.example:test", target: peer.Target, session: [6]byte{0x80, 1, 2, 3, 0, 1}}
}

func TestDiscoveryAndUnits(t *testing.T) {
	g := peer.StartTgt(t, 2)
	all, err := discover(within(t, 10*time.Second), g.Ports[0], plainOptions())
	if err != nil {
		t.Fatal(err)
	}
	// It tells of the portal that it was asked over.
	if len(all) != 1 || all[0].Target != peer.Target || fmt.Sprint(all[0].Portals) != fmt.Sprint(g.Ports[:1]) {
		t.Errorf("found %+v, and there is %s at %v", all, peer.Target, g.Ports)
	}
	s, err := login(within(t, 10*time.Second), g.Ports[1], plainOptions(), 4)
	if err != nil {
		t.Fatal(err)
	}
	defer s.logout()
	luns, err := units(within(t, 10*time.Second), s)
	if err != nil || len(luns) != 2 {
		t.Fatalf("%x (%v)", luns, err)
	}
	u, err := ask(within(t, 10*time.Second), s, luns[1])
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%+v", u)
	for _, f := range s.facts {
		t.Logf("%+v", f)
	}
	if u.Bytes() != peer.Size {
		t.Errorf("%d bytes", u.Bytes())
	}
}

// openUnit prepares the unit of a target for queues.
func openUnit(t *testing.T, g *peer.Tgt, more string) *opened {
	t.Helper()
	a, err := parseAddress("//" + g.Ports[0] + "/" + peer.Target + "/1" + more)
	if err != nil {
		t.Fatal(err)
	}
	v := &opened{address: a, lun: a.lunOf(), patience: usualPatience, tell: func(e volume.Event) { t.Logf("%s: %s", e.What, e.Words) }}
	s, err := login(within(t, 10*time.Second), a.Portals[0], v.options(), 1)
	if err != nil {
		t.Fatal(err)
	}
	defer s.logout()
	if v.unit, err = ask(within(t, 10*time.Second), s, v.lun); err != nil {
		t.Fatal(err)
	}
	found, err := (&seen{unit: v.unit, session: s, address: a, lun: v.lun, ctx: within(t, 10*time.Second), patience: 10 * time.Second}).identify(v.locator)
	if err != nil {
		t.Fatal(err)
	}
	if v.tenure, err = (volume.Claim{Size: found.Size, Serial: found.Serial, Identity: &found}).Tenure(v.locator, found); err != nil {
		t.Fatal(err)
	}
	v.tenure.Writes(workload.Spec{Kind: workload.BlockKind})
	return v
}

// Every setting of the keys that bear on data: what is written is in the file of the
// target, and what is read is what was written.
func TestDataAtEachSetting(t *testing.T) {
	g := peer.StartTgt(t, 1)
	for _, more := range []string{
		"", "?InitialR2T=Yes", "?ImmediateData=No", "?ImmediateData=No&InitialR2T=Yes", "?FirstBurstLength=4096", "?MaxBurstLength=8192&FirstBurstLength=512",
		"?MaxRecvDataSegmentLength=512", "?MaxOutstandingR2T=1", "?HeaderDigest=CRC32C", "?DataDigest=CRC32C", "?HeaderDigest=CRC32C&DataDigest=CRC32C&InitialR2T=Yes&MaxRecvDataSegmentLength=4096",
		"?sessions=3", "?sessions=2&policy=least",
	} {
		t.Run(more, func(t *testing.T) {
			for _, digest := range []string{"HeaderDigest", "DataDigest"} {
				g.Set(digest, map[bool]string{true: "CRC32C", false: "None"}[strings.Contains(more, digest)])
			}
			writtenAndRead(t, openUnit(t, g, more), g.File)
		})
	}
}

// writtenAndRead writes pieces of many lengths at drawn places, many at a time, compares
// the file of the target with what it has to hold, and reads all back.
func writtenAndRead(t *testing.T, v *opened, file string) {
	t.Helper()
	const depth, largest = 16, 192 << 10
	q, err := v.Open(load.QueueOptions{Depth: depth, LargestBlock: largest})
	if err != nil {
		t.Fatal(err)
	}
	random, bytesOf := rand.New(rand.NewPCG(1, 2)), rand.NewChaCha8([32]byte{1})
	want := make([]byte, peer.Size)
	held, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	copy(want, held)
	place := 0
	for round := range 8 {
		var operations []load.Operation
		for slot := range depth {
			length := 512 * (1 + random.IntN(largest/512))
			o := load.Operation{Class: measure.Write, Slot: slot, Offset: int64(place), Length: length}
			buffer := q.Buffer(slot)[:length]
			_, _ = bytesOf.Read(buffer)
			copy(want[place:], buffer)
			place = (place + length + 512*random.IntN(8)) % (peer.Size - 2*largest) / 512 * 512
			operations = append(operations, o)
		}
		all(t, q, operations)
		if round == 6 {
			all(t, q, []load.Operation{{Class: measure.Flush, Slot: 0}})
		}
	}
	all(t, q, []load.Operation{{Class: measure.Flush, Slot: 0}})
	if held, err = os.ReadFile(file); err != nil || !bytes.Equal(held, want) {
		t.Errorf("the file of the target does not hold what was written (%v)", err)
	}
	for range 8 {
		var operations []load.Operation
		for slot := range depth {
			length := 512 * (1 + random.IntN(largest/512))
			operations = append(operations, load.Operation{Class: measure.Read, Slot: slot, Offset: int64(random.IntN((peer.Size-largest)/512) * 512), Length: length})
		}
		all(t, q, operations)
		for _, o := range operations {
			if !bytes.Equal(q.Buffer(o.Slot)[:o.Length], want[o.Offset:][:o.Length]) {
				t.Fatalf("%d bytes at %d: read back something else", o.Length, o.Offset)
			}
		}
	}
	if err := q.Close(0); err != nil {
		t.Error(err)
	}
}

// all carries operations out.
func all(t *testing.T, q load.Queue, operations []load.Operation) {
	t.Helper()
	if err := volumetest.Submit(q, operations); err != nil {
		t.Fatal(err)
	}
	into := make([]load.Completion, len(operations))
	for done, end := 0, time.Now().Add(60*time.Second); done < len(operations); {
		n, err := q.Collect(into, 100*time.Millisecond)
		if err != nil || time.Now().After(end) {
			t.Fatalf("after %d of %d: %v", done, len(operations), err)
		}
		for _, c := range into[:n] {
			if i := slices.IndexFunc(operations, func(o load.Operation) bool { return o.Slot == c.Slot }); c.Err != nil || c.Bytes != operations[i].Length {
				t.Fatalf("%+v: %d bytes, %v", operations[i], c.Bytes, c.Err)
			}
		}
		done += n
	}
}

// One side proves who it is, or both do; who does not is refused.
func TestProofs(t *testing.T) {
	g := peer.StartTgt(t, 1)
	account := []string{"--lld", "iscsi", "--mode", "account"}
	g.Admin(append(account, "--op", "new", "--user", "reader", "--password", "secret of reader")...)
	g.Admin(append(account, "--op", "bind", "--tid", "1", "--user", "reader")...)
	try := func(own, expected iscsi.Proof) error {
		o := plainOptions()
		o.secret, o.expected = own, expected
		s, err := login(within(t, 10*time.Second), g.Ports[0], o, 1)
		if err == nil {
			_, err = ask(within(t, 10*time.Second), s, 1<<48)
			s.logout()
		}
		return err
	}
	reader := iscsi.Proof{Name: "reader", Secret: "secret of reader"}
	if err := try(reader, iscsi.Proof{}); err != nil {
		t.Error(err)
	}
	for name, wrong := range map[string]iscsi.Proof{"none": {}, "another user": {Name: "writer", Secret: "secret of reader"}, "another secret": {Name: "reader", Secret: "secret of writer"}} {
		if err := try(wrong, iscsi.Proof{}); !errors.Is(err, iscsi.ErrRefused) || strings.Contains(err.Error(), "secret of") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := try(reader, iscsi.Proof{Name: "store", Secret: "secret of store"}); err == nil {
		t.Error("the target cannot prove who it is, and is believed")
	}
	g.Admin(append(account, "--op", "new", "--user", "store", "--password", "secret of store")...)
	g.Admin(append(account, "--op", "bind", "--tid", "1", "--user", "store", "--outgoing")...)
	if err := try(reader, iscsi.Proof{Name: "store", Secret: "secret of store"}); err != nil {
		t.Error(err)
	}
	for name, wrong := range map[string]iscsi.Proof{"another name": {Name: "shop", Secret: "secret of store"}, "another secret": {Name: "store", Secret: "secret of shop"}} {
		if err := try(reader, wrong); !errors.Is(err, iscsi.ErrRefused) {
			t.Errorf("the target has %s: %v", name, err)
		}
	}
}

// events gathers what happens to the paths of a volume.
type events struct {
	sync.Mutex
	all []volume.Event
}

func (e *events) add(one volume.Event) {
	e.Lock()
	defer e.Unlock()
	e.all = append(e.all, one)
}

func (e *events) count(what volume.Happening) (n int) {
	e.Lock()
	defer e.Unlock()
	for _, one := range e.all {
		if one.What == what {
			n++
		}
	}
	return n
}

// impatient waits for nothing long.
var impatient = patience{command: 2 * time.Second, abort: 500 * time.Millisecond, silence: 300 * time.Millisecond, ping: 300 * time.Millisecond, login: 2 * time.Second, giveUp: 2 * time.Second}

// runBeside measures beside the test; the outcome is there when end gives how it went.
func runBeside(t *testing.T, v load.Volume, spec workload.Spec) (outcome *load.Outcome, end <-chan error) {
	outcome = &load.Outcome{}
	over := make(chan error, 1)
	go func() {
		o, err := load.Run(within(t, 60*time.Second), load.Job{Workload: spec, Volume: v, Clock: load.NewMonotonic()})
		if err == nil {
			*outcome = *o
		}
		over <- err
	}()
	return outcome, over
}

// A target that is killed and comes back, or hangs for a while, holds operations up: all
// of them end well, and what happened is told.
func TestTargetGoneForAWhile(t *testing.T) {
	for name, of := range map[string]struct{ away, back func(*peer.Tgt) }{
		"killed": {func(g *peer.Tgt) { g.Stop() }, func(g *peer.Tgt) { g.Start() }},
		"hung":   {func(g *peer.Tgt) { g.Pause(true) }, func(g *peer.Tgt) { g.Pause(false) }},
	} {
		t.Run(name, func(t *testing.T) {
			g := peer.StartTgt(t, 1)
			v := openUnit(t, g, "")
			var happened events
			v.tell, v.patience = happened.add, impatient
			v.patience.giveUp = time.Minute
			spec := workload.Default()
			spec.Span, spec.Depth, spec.Reads, spec.For, spec.Amount = peer.Size, 16, 0.5, 0, 64<<20
			outcome, end := runBeside(t, v, spec)
			time.Sleep(300 * time.Millisecond)
			of.away(g)
			for limit := time.Now().Add(20 * time.Second); happened.count(volume.Lost) == 0 && time.Now().Before(limit); {
				time.Sleep(20 * time.Millisecond)
			}
			of.back(g)
			err := <-end
			if err != nil || outcome.Failure != nil || outcome.Summary.Unanswered > 0 {
				t.Fatalf("%v, %+v", err, outcome)
			}
			if happened.count(volume.Lost) == 0 || happened.count(volume.Back) == 0 {
				t.Errorf("what happened: %+v", happened.all)
			}
			if moved := outcome.Summary.Total.Bytes; moved < 64<<20 {
				t.Errorf("%s were moved", moved)
			}
		})
	}
}

// A target that does not come back ends the load with a word, within a bounded time.
func TestTargetGoneForGood(t *testing.T) {
	g := peer.StartTgt(t, 1)
	v := openUnit(t, g, "")
	var happened events
	v.tell, v.patience = happened.add, impatient
	spec := workload.Default()
	spec.Span, spec.Depth, spec.For = peer.Size, 16, 30
	outcome, end := runBeside(t, v, spec)
	time.Sleep(300 * time.Millisecond)
	g.Stop()
	err := <-end
	if err != nil || outcome.Failure == nil || !strings.Contains(outcome.Failure.Error(), "no portal can be reached") {
		t.Errorf("%v, %+v", err, outcome)
	}
	if f := outcome.Summary.Faults; len(f) != 1 || f[0].Kind != "connection lost" {
		t.Errorf("%+v", f)
	}
}

// Of two portals one is dead, from the start or later: the other carries the load.
func TestOneOfTwoPortals(t *testing.T) {
	g := peer.StartTgt(t, 2)
	deaf, err := net.Listen("tcp", "127.0.0.1:0") // nobody accepts
	if err != nil {
		t.Fatal(err)
	}
	defer deaf.Close()
	for _, policy := range []string{"rotate", "least", "one"} {
		for name, portal := range map[string]string{"both": g.Ports[1], "closed": peer.FreePort(t), "deaf": deaf.Addr().String()} {
			v := openUnit(t, g, "?portal="+portal+"&policy="+policy)
			var happened events
			v.tell, v.patience = happened.add, impatient
			q, err := v.Open(load.QueueOptions{Depth: 8, LargestBlock: 4096})
			if err != nil {
				t.Fatal(err)
			}
			var operations []load.Operation
			for slot := range 8 {
				operations = append(operations, load.Operation{Class: measure.Read, Slot: slot, Offset: int64(slot) << 20, Length: 4096})
			}
			all(t, q, operations)
			if lost := happened.count(volume.Lost); lost != map[string]int{"closed": 1, "deaf": 1}[name] {
				t.Errorf("%s, %s: %+v", policy, name, happened.all)
			}
			if err := q.Close(0); err != nil {
				t.Error(err)
			}
		}
	}
}

// What all kinds of volume have to do.
func TestSuite(t *testing.T) {
	g := peer.StartTgt(t, 1)
	volumetest.Run(t, volumetest.Kind{ByStorage: []measure.Class{measure.Zero}, Open: func(t *testing.T) load.Volume { return openUnit(t, g, "") }})
}
