package simulated

import (
	"math"
	"testing"

	"patientheron/core/array"
	"patientheron/core/fileset"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/core/workload/stores"
	"patientheron/core/workload/streams"
)

func part(name string, change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Name, s.Span = name, quantity.GiB
	change(&s)
	return s
}

func atOnce(parts ...workload.Spec) workload.Spec {
	s := workload.Default()
	s.SetTogether()
	s.Together, s.For, s.WarmUp = parts, 10, 1
	return s
}

// Loads at once on one volume keep their own pace, take from each other what the volume can
// do, and are counted apart.
func TestLoadsAtOnce(t *testing.T) {
	limited := mirrorStripe()
	limited.Limits.Operations = 1000
	set := func(rate quantity.OpRate) func(*workload.Spec) {
		return func(s *workload.Spec) { s.Rate = rate }
	}
	deep := func(depth, workers int) func(*workload.Spec) {
		return func(s *workload.Spec) { s.Depth, s.Workers = depth, workers }
	}
	for name, c := range map[string]struct {
		d     array.Description
		parts []workload.Spec
		want  []float64 // a second
	}{
		"at their own rates":        {mirrorStripe(), []workload.Spec{part("a", set(200)), part("b", set(300))}, []float64{200, 300}},
		"an equal share each":       {limited, []workload.Spec{part("a", deep(8, 1)), part("b", deep(8, 1))}, []float64{500, 500}},
		"by how much each asks":     {limited, []workload.Spec{part("a", deep(4, 1)), part("b", deep(6, 2))}, []float64{250, 750}},
		"what one at a rate leaves": {limited, []workload.Spec{part("a", set(200)), part("b", deep(16, 1))}, []float64{200, 800}},
	} {
		v, spec := simulate(t, c.d), atOnce(c.parts...)
		s := measured(t, v, spec)
		var all int64
		for i, want := range c.want {
			load, own := spec.Part(i, &s)
			all += own.Total.Operations
			if math.Abs(float64(own.Total.Rate)/want-1) > 0.02 {
				t.Errorf("%s: %q did %.0f a second, not %.0f", name, load.Name, float64(own.Total.Rate), want)
			}
		}
		if all != s.Total.Operations || len(s.Groups) != len(c.parts) {
			t.Errorf("%s: %d operations of its loads, %d in all", name, all, s.Total.Operations)
		}
	}
}

// Each load has a region of its own, one behind the other unless it says where.
func TestLoadsAtOnceDoNotOverlap(t *testing.T) {
	spec := atOnce(part("a", func(s *workload.Spec) { s.Reads = 0 }), part("b", func(s *workload.Spec) { s.Span = 2 * quantity.GiB }), part("c", func(*workload.Spec) {})).Completed()
	var end quantity.Bytes
	for _, p := range spec.Together {
		if p.Offset != end {
			t.Errorf("%q begins at %s, not %s", p.Name, p.Offset, end)
		}
		end = p.Offset + p.Span
	}
	if size, writes := spec.Reach(); size != 4*quantity.GiB || !writes || spec.Workers != 3 {
		t.Errorf("%s, writes %t, %d workers", size, writes, spec.Workers)
	}
	again := spec.Completed()
	if again.Span != spec.Span || again.Workers != spec.Workers || again.Together[2].Offset != spec.Together[2].Offset || again.Together[1].Seed != spec.Together[1].Seed {
		t.Errorf("%+v is not %+v", again, spec)
	}
	odd := atOnce(part("a", func(s *workload.Spec) { s.Span = 1_000_001 }), part("b", func(*workload.Spec) {})).Completed()
	if at := odd.Together[1].Offset; at%4096 != 0 || at < 1_000_001 || at > 1_000_001+4096 {
		t.Errorf("behind %d bytes the next begins at %d", odd.Together[0].Span, at)
	}
	if again.Together[0].Seed == again.Together[1].Seed {
		t.Error("two loads draw the same places")
	}
}

// Feeds and stores at once with blocks: late pieces are those of the feeds, requests those
// of the stores, and a load that leaves nothing makes pieces late.
func TestFeedsAndStoresAtOnce(t *testing.T) {
	limited := mirrorStripe()
	limited.Limits.Throughput = 50e6
	feeds := part("films", func(s *workload.Spec) {
		s.SetBody(&streams.Feeds{Count: 5, Rate: 6e6, Buffer: 0.2})
	})
	stores := part("ledger", func(s *workload.Spec) {
		s.Kind, s.Span = stores.Kind, 4*quantity.GiB
		s.SetBody(&stores.Stores{Count: 1, Requests: []stores.RequestShare{{Request: stores.PutRequest, Weight: 1}, {Request: stores.GetRequest, Weight: 1}}, Value: fileset.Sizes{Fixed: 400}})
	})
	v := simulate(t, limited)
	alone, hungry := atOnce(feeds, part("idle", func(s *workload.Spec) { s.Rate = 1 })), atOnce(feeds, part("hungry", func(s *workload.Spec) { s.Depth, s.Blocks = 32, workload.Block(quantity.MiB) }))
	_, kept := alone.Part(0, ptr(measured(t, v, alone)))
	if kept.Feeds == nil || kept.Feeds.Late != 0 || kept.Feeds.Pieces < 200 {
		t.Errorf("30 of 50 MB/s alone: %+v", kept.Feeds)
	}
	sum := measured(t, v, hungry)
	_, starved := hungry.Part(0, &sum)
	if starved.Feeds == nil || starved.Feeds.Late == 0 {
		t.Errorf("beside a load that leaves nothing: %+v", starved.Feeds)
	}
	found := false
	for _, f := range judge.Findings(judge.Observed{Load: hungry.Completed(), Summary: sum}) {
		found = found || f.Kind == "late-pieces" && f.Sentence[:7] == `"films"`
	}
	if !found {
		t.Error("late pieces are not found")
	}
	three := atOnce(feeds, stores, part("blocks", func(s *workload.Spec) { s.Rate = 50 }))
	sum = measured(t, simulate(t, mirrorStripe()), three)
	if len(sum.Groups) != 6 {
		t.Fatalf("%d groups", len(sum.Groups))
	}
	_, ledger := three.Part(1, &sum)
	_, blocks := three.Part(2, &sum)
	if ledger.Stores == nil || ledger.Stores.Requests == 0 || math.Abs(float64(blocks.Total.Rate)-50) > 1 {
		t.Errorf("%+v, and %s", ledger.Stores, blocks.Total.Rate)
	}
}

