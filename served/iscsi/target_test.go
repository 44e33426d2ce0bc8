package iscsi

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"
	"time"

	"patientheron/core/array"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/protocol/iscsi"
	"patientheron/storage"
	"patientheron/storage/volume"
	"patientheron/storage/volume/volumetest"
)

const (
	name = "iqn.2026-01.example:array"
	size = 64 << 20
)

// serve serves a unit of a disk, with two portals.
func serve(t *testing.T, disk Disk, change func(*Options)) *Server {
	t.Helper()
	u, err := NewUnit(disk, 512, t.Name(), "test", true)
	if err != nil {
		t.Fatal(err)
	}
	o := Options{Name: name, Units: map[uint16]*Unit{0: u, 7: u}}
	if change != nil {
		change(&o)
	}
	s, err := Listen(t.Context(), o, "127.0.0.1:0", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
		u.Close()
	})
	return s
}

// prepare opens a unit over our own initiator, to be written.
func prepare(t *testing.T, locator string) volume.Volume {
	t.Helper()
	l, err := storage.Parse(locator)
	if err != nil {
		t.Fatal(err)
	}
	b := storage.Bounds{}
	facts, err := b.Look(t.Context(), l)
	if err != nil {
		t.Fatal(err)
	}
	claim := volume.Claim{Size: facts.Size, Serial: facts.Serial}
	if claim.Holds, _, err = b.Holds(t.Context(), l); err != nil {
		t.Fatal(err)
	}
	var identity setup.Identity
	if identity, err = b.Agree(t.Context(), l, claim); err != nil {
		t.Fatal(err)
	}
	claim.Identity = &identity
	v, err := b.Prepare(t.Context(), l, volume.Request{Writes: true, Consent: &claim})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = v.Close() })
	return v
}

func locator(s *Server, more string) string {
	return "iscsi://" + s.Portals()[0] + "/" + name + "/0" + more
}

// What all kinds of volume have to do, at settings of the keys on both sides.
func TestOurInitiatorAtEachSetting(t *testing.T) {
	for _, c := range []struct {
		host   string
		target iscsi.Wishes
	}{
		{"", nil},
		{"?HeaderDigest=CRC32C&DataDigest=CRC32C", iscsi.Wishes{iscsi.HeaderDigest: "CRC32C,None", iscsi.DataDigest: "CRC32C,None"}},
		{"?InitialR2T=Yes&ImmediateData=No", iscsi.Wishes{iscsi.MaxBurst: "4096", iscsi.FirstBurst: "512"}},
		{"?MaxRecvDataSegmentLength=512", iscsi.Wishes{iscsi.SegmentLength: "1024", iscsi.InitialR2T: "No", iscsi.FirstBurst: "2048", iscsi.MaxBurst: "3072", iscsi.OutstandingR2T: "4"}},
		{"?sessions=2&portal=SECOND", iscsi.Wishes{iscsi.InitialR2T: "No", iscsi.SegmentLength: "262144", iscsi.FirstBurst: "262144"}},
	} {
		t.Run(c.host, func(t *testing.T) {
			s := serve(t, Instant(size), func(o *Options) { o.Wishes = c.target })
			v := prepare(t, locator(s, strings.ReplaceAll(c.host, "SECOND", s.Portals()[1])))
			spec := workload.Default()
			spec.Zeroes, spec.Copies = 0.1, 0.1
			volumetest.Run(t, volumetest.Kind{ByStorage: []measure.Class{measure.Zero, measure.Copy}, Open: func(t *testing.T) load.Volume {
				opened, err := v.Use(t.Context(), spec)
				if err != nil {
					t.Fatal(err)
				}
				return opened
			}})
			large(t, v)
		})
	}
}

