package iscsi

import (
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/workload"
	"patientheron/protocol/scsi"
	served "patientheron/served/iscsi"
	"patientheron/storage/volume"
)

// swappable is a target whose unit can be put in the place of another while it is used.
type swappable struct {
	t       *testing.T
	address string
	server  *served.Server
}

func (s *swappable) serve(seed string, size int64) {
	s.t.Helper()
	if s.server != nil {
		_ = s.server.Close()
	}
	unit, err := served.NewUnit(served.Instant(size), 512, seed, "unit", true)
	if err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(unit.Close)
	for range 100 { // the port may still be taken for a moment
		s.server, err = served.Listen(s.t.Context(), served.Options{Name: "iqn.2026-01.example:honest", Units: map[uint16]*served.Unit{0: unit}}, s.address)
		if err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		s.t.Fatal(err)
	}
	s.address = s.server.Portals()[0]
	server := s.server
	s.t.Cleanup(func() { _ = server.Close() })
}

// put writes into the unit, as another initiator does.
func (s *swappable) put(text string, at int64) {
	s.t.Helper()
	session, err := login(within(s.t, time.Minute), s.address, options{name: "iqn.2026-01.example:other", target: "iqn.2026-01.example:honest", session: identifier()}, 1)
	if err != nil {
		s.t.Fatal(err)
	}
	defer session.logout()
	block := make([]byte, 512)
	copy(block[at%512:], text)
	for range 3 { // what happened to the unit is told first
		if _, err = session.do(within(s.t, time.Minute), 0, scsi.Write(uint64(at/512), 1), block, true); err == nil {
			return
		}
	}
	s.t.Fatal(err)
}

// A unit that stands in the place of the one that consent was given for is not written to: not
// when the session comes back, not by the next load, and consent does not go over to it.
func TestAnotherUnitInPlace(t *testing.T) {
	const size, ext4 = 8 << 20, "\x53\xef"
	ours := workload.Spec{Kind: workload.BlockKind, Pattern: workload.Pattern{Offset: 2 << 20, Span: 1 << 20}}
	for name, c := range map[string]struct {
		swap  func(*swappable)
		words string // "" where it is still the same
	}{
		"the same, restarted":               {func(s *swappable) { s.serve("one", size) }, ""},
		"another serial number":             {func(s *swappable) { s.serve("two", size) }, "another one than before"},
		"another size":                      {func(s *swappable) { s.serve("one", 2*size) }, "another one than before"},
		"other content":                     {func(s *swappable) { s.serve("one", size); s.put("samples", 4096) }, "first MiB was written"},
		"a file system":                     {func(s *swappable) { s.serve("one", size); s.put(ext4, 1080) }, "written since"},
		"written further back by another":   {func(s *swappable) { s.put("samples", 5<<20) }, "5 MiB was written since"},
		"written in our range by ourselves": {func(s *swappable) { s.put("ours", 2<<20) }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := &swappable{t: t, address: "127.0.0.1:0"}
			s.serve("one", size)
			l, err := Opener{}.Parse("//" + s.address + "/iqn.2026-01.example:honest/0")
			if err != nil {
				t.Fatal(err)
			}
			facts, err := Opener{}.Look(t.Context(), l)
			if err != nil {
				t.Fatal(err)
			}
			claim := volume.Claim{Size: size, Serial: facts.Serial}
			agreed, err := Opener{}.Agree(t.Context(), l, claim)
			if err != nil {
				t.Fatal(err)
			}
			claim.Identity = &agreed
			made, err := Opener{}.Prepare(t.Context(), l, volume.Request{Writes: true, Consent: &claim})
			if err != nil {
				t.Fatal(err)
			}
			used, err := made.Use(t.Context(), ours)
			if err != nil {
				t.Fatal(err)
			}
			v := used.(*opened)
			v.patience = patience{command: time.Second, abort: time.Second, silence: time.Second, ping: time.Second, login: 10 * time.Second, giveUp: 20 * time.Second}
			q, err := v.Open(load.QueueOptions{Depth: 1, LargestBlock: 4096})
			if err != nil {
				t.Fatal(err)
			}
			defer q.Close(0)
			write := func() error {
				if err := q.Submit([]*load.Operation{{Class: measure.Write, Offset: 2 << 20, Length: 4096}}); err != nil {
					return err
				}
				done := make([]load.Completion, 1)
				for {
					if n, err := q.Collect(done, time.Second); n > 0 || err != nil {
						return errors.Join(err, done[0].Err)
					}
				}
			}
			if err := write(); err != nil {
				t.Fatalf("before: %v", err)
			}
			restarted := s.server
			c.swap(s)
			holds := func(when string, err error) {
				t.Helper()
				var lapsed *volume.LapsedError
				if c.words == "" && err != nil || c.words != "" && (!errors.As(err, &lapsed) || !strings.Contains(err.Error(), c.words) && !strings.Contains(err.Error(), "its serial number was") && !strings.Contains(err.Error(), "its size was")) {
					t.Errorf("%s: %v, want %q", when, err, c.words)
				}
			}
			if restarted != s.server || c.words == "" {
				holds("when the session comes back", write())
			}
			_, err = made.(volume.Identified).Identity(t.Context())
			holds("after the run", err)
			_, err = made.Use(t.Context(), ours)
			holds("before the next load", err)
		})
	}
	var refused net.Error
	if l, err := (Opener{}).Parse("//127.0.0.1:1/iqn.2026-01.example:honest/0"); err != nil {
		t.Fatal(err)
	} else if _, err := (Opener{Patience: time.Second}).Agree(t.Context(), l, volume.Claim{}); err == nil || errors.As(err, &refused) && refused.Timeout() {
		t.Errorf("a port that refuses: %v", err)
	}
}
