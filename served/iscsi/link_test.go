package iscsi

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"patientheron/core/quantity"
)

// linked are the two ends of a connection over a link.
func linked(t *testing.T, l Link) (host, unit net.Conn) {
	t.Helper()
	host, other, err := pair(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var over sync.WaitGroup
	if unit, err = l.through(t.Context(), other, &over); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = host.Close()
		_ = unit.Close()
		over.Wait()
	})
	return host, unit
}

// Whatever is sent comes whole and in order, both ways at once.
func TestALinkPassesOnWhatItIsGiven(t *testing.T) {
	host, unit := linked(t, Link{Delay: 0.002, Rate: 400e6})
	var both sync.WaitGroup
	for n, way := range [][2]net.Conn{{host, unit}, {unit, host}} {
		data := make([]byte, 8<<20)
		random := rand.NewChaCha8([32]byte{byte(n)})
		_, _ = random.Read(data)
		both.Go(func() {
			for left := data; len(left) > 0; {
				part := min(1+int(random.Uint64()%200_000), len(left))
				if _, err := way[0].Write(left[:part]); err != nil {
					t.Error(err)
					return
				}
				left = left[part:]
			}
		})
		both.Go(func() {
			got := make([]byte, len(data))
			if _, err := io.ReadFull(way[1], got); err != nil || !bytes.Equal(got, data) {
				t.Errorf("what came is not what was sent (%v)", err)
			}
		})
	}
	both.Wait()
}

// A link takes as long as it says, at the least: how much longer hangs on the host.
func TestALinkTakesItsTime(t *testing.T) {
	const delay, rate = quantity.Seconds(0.02), quantity.ByteRate(20e6)
	host, unit := linked(t, Link{Delay: delay, Rate: rate})
	begun := time.Now()
	if _, err := host.Write([]byte("there")); err != nil {
		t.Fatal(err)
	}
	buffer := make([]byte, 5)
	if _, err := io.ReadFull(unit, buffer); err != nil {
		t.Fatal(err)
	}
	if _, err := unit.Write(buffer); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(host, buffer); err != nil {
		t.Fatal(err)
	}
	if took := time.Since(begun); took < 2*delay.Duration() {
		t.Errorf("there and back took %s", took)
	}
	const much = 4_000_000
	begun = time.Now()
	go func() { _, _ = host.Write(make([]byte, much)) }()
	if _, err := io.CopyN(io.Discard, unit, much); err != nil {
		t.Fatal(err)
	}
	if took, least := time.Since(begun), quantity.Seconds(much/float64(rate)); took < least.Duration() {
		t.Errorf("%d bytes took %s, less than the %s of the rate", much, took, least)
	}
}

// When one end is closed, what was sent before still comes, and then the other ends.
func TestALinkEndsWithItsEnds(t *testing.T) {
	host, unit := linked(t, Link{Delay: 0.01})
	if _, err := unit.Write([]byte("last words")); err != nil {
		t.Fatal(err)
	}
	if err := unit.Close(); err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(host); err != nil || string(got) != "last words" {
		t.Errorf("%q (%v)", got, err)
	}
}

func TestLinksThatCannotBe(t *testing.T) {
	for _, l := range []Link{{Delay: -1}, {Delay: 11}, {Rate: -1}, {Rate: 3}} {
		if l.Check() == nil {
			t.Errorf("%+v is taken", l)
		}
	}
	if err := (Link{Delay: 0.001, Rate: 1e9}).Check(); err != nil {
		t.Error(err)
	}
}
