package choose_test

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/choose"
	"patientheron/core/judge"
	"patientheron/core/need"
	"patientheron/format/arrayfile"
	"patientheron/format/needfile"
	"patientheron/format/partsfile"
	"patientheron/storage/simulated"
	"patientheron/test/trials"
)

func parts(t *testing.T, text string) choose.Parts {
	t.Helper()
	p, err := partsfile.Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func wanted(t *testing.T, text string) need.Need {
	t.Helper()
	n, err := needfile.Read([]byte("name: n\n" + text))
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func search(t *testing.T, n need.Need, p choose.Parts, change func(*choose.Search)) choose.Chosen {
	t.Helper()
	s := choose.Search{Need: n, Parts: p, Measure: simulated.Measure}
	if change != nil {
		change(&s)
	}
	r, err := s.Run(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const disks = `name: parts
levels: [raid0, raid10, raid5, raid6]
drives:
  - {name: disk, price: 100, counts: [2, 3, 4, 5, 6], members: {medium: hard disk, capacity: 2TB}}
`

// Cases whose answer is known on paper.
func TestAnswersKnownOnPaper(t *testing.T) {
	for name, c := range map[string]struct {
		need, parts string
		want        string // beginning of the cheapest design that meets it
		cheaper     string // part of why the cheaper ones fail, or are out
	}{
		// Three times 220 MB/s are 660, twice are 440; nothing has to be survived.
		"a stripe is enough": {
			"uses: [{name: films, load: {block: 1MiB, order: sequential, depth: 16, span: 20GiB, warmUp: 0.2s, for: 2s}, bounds: {throughput: at least 600MB/s}}]",
			disks, "3 × disk, raid0", "is below the load",
		},
		// A small write costs two operations on mirrors, four with single parity and six with
		// double, so that six disks do 3, 1.5 or 1 times what one does: some 350 a second when
		// it may order what waits.
		"parity cannot meet small writes": {
			"survives: [any member]\nuses: [{name: ledger, load: {block: 8KiB, reads: 0%, depth: 32, span: 100GiB, warmUp: 1s, for: 8s}, bounds: {iops: at least 800}}]",
			disks, "6 × disk, raid10", "does not survive any member",
		},
		// Nine tenths of the lookups go to a hundredth of the span, which the cache holds.
		"the cache pays for the skewed ledger": {
			"uses: [{name: ledger, load: {block: 16KiB, order: skewed, hot: 95%/0.1%, depth: 16, span: 1000GiB, warmUp: 40s, for: 8s}, bounds: {iops: at least 2000}}]",
			strings.Replace(disks, "[2, 3, 4, 5, 6]", "[4, 8, 12]", 1) + "caches:\n  - {name: cache, price: 300, cache: {size: 100GB, block: 16KiB, mode: read-only, devices: 1}}\n",
			"4 × disk, raid0, cache", "",
		},
		// Uniform lookups over all of it hardly ever meet the cache: only more disks help.
		"and not for the uniform one": {
			"uses: [{name: ledger, load: {block: 16KiB, order: random, depth: 64, span: 4000GiB, warmUp: 1s, for: 8s}, bounds: {iops: at least 1900}}]",
			strings.Replace(disks, "[2, 3, 4, 5, 6]", "[4, 8, 12]", 1) + "caches:\n  - {name: cache, price: 300, cache: {size: 100GB, block: 16KiB, mode: read-only, devices: 1}}\n",
			"12 × disk, raid0", "",
		},
		// One gigabit passes 118 MB/s, whatever stands behind it.
		"the link limits, and more disks do not help": {
			"uses: [{name: films, load: {block: 1MiB, order: sequential, depth: 16, span: 20GiB, warmUp: 0.2s, for: 2s}, bounds: {throughput: at least 300MB/s}}]",
			disks + "links:\n  - {name: one gigabit, price: 20, link: {rate: 125MB/s}}\n  - {name: ten gigabits, price: 200, link: {rate: 1250MB/s}}\n",
			"2 × disk, raid0, ten gigabits", `the limit of hop "link" is below the load of "films"`,
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := search(t, wanted(t, c.need), parts(t, c.parts), nil)
			first := r.Judged.Setups[0]
			if first.Outcome != judge.Meets || first.Name != c.want {
				t.Errorf("%s %s; want %s", first.Name, first.Words, c.want)
				for _, a := range r.Judged.Setups {
					t.Logf("%s %g: %s (%.2f)", a.Name, a.Price, a.Words, a.Carries)
				}
				for _, o := range append(r.Out, r.Cheaper...) {
					t.Logf("%d: %s (%s)", o.Count, o.Words, o.Example)
				}
			}
			if c.cheaper != "" && !slices.ContainsFunc(append(r.Out, r.Cheaper...), func(o choose.Reason) bool { return strings.Contains(o.Words, c.cheaper) }) {
				t.Errorf("%q is not said: %+v %+v", c.cheaper, r.Out, r.Cheaper)
			}
			if d, err := arrayfile.Read([]byte(r.Finalists[0].Text)); err != nil || d.Price != first.Price {
				t.Errorf("%v: %s", err, r.Finalists[0].Text)
			}
		})
	}
}

const many = `name: parts
levels: [raid10, raid5, raid6]
chunks: [64KiB, 256KiB]
spares: 1
drives:
  - {name: disk, price: 100, counts: [4, 6, 8, 12], members: {medium: hard disk, capacity: 2TB}}
  - {name: fast disk, price: 170, counts: [4, 6, 8, 12], members: {medium: hard disk, capacity: 1TB, rpm: 15000, seekAverage: 3.8ms, seekFull: 8ms}}
  - {name: flash, price: 300, counts: [4, 6], members: {medium: ssd, capacity: 1TB}}
caches:
  - {name: memory, price: 350, cache: {size: 2GiB, block: 16KiB, mode: write-back, protected: true}}
  - {name: read cache, price: 250, bays: 1, cache: {size: 50GB, block: 64KiB, mode: read-only, devices: 1}}
controllers:
  - {name: controller, price: 400, controller: {operations: 100k, throughput: 1GB/s}}
enclosures:
  - {name: small, price: 200, bays: 6}
  - {name: large, price: 300, bays: 13}
`

const afternoon = `survives: [any member, a power cut]
capacity: 2TB
uses:
  - {name: ledger, load: {block: 8KiB, reads: 60%, order: skewed, hot: 80%/10%, depth: 16, span: 200GiB, warmUp: 0.5s, for: 2s}, bounds: {iops: at least 1100, p99: at most 120ms}}
  - {name: films, load: {feeds: 4, feedRate: 20MB/s, buffer: 1s, span: 100GiB, warmUp: 0.5s, for: 2s}, bounds: {late: none}}
`

// The race finds what a full search finds, at a fraction of the measurements.
func TestNeverWorseThanAFullSearch(t *testing.T) {
	catalogue, least := many, 160
	if !trials.All(0) { // a sixth of it
		catalogue, least = strings.ReplaceAll(many, "[4, 6, 8, 12]", "[6, 8]"), 40
	}
	n, p := wanted(t, afternoon), parts(t, catalogue)
	full := search(t, n, p, func(s *choose.Search) { s.Full = true })
	raced := search(t, n, p, nil)
	if raced.Designs < least || full.Judged.Setups[0].Outcome != judge.Meets {
		t.Fatalf("%d designs, %s", raced.Designs, full.Judged.Words)
	}
	if a, b := raced.Judged.Setups[0], full.Judged.Setups[0]; a.Outcome != judge.Meets || a.Price > b.Price {
		t.Errorf("the race finds %s at %g, a full search %s at %g", a.Name, a.Price, b.Name, b.Price)
	}
	t.Logf("%d designs, %d measured: %d measurements in the race, %d in full; %s", raced.Designs, raced.Measured, raced.Runs, full.Runs, raced.Judged.Words)
	// Nothing that is shown is dominated by what is shown, and every design is one that the
	// parts make.
	for _, d := range raced.Finalists {
		sum := 0.0
		for _, line := range d.Bill {
			sum += line.Price
		}
		if sum != d.Price {
			t.Errorf("%s costs %g, and its parts %g", d.Name, d.Price, sum)
		}
	}
}

// The answer does not hang on how many cores there are.
func TestTheSameOnOneCore(t *testing.T) {
	n, p := wanted(t, afternoon), parts(t, many)
	p.Drives = p.Drives[:1]
	on := func(cores int) choose.Chosen {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(cores))
		return search(t, n, p, nil)
	}
	if one, all := on(1), on(4); one.Runs < 50 || !reflect.DeepEqual(one, all) {
		t.Errorf("%d measurements on one core, %d on four, or other answers", one.Runs, all.Runs)
	}
}

// Where nothing can meet a need it is said what to give up; a search that is stopped ends.
func TestNothingMeetsIt(t *testing.T) {
	n := wanted(t, strings.Replace(afternoon, "120ms", "200us", 1))
	p := parts(t, many)
	p.Drives, p.Chunks = p.Drives[:1], p.Chunks[:1]
	r := search(t, n, p, nil)
	if len(r.Judged.Setups) == 0 || r.Judged.Setups[0].Outcome == judge.Meets || len(r.Judged.GiveUp) == 0 || !strings.Contains(r.Judged.Words, "p99 latency") {
		t.Errorf("%s %+v", r.Judged.Words, r.Judged.GiveUp)
	}
	poor := n
	poor.Budget = 10
	if r := search(t, poor, p, nil); r.Measured != 0 || len(r.Out) != 1 || r.Out[0].Count != r.Designs || !strings.Contains(r.Out[0].Words, "budget") {
		t.Errorf("%+v", r)
	}
	ctx, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer stop()
	if _, err := (choose.Search{Need: wanted(t, afternoon), Parts: parts(t, many), Measure: simulated.Measure}).Run(ctx); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("stopped: %v", err)
	}
	staged := wanted(t, "uses: [{name: a, stage: ledger, bounds: {p99: at most 1s}}]")
	if _, err := (choose.Search{Need: staged, Parts: p, Measure: simulated.Measure}).Run(t.Context()); err == nil || !strings.Contains(err.Error(), "its load") {
		t.Errorf("a stage: %v", err)
	}
}

func TestPartsThatCannotBe(t *testing.T) {
	for words, text := range map[string]string{
		"no price":             strings.Replace(disks, "price: 100, ", "", 1),
		"names no RAID levels": strings.Replace(disks, "levels: [raid0, raid10, raid5, raid6]\n", "", 1),
		"raid7":                strings.Replace(disks, "raid6", "raid7", 1),
		"how many":             strings.Replace(disks, "counts: [2, 3, 4, 5, 6], ", "", 1),
		"does not say what":    strings.Replace(disks, ", members: {medium: hard disk, capacity: 2TB}", "", 1),
		"2TBs":                 strings.Replace(disks, "2TB", "2TBs", 1),
		"two parts":            disks + "links: [{name: disk, price: 1, link: {rate: 1GB/s}}]\n",
		"colour":               disks + "colour: red\n",
		"0 bays":               disks + "enclosures: [{name: box, price: 1}]\n",
		"there is no drive":    "name: x\nlevels: [raid0]\n",
		"at most: try fewer":   strings.Replace(disks, "[2, 3, 4, 5, 6]", "["+strings.TrimSuffix(strings.Repeat("4, ", 60), ", ")+"]", 1) + "chunks: [" + chunks(60) + "]\ncaches: [" + caches(60) + "]\n",
		"a multiple of 4 KiB":  disks + "chunks: [1000B]\n",
	} {
		_, err := partsfile.Read([]byte(text))
		var at *partsfile.Error
		if !errors.As(err, &at) || at.Line == 0 || !strings.Contains(err.Error(), words) {
			t.Errorf("%v does not say %q", err, words)
		}
	}
}

func chunks(n int) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf("%dKiB", 4*(i+1)))
	}
	return strings.Join(all, ", ")
}

func caches(n int) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf("{name: c%d, price: 1, cache: {size: 1GB, mode: read-only}}", i))
	}
	return strings.Join(all, ", ")
}
