package simulated

import (
	"context"
	"errors"
	"math"
	"testing"

	"patientheron/core/array"
	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
)

// held is an array that passes 100 MB/s, before a host with so much memory for data.
func held(memory quantity.Bytes) array.Description {
	return array.Description{
		Name: "held", Members: []array.Group{{Count: 4, Medium: array.Flash, Capacity: 200 * quantity.GiB}}, Layout: array.Layout{Level: array.MirrorStripe},
		Limits: array.Limits{Throughput: 100e6}, PageCache: pagecache.Settings{Size: memory, Throughput: 5e9},
	}
}

// throughMemory is a load on blocks that go through the host's memory, for an amount.
func throughMemory(amount quantity.Bytes, change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Blocks, s.Depth, s.WarmUp, s.For, s.Amount, s.Span, s.Cached = workload.Block(64*quantity.KiB), 1, 0, 0, amount, amount, true
	change(&s)
	return s
}

func fromEndToEnd(reads quantity.Share) func(*workload.Spec) {
	return func(s *workload.Spec) { s.Order, s.Reads = workload.Sequential, reads }
}

func about(t *testing.T, what string, got, want, tolerance float64) {
	t.Helper()
	if math.Abs(got/want-1) > tolerance {
		t.Errorf("%s: %.4g, want %.4g", what, got, want)
	}
}

// A gigabyte that fits is read at the array's rate first, and then as fast as a thread can
// copy it: 2 µs for each call, and 5 GB/s.
func TestWhatFitsTheHostIsReadOnce(t *testing.T) {
	v := simulate(t, held(4*quantity.GiB))
	spec := throughMemory(quantity.GiB, fromEndToEnd(1))
	about(t, "first", float64(measured(t, v, spec).Total.Throughput), 100e6, 0.03)
	block := 64.0 * 1024
	about(t, "second", float64(measured(t, v, spec).Total.Throughput), block/(2e-6+block/5e9), 0.001)
	small := throughMemory(quantity.GiB, func(s *workload.Spec) { s.Blocks, s.For, s.Amount = workload.Block(4096), 0.1, 0 })
	about(t, "small", float64(measured(t, v, small).Total.Rate), 1/(2e-6+4096/5e9), 0.001)
}

// What is written is taken as fast as a thread can copy it until a fifth of the memory is
// dirty, and then at the array's rate; and what goes around the memory afterwards finds all
// of it on the array.
func TestWritersGoOnAtTheArraysRate(t *testing.T) {
	v := simulate(t, held(quantity.GiB))
	const amount = 2 * quantity.GiB
	sum := measured(t, v, throughMemory(amount, fromEndToEnd(0)))
	limit := 0.2 * float64(quantity.GiB)
	about(t, "seconds", float64(sum.Measured), (float64(amount)-limit)/100e6, 0.02)
	if dirty := float64(v.memory.Counts().Dirty); dirty < limit*0.98 || dirty > limit*1.01 {
		t.Errorf("%.0f MB are dirty, and %.0f may be", dirty/1e6, limit/1e6)
	}
	before := v.array.Now()
	measured(t, v, throughMemory(quantity.MiB, func(s *workload.Spec) { s.Cached = false }))
	about(t, "seconds until it is there", float64(v.array.Now()-before)/1e9, limit/100e6, 0.03)
	if !v.memory.Settled() {
		t.Error("it is not there")
	}
}

// Whoever stops while what is dirty is written does not wait for the rest.
func TestSettlingIsStopped(t *testing.T) {
	v := simulate(t, held(quantity.GiB))
	measured(t, v, throughMemory(quantity.GiB, func(s *workload.Spec) { s.Blocks, s.Reads, s.Span = workload.Block(4096), 0, 100*quantity.GiB }))
	ctx, stop := context.WithCancel(t.Context())
	around := workload.Default()
	calls := 0
	err := v.Ready(ctx, around, func(done, of quantity.Bytes) {
		if calls++; done < 0 || done > of || of < 200e6 {
			t.Errorf("%s of %s", done, of)
		}
		stop()
	})
	if calls != 1 || !errors.Is(err, context.Canceled) {
		t.Errorf("stopped after %d calls: %v", calls, err)
	}
	if _, err := v.Use(t.Context(), around); err == nil {
		t.Error("a load goes around memory in which something is dirty")
	}
	if err := v.Ready(t.Context(), around, nil); err != nil || !v.memory.Settled() {
		t.Errorf("%v, settled %t", err, v.memory.Settled())
	}
}

// A write that is flushed costs what it costs around the memory, but for the call and the
// copy; without a flush nothing of it.
func TestFlushesReachTheArray(t *testing.T) {
	d := held(quantity.GiB)
	d.Limits = array.Limits{}
	latency := func(cached bool, flush int) float64 {
		sum := measured(t, simulate(t, d), throughMemory(64*quantity.MiB, func(s *workload.Spec) {
			s.Blocks, s.Reads, s.SyncEvery, s.Cached = workload.Block(4096), 0, flush, cached
		}))
		return float64(sum.Measured) / float64(sum.Total.Operations)
	}
	call := 2e-6
	around, through := latency(false, 1), latency(true, 1)
	about(t, "flushed", through, around+call+4096/5e9+call, 0.01)
	about(t, "not flushed", latency(true, 0), call+4096/5e9, 0.01)
}

