package setup

import (
	"maps"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// lambert is the principal branch of the Lambert function, by Newton's method.
func lambert(x float64) float64 {
	w := -0.5
	for range 200 {
		e := math.Exp(w)
		w -= (w*e - x) / (e * (w + 1))
	}
	return w
}

// Under uniform writes the amplification is Desnoyers' closed form.
func TestAmplificationOfUniformWrites(t *testing.T) {
	for _, spare := range []float64{0.05, 0.07, 0.15, 0.3, 1, 3} {
		a := 1 + spare
		want := a / (a + lambert(-a*math.Exp(-a)))
		if got := Amplification(Use{}, 1e6, a*1e6); math.Abs(got/want-1) > 1e-6 {
			t.Errorf("%.0f %% spare: %.5f, want %.5f", spare*100, got, want)
		}
	}
	if got := Amplification(Use{Sequential: true}, 1e6, 1.07e6); got != 1 {
		t.Errorf("a stream: %g", got)
	}
	if got := Amplification(Use{}, 1e6, 1e6); !math.IsInf(got, 1) {
		t.Errorf("no spare room: %g", got)
	}
}

// Where some pages are written more often than others, against a log that is kept page by page and
// cleaned first in, first out.
func TestAmplificationAgainstALog(t *testing.T) {
	source := rand.New(rand.NewPCG(4, 2))
	const used, physical = 40_000, 46_000
	for _, u := range []Use{{HotAccesses: 0.8, HotSpan: 0.2}, {HotAccesses: 0.9, HotSpan: 0.1}, {HotAccesses: 0.5, HotSpan: 0.5}} {
		log := make([]int, physical) // which page each place holds
		place := make([]int, used)
		for i := range place {
			place[i] = -1
		}
		at, programs := 0, 0
		put := func(page int) {
			log[at], place[page] = page, at
			at = (at + 1) % physical
			programs++
		}
		for i := range log {
			log[i] = -1
		}
		write := func(page int) {
			for old := log[at]; old >= 0 && place[old] == at && old != page; old = log[at] {
				put(old) // still valid: it is written once more
			}
			put(page)
		}
		for page := range used {
			write(page)
		}
		draw := func() int {
			hot := int(used * float64(u.HotSpan))
			if source.Float64() < float64(u.HotAccesses) {
				return source.IntN(hot)
			}
			return hot + source.IntN(used-hot)
		}
		for range 20 * used {
			write(draw())
		}
		programs = 0
		const count = 20 * used
		for range count {
			write(draw())
		}
		got, want := Amplification(u, used, physical), float64(programs)/count
		if math.Abs(got/want-1) > 0.03 {
			t.Errorf("%s of writes to %s: %.4f, the log programs %.4f", u.HotAccesses, u.HotSpan, got, want)
		}
	}
}

// Hops keep their own ceilings for long where one of them is not known for long: an SSD of which
// nobody knows what is inside, behind a cache.
func TestForLongOfWhatIsNotKnown(t *testing.T) {
	var s Setup
	for key, value := range map[string]string{
		"media[0].kind": "ssd", "media[0].count": "4", "media[0].size": "1TB", "media[0].randomReadRate": "90000", "media[0].randomWriteRate": "50000", "media[0].interface": "550MB/s",
		"layout.level": "raid0", "controller.operations": "150000", "cache[0].name": "memory", "cache[0].size": "4GiB", "cache[0].mode": "read-only", "cache[0].throughput": "5GB/s",
	} {
		if err := s.Set(key, value, Told, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	known := map[string]bool{}
	for _, h := range s.Ceilings(Use{Reads: 0.5, Block: 4096, Depth: 32}) {
		known[h.Name] = h.Long > 0
		if h.Rate == 0 || h.Long > 0 && h.Long != h.Rate || h.Long == 0 && h.LongFormula == "" {
			t.Errorf("%+v", h)
		}
	}
	if want := map[string]bool{"controller": true, "caches and members": false, "4 members": false}; !maps.Equal(known, want) {
		t.Errorf("known for long: %v, want %v", known, want)
	}
	if limit := ForLong(s.Ceilings(Use{Block: 4096, Depth: 32})); limit != nil {
		t.Errorf("of writes %+v is said to limit for long, and the members may", limit)
	}
}