// Many and large operations over a link with a delay, with as many questions under way as
// are agreed on.
func TestOurInitiatorOverALink(t *testing.T) {
	s := serve(t, Instant(size), func(o *Options) { o.Link = Link{Delay: 0.001, Rate: 1e9} })
	large(t, prepare(t, locator(s, "?InitialR2T=Yes&ImmediateData=No&MaxBurstLength=65536&MaxOutstandingR2T=2")))
}

// large writes and reads pieces that take many PDUs.
func large(t *testing.T, v volume.Volume) {
	const most = 1 << 20
	opened, err := v.Use(t.Context(), workload.Default())
	if err != nil {
		t.Fatal(err)
	}
	q, err := opened.Open(load.QueueOptions{Depth: 4, LargestBlock: most})
	if err != nil {
		t.Fatal(err)
	}
	random, content := rand.New(rand.NewPCG(3, 4)), rand.NewChaCha8([32]byte{2})
	for range 6 {
		var writes, reads []load.Operation
		want := make([][]byte, 4)
		for slot := range 4 {
			o := load.Operation{Class: measure.Write, Slot: slot, Offset: int64(slot*2*most + 512*random.IntN(1000)), Length: 512 * (1 + random.IntN(most/512))}
			_, _ = content.Read(q.Buffer(slot)[:o.Length])
			want[slot] = bytes.Clone(q.Buffer(slot)[:o.Length])
			writes = append(writes, o)
			o.Class = measure.Read
			reads = append(reads, o)
		}
		for _, operations := range [][]load.Operation{writes, reads} {
			if err := volumetest.Submit(q, operations); err != nil {
				t.Fatal(err)
			}
			into := make([]load.Completion, 4)
			for done, end := 0, time.Now().Add(30*time.Second); done < 4; {
				n, err := q.Collect(into, 100*time.Millisecond)
				if err != nil || time.Now().After(end) {
					t.Fatalf("%d answered: %v", done, err)
				}
				for _, a := range into[:n] {
					if a.Err != nil {
						t.Fatal(a.Err)
					}
				}
				done += n
			}
		}
		for slot := range 4 {
			if !bytes.Equal(q.Buffer(slot)[:len(want[slot])], want[slot]) {
				t.Fatal("read back something else")
			}
		}
	}
	if err := q.Close(0); err != nil {
		t.Error(err)
	}
}