// Files that are put are in the host's memory, and fetched from there; where what they hold
// is larger, in order, nothing of them is. What is removed before it was written never is.
func TestFilesInTheHostsMemory(t *testing.T) {
	notes := fileset.Class{Name: "notes", Number: 2000, Size: fileset.Sizes{Fixed: 256 * quantity.KiB}}
	cached := func(task loadfiles.Task) workload.Spec {
		s := filesLoad(task, notes)
		s.Cached = true
		return s
	}
	fetched := func(memory quantity.Bytes) float64 {
		v := simulate(t, held(memory))
		measured(t, v, cached(loadfiles.Put))
		return float64(measured(t, v, cached(loadfiles.Fetch)).Total.Throughput)
	}
	if large := fetched(4 * quantity.GiB); large < 1e9 {
		t.Errorf("500 MiB in 4 GiB are fetched at %.0f MB/s", large/1e6)
	}
	if small := fetched(128 * quantity.MiB); small > 130e6 {
		t.Errorf("500 MiB in 128 MiB are fetched at %.0f MB/s", small/1e6)
	}

	v := simulate(t, held(8*quantity.GiB))                                  // of which 1.6 may be dirty
	moved := func() float64 { return v.array.Totals().Limit / 1e9 * 100e6 } // it passes 100 MB/s
	measured(t, v, cached(loadfiles.Put))
	put := moved()
	remove := cached(loadfiles.Remove)
	measured(t, v, remove)
	v.Rest(100)
	if written := moved() - put; put > 64e6 || written > 64e6 {
		t.Errorf("%.0f MB were written for files of 524 MB that were removed before, and then %.0f", put/1e6, written/1e6)
	}
}

// Loads of blocks and of files come one after the other through the memory and around it, with
// other files each time.
func TestOneLoadAfterTheOther(t *testing.T) {
	v := simulate(t, held(256*quantity.MiB))
	files := func(name string, number int64, task loadfiles.Task, cached bool) workload.Spec {
		s := filesLoad(task, fileset.Class{Name: name, Number: number, Size: fileset.Sizes{Fixed: 100_000}})
		s.Cached = cached
		return s
	}
	blocks := throughMemory(64*quantity.MiB, func(s *workload.Spec) { s.Reads, s.SyncEvery, s.Workers, s.Depth = 0.5, 16, 2, 8 })
	around := blocks
	around.Cached = false
	for i, spec := range []workload.Spec{
		files("a", 500, loadfiles.Put, true), files("b", 300, loadfiles.Put, true), files("b", 300, loadfiles.Fetch, true), blocks,
		files("c", 400, loadfiles.Fetch, true), around, files("c", 400, loadfiles.Save, false), files("c", 400, loadfiles.Save, true), blocks, around,
	} {
		sum := measured(t, v, spec)
		if done := sum.Classes[measure.File].Operations; loadfiles.Of(spec) != nil && done != loadfiles.Of(spec).Set.Classes[0].Number || len(sum.Faults) > 0 || sum.Total.Operations == 0 {
			t.Errorf("load %d: %d files, %v failed", i, done, sum.Faults)
		}
		if !spec.Cached && v.memory != nil && !v.memory.Settled() {
			t.Errorf("load %d goes around memory with something in it", i)
		}
	}
}

// Blocks that are read again and again stay in memory while files that are larger pass
// through it: these come at the array's rate, those at that of a call and a copy.
func TestAtOnceThroughMemory(t *testing.T) {
	v := simulate(t, held(256*quantity.MiB))
	spec := atOnce(
		part("index", func(s *workload.Spec) { s.Span, s.Depth = 32*quantity.MiB, 1 }),
		filesPart("scans", loadfiles.Fetch, func(s *workload.Spec) { s.Depth = 8 }, fileset.Class{Name: "scans", Number: 500, Size: fileset.Sizes{Fixed: 4 * quantity.MiB}}),
	)
	spec.Cached, spec.WarmUp, spec.For = true, 5, 5
	measured(t, v, throughMemory(32*quantity.MiB, fromEndToEnd(1)))
	s := measured(t, v, spec)
	_, index := spec.Part(0, &s)
	_, scans := spec.Part(1, &s)
	about(t, "files", float64(scans.Total.Throughput), 100e6, 0.05)
	about(t, "blocks", float64(index.Total.Rate), 1/(2e-6+4096/5e9), 0.05)
}

// Loads that only read go on finding in memory what was read before one around it.
func TestInsideTellsOfTheMemory(t *testing.T) {
	v := simulate(t, held(quantity.GiB))
	half := throughMemory(512*quantity.MiB, func(s *workload.Spec) { s.For, s.Amount = 2, 0 })
	o, series := run(t, t.Context(), v, half)
	if o.Failure != nil || len(series) == 0 {
		t.Fatal(o.Failure)
	}
	hits := func(series []measure.Interval) (share float64, told bool) {
		for _, i := range series {
			for _, c := range i.Inside {
				if c.Name == "page cache hit rate" {
					share, told = c.Value, true
				}
			}
		}
		return share, told
	}
	first, told := hits(series)
	if !told || first < 0.1 || first > 0.6 {
		t.Errorf("%.2f hit in the end", first)
	}
	around := half
	around.Cached = false
	if _, series := run(t, t.Context(), v, around); len(series) == 0 {
		t.Fatal("nothing is measured")
	} else if _, told := hits(series); told {
		t.Error("what goes around the memory has hits")
	}
	again := half
	again.Seed = 9
	if _, series = run(t, t.Context(), v, again); len(series) > 0 {
		if share, _ := hits(series[:1]); share < first-0.1 {
			t.Errorf("after a load around it %.2f hit, and %.2f before", share, first)
		}
	}
}

var _ load.Queue = (*cachedQueue)(nil)
