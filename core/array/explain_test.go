package array

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/filesystem"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/test/trials"
)

// What is measured is never above the ceiling, whatever the array, and near it
// where a hop is plainly the limit.
func TestCeilingsAreNeverExceeded(t *testing.T) {
	source := rand.New(rand.NewPCG(77, 7))
	for range 150 {
		d := anyArray(source)
		d.Caches, d.Tier = nil, nil
		if d.Validate() != nil {
			continue
		}
		u := setup.Uses[source.IntN(len(setup.Uses))]
		limit, writes := setup.Limit(d.Setup().Ceilings(u)), u.Reads == 0
		a := build(t, d)
		var next func(int) Request
		if u.Sequential {
			next = sequential(0, int(u.Block), writes)
		} else {
			next = random(a, source.Uint64(), int(u.Block), 0, writes)
		}
		count := 700
		if d.Members[0].Medium == Flash && !u.Sequential {
			count = 20_000 // the drives' own buffers take the first few thousand pages
		}
		if r := closed(a, 64, count, next); r.rate > float64(limit.Rate)*1.1 {
			t.Errorf("%s: %.0f a second, the ceiling is %.0f (%s: %s)\n%+v", u.Name, r.rate, float64(limit.Rate), limit.Name, limit.Formula, d)
		}
	}
	d := ssds(8, MirrorStripe)
	d.Link = Link{Rate: 125e6, MTU: [2]int{9000, 9000}}
	if limit := setup.Limit(d.Setup().Ceilings(setup.Uses[2])); limit.Name != "link" {
		t.Errorf("eight SSDs behind one gigabit are limited by %s", limit.Name)
	}
}

// Where one hop is plainly the limit, a deep queue comes near its ceiling, as
// docs/setups.md says.
func TestCeilingsAreReached(t *testing.T) {
	linked := func(d Description, l Link) Description { d.Link = l; return d }
	for name, c := range map[string]struct {
		d     Description
		use   int
		share float64
	}{
		"large reads of striped disks":      {disks(6), 2, 0.90},
		"large reads of striped SSDs":       {ssds(4, Stripe), 2, 0.90},
		"small reads of striped SSDs":       {ssds(4, Stripe), 0, 0.90},
		"small reads of mirrored SSDs":      {ssds(8, MirrorStripe), 0, 0.90},
		"small reads of disks":              {disks(6), 0, 0.80},
		"small writes of disks":             {disks(6), 1, 0.80},
		"large reads over one gigabit":      {linked(ssds(8, Stripe), Link{Rate: 125e6}), 2, 0.95},
		"large reads over four paths":       {linked(ssds(8, Stripe), Link{Rate: 125e6, Count: 4, Combined: Multipath}), 2, 0.90},
		"large writes over one gigabit":     {linked(ssds(8, Stripe), Link{Rate: 125e6}), 3, 0.95},
		"small reads with a slow transport": {linked(ssds(8, Stripe), Link{Rate: 1250e6, PerOp: 50e-6}), 0, 0.95},
	} {
		u := setup.Uses[c.use]
		a := build(t, c.d)
		writes := u.Reads == 0
		next := random(a, 7, int(u.Block), 0, writes)
		count := 4000
		if u.Sequential {
			next, count = sequential(0, int(u.Block), writes), 700
		}
		limit := setup.Limit(c.d.Setup().Ceilings(u))
		share := closed(a, 256, count, next).rate / float64(limit.Rate)
		t.Logf("%s: %.2f of what the hop %q can pass", name, share, limit.Name)
		if share < c.share || share > 1.1 {
			t.Errorf("%s: %.2f of the ceiling, want at least %.2f", name, share, c.share)
		}
	}
}

func TestWordsSayWhatItSurvives(t *testing.T) {
	d := disks(6)
	for level, words := range map[Level]string{Stripe: "no member", Parity: "any one member", DoubleParity: "any two", MirrorStripe: "one member of each pair", Mirror: "any 5 members"} {
		d.Layout.Level = level
		if text := strings.Join(d.Words(), " "); !strings.Contains(text, words) || !strings.Contains(text, "and a power cut") {
			t.Errorf("%s: %s", level, text)
		}
	}
	d.Caches = []Cache{{Name: "controller memory", Size: quantity.GiB, Mode: WriteBack}}
	d.Link = Link{Rate: 1e9, MTU: [2]int{9000, 1500}}
	d.Replica = &Replica{Kilometres: 50}
	text := strings.Join(d.Words(), " ")
	if assumed := strings.Join(d.Assumed(), " "); strings.Contains(text, "cached") || strings.Contains(assumed, "page cache") || strings.Contains(assumed, "file system") {
		t.Errorf("of a host of which nothing is said: %s %s", text, assumed)
	}
	d.PageCache, d.FileSystem = pagecache.Settings{Size: 8 * quantity.GiB}, filesystem.Settings{Call: 1e-6}
	text = strings.Join(append(d.Words(), d.Assumed()...), " ")
	for _, words := range []string{"controller memory would lose", "disagree about the MTU", "490 µs of signal time", "use 8 GiB of host memory as page cache, of which 20 % may be dirty", "Assumed for the page cache: throughput 5.00 GB/s, dirty 20 %, background 10 %", "Assumed for the file system: group 1 GiB"} {
		if !strings.Contains(text, words) {
			t.Errorf("%q is not in: %s", words, text)
		}
	}
}

// The room that the facts of an array leave is the one that it has, but for what is less
// than a chunk on each member.
func TestRoomByFacts(t *testing.T) {
	source := rand.New(rand.NewPCG(5, 5+trials.Seed()))
	tried := 0
	for range trials.Number(2000) {
		d := anyArray(source)
		if d.Validate() != nil {
			continue
		}
		tried++
		room, lacks := d.Setup().Usable()
		if want := d.Usable(); lacks != "" || math.Abs(float64(room-want)) > float64(d.completed().Layout.Chunk)*float64(len(d.expandedMembers())) {
			t.Fatalf("%+v: %s (%s), and %s is there", d.Layout, room, lacks, want)
		}
	}
	if tried < 500/trials.Parts() {
		t.Error(tried)
	}
}