func ptr(s measure.Summary) *measure.Summary { return &s }

func filesPart(name string, task loadfiles.Task, change func(*workload.Spec), classes ...fileset.Class) workload.Spec {
	s := filesLoad(task, classes...)
	s.Name, s.Passes, s.For = name, 0, 10
	change(&s)
	return s
}

// Files at once with blocks: under a limit of bytes a second those who ask with as much in
// flight get as much, one that keeps a pace keeps it, and each is counted in its own terms.
func TestFilesAtOnceWithBlocks(t *testing.T) {
	limited := mirrorStripe()
	limited.Limits.Throughput = 100e6
	large := fileset.Class{Name: "scans", Number: 500, Size: fileset.Sizes{Fixed: 4 * quantity.MiB}}
	small := fileset.Class{Name: "notes", Number: 2000, Size: fileset.Sizes{Fixed: 4 * quantity.KiB}}
	blocks := func(depth int) workload.Spec {
		return part("blocks", func(s *workload.Spec) { s.Blocks, s.Depth, s.Reads = workload.Block(quantity.MiB), depth, 0 })
	}
	deep := func(depth int) func(*workload.Spec) {
		return func(s *workload.Spec) { s.Depth = depth }
	}
	for name, c := range map[string]struct {
		parts []workload.Spec
		want  []float64 // bytes a second
	}{
		"as much each":           {[]workload.Spec{blocks(8), filesPart("put", loadfiles.Put, deep(8), large)}, []float64{50e6, 50e6}},
		"a quarter":              {[]workload.Spec{filesPart("fetch", loadfiles.Fetch, deep(4), large), blocks(12)}, []float64{25e6, 75e6}},
		"two trees":              {[]workload.Spec{filesPart("put", loadfiles.Put, deep(8), large), filesPart("fetch", loadfiles.Fetch, deep(8), large)}, []float64{50e6, 50e6}},
		"three, and one is slow": {[]workload.Spec{part("slow", func(s *workload.Spec) { s.Rate, s.Depth = 1000, 512 }), filesPart("put", loadfiles.Put, deep(8), large), blocks(8)}, []float64{4.096e6, 47.95e6, 47.95e6}},
	} {
		v, spec := simulate(t, limited), atOnce(c.parts...)
		s := measured(t, v, spec)
		for i, want := range c.want {
			load, own := spec.Part(i, &s)
			if got := float64(own.Total.Throughput); math.Abs(got/want-1) > 0.05 {
				t.Errorf("%s: %q moved %.1f MB/s, not %.1f", name, load.Name, got/1e6, want/1e6)
			}
			if files := own.Classes[measure.File]; load.Traits().OnFiles && (files.Operations == 0 || quantity.Bytes(files.Operations)*4*quantity.MiB != files.Bytes) {
				t.Errorf("%s: %q did %+v", name, load.Name, files)
			}
		}
	}

	v, spec := simulate(t, mirrorStripe()), atOnce(filesPart("notes", loadfiles.Fetch, deep(4), small), part("blocks", func(s *workload.Spec) { s.Rate, s.Reads = 500, 0.5 }), filesPart("mail", loadfiles.Save, deep(4), small))
	spec.For = 2
	s := measured(t, v, spec)
	first, kept := s.Groups, v.systems[0]
	if len(first) != 3 || first[0].Operations == 0 || first[2].Operations == 0 || math.Abs(float64(first[1].Rate)-500) > 5 {
		t.Errorf("%+v", first)
	}
	if again := measured(t, v, spec); v.systems[0] != kept || again.Groups[0].Operations == 0 {
		t.Error("files that nobody changed were made anew")
	}
	if v.systems[1] == nil || v.systems[0].at+v.systems[0].size > v.systems[1].at || v.systems[0].at < spec.Completed().Span {
		t.Errorf("%+v lies over %+v, or over blocks", v.systems[0].region, v.systems[1].region)
	}
	measured(t, v, filesPart("notes", loadfiles.Fetch, deep(4), small))
	if len(v.systems) != 1 || v.systems[0].region != (region{0, v.array.Size()}) {
		t.Errorf("%d file systems, in %+v", len(v.systems), v.systems[0].region)
	}
}
