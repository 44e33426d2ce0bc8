package setup

import (
	"errors"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/test/trials"
)

func facts(t *testing.T, pairs ...string) (s Setup) {
	t.Helper()
	for i := 0; i < len(pairs); i += 2 {
		if err := s.Set(pairs[i], pairs[i+1], Told, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

func TestFactsKeepTheirOrderAndForm(t *testing.T) {
	s := facts(t, "cost.price", "4700", "link[1].mtuHere", "9000", "media[0].size", "4000GB", "link[0].rate", "1.25GB/s", "cache[0].protected", "True", "layout.level", "raid5", "tuning.queue_depth", "64")
	var keys []string
	for _, f := range s.Facts {
		keys = append(keys, f.Key+"="+f.Value)
	}
	want := "media[0].size=4TB layout.level=raid5 cache[0].protected=yes link[0].rate=1250MB/s link[1].mtuHere=9000 tuning.queue_depth=64 cost.price=4700"
	if got := strings.Join(keys, " "); got != want {
		t.Errorf("facts %s\nwant  %s", got, want)
	}
	if s.Bytes("media[0].size") != 4e12 || s.ByteRate("link[0].rate") != 1.25e9 || !s.Is("cache[0].protected") || s.Count("link") != 2 || s.Number("cost.price") != 4700 {
		t.Errorf("values %+v", s)
	}
	before := len(s.Facts)
	if err := s.Set("cost.price", "", Told, time.Time{}); err != nil || len(s.Facts) != before-1 || s.Text("cost.price") != "" {
		t.Errorf("a fact was not taken back: %v", err)
	}
}

func TestWhatCannotBeAFact(t *testing.T) {
	for key, value := range map[string]string{
		"media[0].count": "many", "layout.level": "raid7", "nothing": "1", "media.count": "3", "media[99].count": "1", "link[0].rate": "fast",
		"cost.price": "-1", "cache[0].protected": "perhaps", "host.memory": "lots", "tuning.a b": "1", "link[x].rate": "1MB/s", "session.": "1",
	} {
		var s Setup
		var wrong *mistake.Error
		if err := s.Set(key, value, Told, time.Time{}); !errors.As(err, &wrong) || !errors.Is(err, ErrInvalid) {
			t.Errorf("%s = %s: %v", key, value, err)
		}
	}
	for name, pairs := range map[string][]string{
		"raid5 of two":          {"media[0].count", "2", "layout.level", "raid5"},
		"raid10 of five":        {"media[0].count", "5", "layout.level", "raid10"},
		"single of three":       {"media[0].count", "3", "layout.level", "single"},
		"all missing":           {"media[0].count", "3", "layout.missing", "3"},
		"one protects itself":   {"cache[0].mode", "write-back", "cache[0].protected", "yes", "cache[0].medium", "ssd", "cache[0].devices", "1"},
		"an MTU of ten":         {"link[0].mtuHere", "10"},
		"one link, combined":    {"link[0].count", "1", "link[0].combined", "multipath"},
		"a tier of one copy":    {"tier.level", "raid0"},
		"a name over two lines": {},
	} {
		s := facts(t, pairs...)
		if err := s.Validate(); len(pairs) > 0 && !errors.Is(err, ErrInvalid) {
			t.Errorf("%s is possible", name)
		}
	}
	s := facts(t, "media[0].model", "a name\nof two lines \x1b[31m")
	if got := s.Text("media[0].model"); strings.ContainsAny(got, "\n\x1b") {
		t.Errorf("a hostile name stays %q", got)
	}
}

// Each formula by an example worked out by hand.
func TestCeilingsByHand(t *testing.T) {
	disks := []string{"media[0].kind", "ssd", "media[0].count", "6", "media[0].randomReadRate", "100", "media[0].randomWriteRate", "50", "media[0].readRate", "200MB/s", "media[0].writeRate", "100MB/s"}
	at := func(level string, more ...string) Setup {
		return facts(t, append(append([]string{"layout.level", level}, disks...), more...)...)
	}
	small := Use{Reads: 1, Block: 4096}
	smallWrites := Use{Reads: 0, Block: 4096}
	large := Use{Reads: 1, Sequential: true, Block: 1e6}
	largeWrites := Use{Reads: 0, Sequential: true, Block: 1e6}
	for name, c := range map[string]struct {
		setup Setup
		use   Use
		hop   string
		want  float64
	}{
		"six members read":                 {at("raid5"), small, "6 members", 600},
		"striped writes":                   {at("raid0"), smallWrites, "6 members", 300},
		"mirrored pairs write twice":       {at("raid10"), smallWrites, "6 members", 150},
		"a mirror of six writes six times": {at("raid1"), smallWrites, "6 members", 50},
		// Two reads at 100 and two writes at 50 a second take 0.06 s of a member.
		"single parity":                    {at("raid5"), smallWrites, "6 members", 100},
		"double parity":                    {at("raid6"), smallWrites, "6 members", 6 / 0.09},
		"full stripes of single parity":    {at("raid5"), largeWrites, "6 members", 500},
		"full stripes of double parity":    {at("raid6"), largeWrites, "6 members", 400},
		"large reads":                      {at("raid6"), large, "6 members", 1200},
		"one is missing":                   {at("raid6", "layout.missing", "1"), large, "5 members", 1000},
		"the interface is slower":          {at("raid0", "media[0].interface", "60MB/s"), large, "6 members", 360},
		"half reads, striped":              {at("raid0"), Use{Reads: 0.5, Block: 4096}, "6 members", 6 / (0.5/100 + 0.5/50)},
		"SSDs at 64 KiB are bound by rate": {at("raid0"), Use{Reads: 1, Block: 4 * quantity.MiB}, "6 members", 6 * 200e6 / (4 << 20)},
		// One gigabit at MTU 1500 carries 1460 of 1538 bytes: 118.7 MB/s.
		"one gigabit":      {facts(t, "link[0].rate", "125MB/s"), large, "link", 125 * 1460.0 / 1538},
		"jumbo frames":     {facts(t, "link[0].rate", "125MB/s", "link[0].mtuHere", "9000", "link[0].mtuThere", "9000"), large, "link", 125 * 8960.0 / 9038},
		"one end only":     {facts(t, "link[0].rate", "125MB/s", "link[0].mtuHere", "9000", "link[0].mtuThere", "1500"), large, "link", 125 * 1460.0 / 1538},
		"a hashed bundle":  {facts(t, "link[0].rate", "125MB/s", "link[0].count", "4", "link[0].combined", "hashed bundle"), large, "link", 125 * 1460.0 / 1538},
		"four paths":       {facts(t, "link[0].rate", "125MB/s", "link[0].count", "4", "link[0].combined", "multipath"), large, "link", 4 * 125 * 1460.0 / 1538},
		"full duplex":      {facts(t, "link[0].rate", "125MB/s"), Use{Reads: 0.5, Block: 1e6}, "link", 2 * 125 * 1460.0 / 1538},
		"one core":         {facts(t, "link[0].rate", "125MB/s", "transport.operationTime", "50us", "transport.byteTime", "1ns"), Use{Reads: 1, Block: 50_000}, "transport", 10_000},
		"a controller":     {at("raid0", "controller.operations", "80000", "controller.throughput", "2GB/s"), large, "controller", 2000},
		"and its own rate": {at("raid0", "controller.operations", "80000", "controller.throughput", "2GB/s"), small, "controller", 80_000},
		// PCI Express 3.0 at 8 GT/s with 128b/130b: 0.985 GB/s a lane.
		"a bus of eight lanes": {facts(t, "controller.busGeneration", "3", "controller.busLanes", "8"), large, "bus", 8 * 8e9 * 128 / 130 / 8 / 1e6},
		"an old bus":           {facts(t, "controller.busGeneration", "2", "controller.busLanes", "4"), large, "bus", 4 * 500},
	} {
		found := false
		for _, h := range c.setup.Ceilings(c.use) {
			if h.Name == c.hop {
				found = true
				if math.Abs(float64(h.Rate)/c.want-1) > 1e-6 {
					t.Errorf("%s: %g, want %g (%s)", name, float64(h.Rate), c.want, h.Formula)
				}
			}
		}
		if !found {
			t.Errorf("%s: no hop %q among %+v", name, c.hop, c.setup.Ceilings(c.use))
		}
	}
	// A span of a hundredth of a disk: seeks are a tenth as long.
	disk := facts(t, "media[0].kind", "hard disk", "media[0].count", "1", "media[0].size", "1000GB", "media[0].randomReadRate", "100")
	if h := disk.Ceilings(Use{Reads: 1, Block: 4096, Span: 10e9}); math.Abs(float64(h[0].Rate)-100/(1.0/3+2.0/30)) > 0.01 {
		t.Errorf("a short span: %+v", h)
	}
}

func TestUnknownStaysUnknown(t *testing.T) {
	s := facts(t, "media[0].count", "4", "layout.level", "raid5", "link[0].mtuHere", "1500")
	c := s.For(Uses[0])
	if c.Limit != "" || len(c.Hops) != 2 || c.Hops[0].Rate != 0 || !strings.Contains(c.Hops[1].Formula, "media[0].randomReadRate") {
		t.Errorf("hops %+v", c)
	}
	if hops := (Setup{}).Ceilings(Uses[0]); len(hops) != 0 {
		t.Errorf("nothing known, yet %+v", hops)
	}
	known := facts(t, "link[0].rate", "125MB/s", "controller.throughput", "200MB/s")
	if c := known.For(Uses[2]); c.Limit != "link" || c.Next != "controller" {
		t.Errorf("limit %s, next %s", c.Limit, c.Next)
	}
	if u := UseOf(workload.Spec{Pattern: workload.Pattern{Blocks: workload.Block(8192), Reads: 0.7, Order: workload.Skewed}}); u.Sequential || u.Block != 8192 || u.Reads != 0.7 {
		t.Errorf("use %+v", u)
	}
}

// No setup made of anything may give an infinite or a negative ceiling.
func TestCeilingsAreNumbers(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 8+trials.Seed()))
	numbers := []string{"0", "1", "3", "12", "1000000"}
	for range trials.Number(2000) {
		var s Setup
		for _, f := range fields {
			if random.IntN(3) > 0 {
				continue
			}
			key := strings.Replace(f.Key, "[]", "[0]", 1)
			value := numbers[random.IntN(len(numbers))]
			if len(f.Choices) > 0 {
				value = f.Choices[random.IntN(len(f.Choices))]
			}
			_ = s.Set(key, value, Told, time.Time{})
		}
		for _, u := range Uses {
			for _, h := range s.Ceilings(u) {
				if r := float64(h.Rate); r < 0 || math.IsInf(r, 0) || math.IsNaN(r) {
					t.Fatalf("%s: %g of %+v", h.Name, r, s)
				}
			}
		}
		_ = s.Validate()
		_ = Checks(s, Seen{Facts: &Facts{}}, Asked{Span: 1 << 30, Writes: true})
	}
}

func TestDifferences(t *testing.T) {
	base := facts(t, "media[0].kind", "hard disk", "media[0].count", "6", "layout.level", "raid5", "cost.price", "4000", "link[0].mtuHere", "1500", "link[0].mtuThere", "1500")
	with := func(pairs ...string) Setup { return base.Over(facts(t, pairs...)) }
	for name, c := range map[string]struct {
		after   Setup
		things  int
		words   string
		unknown int
	}{
		"nothing":           {base, 0, "The known facts", 0},
		"the level":         {with("layout.level", "raid6"), 1, "layout: level went from raid5 to raid6", 0},
		"other media":       {with("media[0].kind", "ssd", "media[0].count", "4"), 1, "media 1: kind went from hard disk to ssd", 0},
		"both ends' MTU":    {with("link[0].mtuHere", "9000", "link[0].mtuThere", "9000"), 1, "MTU", 0},
		"a cache":           {with("cache[0].mode", "read-only", "cache[0].size", "400GB"), 1, "cache 1 is new (mode read-only, size 400GB)", 0},
		"a cache, dearer":   {with("cache[0].mode", "read-only", "cost.price", "4700"), 1, "cache 1 is new", 0},
		"two things":        {with("layout.level", "raid6", "link[0].mtuHere", "9000"), 2, "; ", 0},
		"more is known":     {with("host.kernel", "6.1"), 0, "The facts known of both", 1},
		"only dearer":       {with("cost.price", "4700"), 0, "cost: price went from 4000 to 4700", 0},
		"all of the media":  {with("media[0].kind", "ssd", "media[0].count", "4"), 1, "kind went from hard disk to ssd, count from 6 to 4", 0},
		"another tuning":    {with("tuning.readahead", "4MiB"), 0, "The facts known of both", 1},
		"memory and mirror": {with("controller.memory", "4GiB", "replication.mode", "synchronous"), 1, "replication is new", 1},
	} {
		d := Diff(base, c.after)
		if d.Things != c.things || !strings.Contains(d.Words, c.words) || len(d.Unknown) != c.unknown || (d.Caution != "") != (c.things > 1) {
			t.Errorf("%s: %+v", name, d)
		}
	}
	if d := Diff(with("cache[0].mode", "read-only"), base); d.Things != 1 || !strings.Contains(d.Words, "is gone") {
		t.Errorf("taken out: %+v", d)
	}
	// What follows from other things counts where nothing else explains it.
	linked := with("link[0].driver", "a", "link[0].rate", "125MB/s")
	if d := Diff(linked, linked.Over(facts(t, "link[0].driver", "b"))); d.Things != 1 || !strings.Contains(d.Words, "driver went from a to b") {
		t.Errorf("another driver alone: %+v", d)
	}
	if d := Diff(linked, linked.Over(facts(t, "link[0].driver", "b", "link[0].rate", "1250MB/s"))); d.Things != 1 || !strings.Contains(d.Words, "driver") {
		t.Errorf("another link: %+v", d)
	}
	modelled := with("media[0].model", "A 1")
	if d := Diff(modelled, modelled.Over(facts(t, "media[0].model", "B 2"))); d.Things != 1 {
		t.Errorf("another model alone: %+v", d)
	}
	// Where everything is known, what only one side has is new or gone.
	known := func(pairs ...string) (s Setup) {
		for i := 0; i < len(pairs); i += 2 {
			s.Know(pairs[i], pairs[i+1], Simulated, time.Time{})
		}
		return s
	}
	d := Diff(known("layout.level", "raid5"), known("layout.level", "raid5", "controller.operations", "1k", "link[0].rate", "125MB/s"))
	if d.Things != 2 || len(d.Unknown) != 0 || !strings.HasPrefix(d.Words, "controller is new (operations at most 1000); link 1 is new") {
		t.Errorf("made-up arrays: %+v", d)
	}
}

func TestChecksSpeak(t *testing.T) {
	good := Seen{Facts: &Facts{Size: 1 << 40, Free: 1 << 39, Writable: true, Devices: []string{"sda"}}, Traits: Traits{OnHost: true, Makes: true}, HostLooked: true}
	change := func(f func(*Seen)) Seen { s := good; facts := *good.Facts; s.Facts = &facts; f(&s); return s }
	for name, c := range map[string]struct {
		setup Setup
		seen  Seen
		asked Asked
		check string
		want  Result
	}{
		"answers":               {Setup{}, good, Asked{}, "reachable", Passed},
		"gone":                  {Setup{}, Seen{Trouble: "no such file"}, Asked{}, "reachable", Failed},
		"no room":               {Setup{}, good, Asked{Span: 1 << 40}, "room", Failed},
		"little room":           {Setup{}, good, Asked{Span: 1<<39 - 1<<30}, "room", Caution},
		"room":                  {Setup{}, good, Asked{Span: 1 << 30}, "room", Passed},
		"read-only":             {Setup{}, change(func(s *Seen) { s.Facts.Writable = false }), Asked{}, "writable", Caution},
		"refused":               {Setup{}, change(func(s *Seen) { s.Refusal = "no" }), Asked{Writes: true}, "writable", Failed},
		"holds ext4, to write":  {Setup{}, change(func(s *Seen) { s.Holds = "ext4" }), Asked{Writes: true}, "nothing-of-value", Failed},
		"agreed to be lost":     {Setup{}, change(func(s *Seen) { s.Agreed = true }), Asked{Writes: true}, "nothing-of-value", Passed},
		"too slow to look at":   {Setup{}, change(func(s *Seen) { s.Unread = "it does not answer" }), Asked{}, "nothing-of-value", CouldNotLook},
		"too slow, to write":    {Setup{}, change(func(s *Seen) { s.Unread = "it does not answer" }), Asked{Writes: true}, "writable", CouldNotLook},
		"holds ext4, to read":   {Setup{}, change(func(s *Seen) { s.Holds = "ext4" }), Asked{}, "nothing-of-value", Caution},
		"media of memory":       {facts(t, "media[0].kind", "memory"), good, Asked{}, "not-memory", Caution},
		"in memory":             {facts(t, "host.memory", "64GiB"), good, Asked{Span: 1 << 30, Cached: true}, "span-beyond-memory", Caution},
		"uncached":              {facts(t, "host.memory", "64GiB"), good, Asked{Span: 1 << 30}, "span-beyond-memory", Passed},
		"in the cache":          {facts(t, "cache[0].size", "400GB"), good, Asked{Span: 1 << 30}, "span-beyond-memory", Caution},
		"MTU":                   {facts(t, "link[0].mtuHere", "9000", "link[0].mtuThere", "1500"), good, Asked{}, "mtu-equal", Caution},
		"MTU, equal":            {facts(t, "link[0].mtuHere", "9000", "link[0].mtuThere", "9000"), good, Asked{}, "mtu-equal", Passed},
		"packets are lost":      {Setup{}, change(func(s *Seen) { s.Probe = &Probe{MTU: 9000, Largest: 1500} }), Asked{}, "mtu-usable", Failed},
		"packets arrive":        {Setup{}, change(func(s *Seen) { s.Probe = &Probe{MTU: 9000, Largest: 9000} }), Asked{}, "mtu-usable", Passed},
		"no echo":               {Setup{}, change(func(s *Seen) { s.Probe = &Probe{MTU: 9000} }), Asked{}, "mtu-usable", CouldNotLook},
		"down-trained":          {facts(t, "controller.busLanes", "4", "controller.busLanesMost", "8"), good, Asked{}, "bus-trained", Caution},
		"fully trained":         {facts(t, "controller.busLanes", "8", "controller.busLanesMost", "8"), good, Asked{}, "bus-trained", Passed},
		"no battery":            {facts(t, "controller.policy", "write-back", "controller.battery", "no"), good, Asked{}, "write-back-protected", Caution},
		"no battery, but a UPS": {facts(t, "controller.policy", "write-back", "controller.battery", "no", "power.protected", "yes"), good, Asked{}, "write-back-protected", ""},
		"one cache device":      {facts(t, "cache[0].mode", "write-back", "cache[0].devices", "1"), good, Asked{}, "cache-redundant", Caution},
		"a safe cache":          {facts(t, "cache[0].mode", "write-back", "cache[0].protected", "yes"), good, Asked{}, "write-back-protected", Passed},
		"volatile drives":       {facts(t, "media[0].writeCache", "yes"), good, Asked{}, "drive-cache", Caution},
		"saving power":          {facts(t, "host.governor", "powersave"), good, Asked{}, "full-speed", Caution},
		"full speed":            {facts(t, "host.governor", "performance"), good, Asked{}, "full-speed", Passed},
		"busy":                  {Setup{}, change(func(s *Seen) { s.Busy = []Busy{{"sda", 0.6}} }), Asked{}, "quiet", Caution},
		"quiet":                 {Setup{}, good, Asked{}, "quiet", Passed},
		"the host is busy":      {Setup{}, change(func(s *Seen) { s.HostBusy = 0.9 }), Asked{}, "host-idle", Caution},
		"misaligned":            {Setup{}, change(func(s *Seen) { s.Misaligned = []string{"sda1"} }), Asked{}, "aligned", Caution},
		"thin":                  {Setup{}, change(func(s *Seen) { s.Thin = true }), Asked{}, "written-before", Caution},
		"degraded":              {facts(t, "layout.missing", "1"), good, Asked{}, "complete", Caution},
		"something hung":        {Setup{}, change(func(s *Seen) { s.Troubles = []string{"no answer"} }), Asked{}, "look-1", CouldNotLook},
	} {
		got := Result("")
		for _, check := range Checks(c.setup, c.seen, c.asked) {
			if check.Name == c.check {
				got = check.Result
				if check.Sentence == "" || (check.Result == Failed || check.Result == Caution) && check.Next == "" {
					t.Errorf("%s says too little: %+v", name, check)
				}
			}
		}
		if got != c.want {
			t.Errorf("%s: %s is %q, want %q", name, c.check, got, c.want)
		}
	}
}

// Storage that answered too late for the look may only be a long way off.
func TestLateStorageCanBeGivenTime(t *testing.T) {
	for _, late := range []bool{false, true} {
		check := Checks(Setup{}, Seen{Trouble: "the volume does not answer", Late: late}, Asked{})[0]
		if check.Name != "reachable" || strings.Contains(check.Next, "--timeout") != late {
			t.Errorf("late is %t: %+v", late, check)
		}
	}
}

// The list of names is that of the checks that are made.
func TestCheckNames(t *testing.T) {
	source, err := os.ReadFile("check.go")
	if err != nil {
		t.Fatal(err)
	}
	made := map[string]bool{}
	for _, match := range regexp.MustCompile(`add\("([a-z-]+)"`).FindAllStringSubmatch(string(source), -1) {
		made[match[1]] = true
	}
	if names := slices.Sorted(maps.Keys(made)); !slices.Equal(names, slices.Sorted(slices.Values(CheckNames))) {
		t.Errorf("made %q, listed %q", names, CheckNames)
	}
}

// A setup with members missing is that of the whole one and of no other: whether those that
// are there are counted, as the kernel does, or all, as an array file does.
func TestDegradedOf(t *testing.T) {
	of := func(more ...string) Setup {
		return facts(t, append([]string{"layout.level", "raid6", "layout.chunk", "128KiB", "media[0].size", "4TB", "fileSystem.type", "xfs"}, more...)...)
	}
	whole := of("media[0].count", "5")
	for name, c := range map[string]struct {
		s    Setup
		want bool
	}{
		"one missing, four counted":  {of("media[0].count", "4", "layout.missing", "1"), true},
		"two missing, three counted": {of("media[0].count", "3", "layout.missing", "2"), true},
		"one missing, five counted":  {of("media[0].count", "5", "layout.missing", "1"), true},
		"one missing of four":        {of("media[0].count", "3", "layout.missing", "1"), false},
		"none missing":               {of("media[0].count", "5"), false},
		"another file system":        {of("media[0].count", "4", "layout.missing", "1").Over(facts(t, "fileSystem.type", "ext4")), false},
		"a cache beside it":          {of("media[0].count", "4", "layout.missing", "1", "cache[0].name", "bcache"), false},
	} {
		if got := c.s.DegradedOf(whole); got != c.want {
			t.Errorf("%s: %t", name, got)
		}
	}
	if missing := of("media[0].count", "4", "layout.missing", "1"); missing.DegradedOf(missing) {
		t.Error("a degraded setup is that of itself")
	}
}