// Debian's tools of another initiator find, identify and measure the unit, with and
// without proof and digests.
func TestOtherInitiators(t *testing.T) {
	s := serve(t, Instant(size), nil)
	guarded := serve(t, Instant(size), func(o *Options) {
		o.Users = []iscsi.Proof{{Name: "reader", Secret: "secret-of-reader"}}
		o.Wishes = iscsi.Wishes{iscsi.HeaderDigest: "CRC32C,None"}
	})
	tool := func(arguments ...string) (string, error) {
		if _, err := exec.LookPath(arguments[0]); err != nil {
			t.Fatalf("%v; 'make install-test-needs' installs it", err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
		defer cancel()
		out, err := exec.CommandContext(ctx, arguments[0], arguments[1:]...).CombinedOutput()
		return string(out), err
	}
	portal := s.Portals()[0]
	for _, c := range []struct {
		says      string
		arguments []string
	}{
		{"Target:" + name, []string{"iscsi-ls", "-s", "iscsi://" + portal}},
		{"Lun:0", []string{"iscsi-ls", "-s", "iscsi://" + portal}},
		{"Lun:7", []string{"iscsi-ls", "-s", "iscsi://" + portal}},
		{"Vendor:HERON", []string{"iscsi-inq", "iscsi://" + portal + "/" + name + "/0"}},
		{"Designator Type:(3) NAA", []string{"iscsi-inq", "-e", "1", "-c", "131", "iscsi://" + portal + "/" + name + "/0"}},
		{fmt.Sprintf("Total size:%d", size), []string{"iscsi-readcapacity16", "iscsi://" + portal + "/" + name + "/0"}},
		{"Vendor:HERON", []string{"iscsi-inq", "iscsi://reader%secret-of-reader@" + guarded.Portals()[0] + "/" + name + "/0"}},
		{"Vendor:HERON", []string{"iscsi-inq", "iscsi://reader%secret-of-reader@" + guarded.Portals()[0] + "/" + name + "/0?header_digest=crc32c"}},
	} {
		if out, err := tool(c.arguments...); err != nil || !strings.Contains(out, c.says) {
			t.Errorf("%v: %v: %s", c.arguments, err, out)
		}
	}
	for _, wrong := range []string{"", "reader%another-secret@"} {
		if out, err := tool("iscsi-inq", "iscsi://"+wrong+guarded.Portals()[0]+"/"+name+"/0"); err == nil {
			t.Errorf("%q gets in: %s", wrong, out)
		}
	}
}

// An operation takes as long over the network as the array takes in virtual time, but for
// what the host's scheduling adds.
func TestPacedAsTheModelSays(t *testing.T) {
	// A limit of the volume is exact in the model: at most so many operations a second.
	d := array.Description{Name: "limited", Members: []array.Group{{Count: 2, Medium: array.Flash, Capacity: 64 * quantity.MiB}}, Layout: array.Layout{Level: array.Mirror}}
	d.Limits.Operations = 500
	disk, err := NewPaced(d)
	if err != nil {
		t.Fatal(err)
	}
	s := serve(t, disk, nil)
	v := prepare(t, locator(s, ""))
	spec := workload.Default()
	spec.Span, spec.Depth, spec.For, spec.WarmUp = 32<<20, 4, 2, 1
	opened, err := v.Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	outcome, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
	if err != nil || outcome.Failure != nil {
		t.Fatalf("%v %v", err, outcome)
	}
	if rate := float64(outcome.Summary.Total.Rate); rate > 505 || rate < 50 {
		t.Errorf("%.0f a second, and 500 are allowed", rate)
	}
}

// In steady state an operation of a simulated array in real time allocates nothing.
func TestPacedAllocatesNothing(t *testing.T) {
	p, err := NewPaced(array.Description{Members: []array.Group{{Count: 2, Medium: array.Flash, Capacity: 1 << 30}}, Layout: array.Layout{Level: array.Mirror}})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	done := make(chan struct{}, 64)
	operations := make([]Operation, 32)
	for i := range operations {
		operations[i] = Operation{Kind: Kind(i % 2), Offset: int64(i) << 20, Length: 4096, Done: func(bool) { done <- struct{}{} }}
	}
	round := func() {
		for i := range operations {
			p.Begin(&operations[i])
		}
		for range operations {
			<-done
		}
	}
	for range 200 {
		round()
	}
	if n := testing.AllocsPerRun(200, round) / float64(len(operations)); n > 0.1 {
		t.Errorf("%.2f allocations for each operation", n)
	}
}

// Neither side allocates for an operation in steady state.
func TestNothingIsAllocatedPerOperation(t *testing.T) {
	s := serve(t, Instant(size), nil)
	v := prepare(t, locator(s, ""))
	spec := workload.Default()
	spec.Span, spec.Reads, spec.Depth, spec.For, spec.Interval = size/2, 0.5, 16, 0, 10
	allocations := func(amount quantity.Bytes) float64 {
		spec.Amount = amount
		return testing.AllocsPerRun(2, func() {
			opened, err := v.Use(t.Context(), spec)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()}); err != nil {
				t.Fatal(err)
			}
			if err := opened.Close(); err != nil {
				t.Fatal(err)
			}
		})
	}
	few, many := allocations(4*quantity.MiB), allocations(64*quantity.MiB)
	if further := (many - few) / (60 << 20 / 4096); further > 0.1 { // 15,360 further operations
		t.Errorf("%.3f allocations for each further operation", further)
	} else {
		t.Logf("%.4f allocations for each further operation", further)
	}
}
