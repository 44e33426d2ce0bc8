package setup

import (
	"fmt"
	"math/bits"
	"strings"
	"testing"
)

// lost says whether data are lost when the members of a set, as bits, are missing.
func lost(level string, members int, missing uint) bool {
	gone := bits.OnesCount(missing)
	switch level {
	case "raid1":
		return gone == members
	case "raid10":
		return missing&(missing>>1)&0x55555555 != 0 // both of a pair
	case "raid5":
		return gone > 1
	case "raid6":
		return gone > 2
	}
	return gone > 0
}

// What a layout survives is what every choice of members that fail leaves whole.
func TestSurvivingMembersByTryingAll(t *testing.T) {
	for _, level := range []string{"concatenation", "raid0", "raid1", "raid10", "raid5", "raid6"} {
		for members := 2; members <= 8; members++ {
			if level == "raid10" && members%2 == 1 || level == "raid6" && members < 4 || level == "raid5" && members < 3 {
				continue
			}
			for already := range 2 {
				s := facts(t, "media[0].count", fmt.Sprint(members), "layout.level", level)
				if already > 0 {
					if lost(level, members, 1) {
						continue
					}
					if err := s.Set("layout.missing", "1", Told, s.Facts[0].At); err != nil {
						t.Fatal(err)
					}
				}
				for many, failure := range map[int]Failure{1: AnyMember, 2: AnyTwoMembers} {
					whole := true
					for missing := uint(0); missing < 1<<members; missing++ {
						if bits.OnesCount(missing) == many && (already == 0 || missing&1 == 0) {
							whole = whole && !lost(level, members, missing|uint(already))
						}
					}
					if many > members-already {
						continue
					}
					want := No
					if whole {
						want = Yes
					}
					if got := s.After(failure); got.Survives != want {
						t.Errorf("%s of %d, %d missing: surviving %s is %s (%s), and %s by trying", level, members, already, failure, got.Survives, got.Words, want)
					}
				}
			}
		}
	}
}

func TestSurvivingTheRest(t *testing.T) {
	parity := []string{"media[0].count", "6", "layout.level", "raid6"}
	for name, c := range map[string]struct {
		more    []string
		failure Failure
		want    Answer
		words   string
	}{
		"a cache alone":          {[]string{"cache[0].medium", "ssd", "cache[0].mode", "write-back", "cache[0].protected", "no"}, AnyMember, No, "cache 1 may lose none"},
		"a mirrored cache":       {[]string{"cache[0].medium", "ssd", "cache[0].mode", "write-back", "cache[0].protected", "yes"}, AnyMember, Yes, "cache 1 may lose 1"},
		"two of its two":         {[]string{"cache[0].medium", "ssd", "cache[0].mode", "write-back", "cache[0].protected", "yes"}, AnyTwoMembers, No, ""},
		"a cache of reads":       {[]string{"cache[0].medium", "ssd", "cache[0].mode", "read-only"}, AnyTwoMembers, Yes, ""},
		"who knows":              {[]string{"cache[0].medium", "ssd", "cache[0].mode", "write-back"}, AnyMember, NotKnown, "tell cache[0].protected"},
		"known enough":           {[]string{"cache[0].medium", "ssd", "cache[0].mode", "write-back", "tier.size", "1TB", "tier.level", "raid0"}, AnyMember, No, "the tier may lose none"},
		"devices are SSDs":       {[]string{"cache[0].devices", "1", "cache[0].mode", "write-back", "cache[0].protected", "no"}, AnyMember, No, "cache 1 may lose none"},
		"a cache of what":        {[]string{"cache[0].mode", "write-back", "cache[0].protected", "no"}, AnyMember, NotKnown, "tell cache[0].medium"},
		"copies of btrfs":        {[]string{"layout.level", "raid1", "layout.madeBy", "btrfs"}, AnyTwoMembers, No, "may lose 1"},
		"a mirror of six":        {[]string{"layout.level", "raid1"}, AnyTwoMembers, Yes, "may lose 5"},
		"a mirrored tier":        {[]string{"tier.size", "1TB", "tier.count", "2", "tier.level", "raid1"}, AnyMember, Yes, ""},
		"no level":               {[]string{"layout.level", ""}, AnyMember, NotKnown, "tell layout.level"},
		"one link":               {[]string{"link[0].count", "1"}, APath, No, ""},
		"two links, then one":    {[]string{"link[0].count", "2", "link[1].count", "1"}, APath, No, ""},
		"two links":              {[]string{"link[0].count", "2"}, APath, Yes, ""},
		"some links":             {[]string{"link[0].rate", "1GB/s"}, APath, NotKnown, "tell link[0].count"},
		"a link or none":         {nil, APath, NotKnown, "tell link[0].count"},
		"in the host":            {[]string{"transport.protocol", "local"}, APath, Yes, ""},
		"a controller":           {[]string{"controller.count", "1"}, AController, No, ""},
		"two controllers":        {[]string{"controller.count", "2"}, AController, Yes, ""},
		"some controllers":       {nil, AController, NotKnown, "tell controller.count"},
		"no battery":             {[]string{"controller.policy", "write-back", "controller.battery", "no"}, APowerCut, No, ""},
		"a battery":              {[]string{"controller.policy", "write-back", "controller.battery", "yes"}, APowerCut, Yes, ""},
		"perhaps a battery":      {[]string{"controller.policy", "write-back"}, APowerCut, NotKnown, "tell controller.battery"},
		"no battery, but a UPS":  {[]string{"controller.policy", "write-back", "controller.battery", "no", "power.protected", "yes"}, APowerCut, Yes, ""},
		"memory that forgets":    {[]string{"cache[0].medium", "memory", "cache[0].mode", "write-back", "cache[0].protected", "no"}, APowerCut, No, "cache 1 loses"},
		"an SSD does not forget": {[]string{"cache[0].medium", "ssd", "cache[0].mode", "write-back", "cache[0].protected", "no", "controller.policy", "write-through"}, APowerCut, Yes, ""},
		"nothing known of power": {nil, APowerCut, NotKnown, "tell controller.policy"},
		"another site":           {[]string{"replication.mode", "synchronous"}, ASite, Yes, ""},
		"another site, later":    {[]string{"replication.mode", "asynchronous"}, ASite, No, ""},
		"perhaps another":        {nil, ASite, NotKnown, "tell replication.mode"},
	} {
		s := facts(t, append(append([]string{}, parity...), c.more...)...)
		if got := s.After(c.failure); got.Survives != c.want || !strings.Contains(got.Words, c.words) {
			t.Errorf("%s: %s, %q; want %s, %q", name, got.Survives, got.Words, c.want, c.words)
		}
	}
	if _, err := ParseFailure("a flood"); err == nil || !strings.Contains(err.Error(), "a power cut") {
		t.Error(err)
	}
}

// What btrfs calls raid1 has two copies of everything: half of all members.
func TestRoomByHand(t *testing.T) {
	base := []string{"media[0].count", "6", "media[0].size", "4TB"}
	for name, c := range map[string]struct {
		more []string
		want float64
	}{
		"a mirror": {[]string{"layout.level", "raid1"}, 4e12}, "two copies": {[]string{"layout.level", "raid1", "layout.madeBy", "btrfs"}, 12e12},
		"pairs": {[]string{"layout.level", "raid10"}, 12e12}, "parity": {[]string{"layout.level", "raid5"}, 20e12}, "double": {[]string{"layout.level", "raid6"}, 16e12},
		"a smaller one": {[]string{"layout.level", "raid5", "media[1].count", "1", "media[1].size", "1TB"}, 6e12}, "told": {[]string{"volume.usable", "3TB"}, 3e12}, "not known": {nil, 0},
	} {
		room, lacks := facts(t, append(append([]string{}, base...), c.more...)...).Usable()
		if float64(room) != c.want || (room == 0) != (lacks != "") {
			t.Errorf("%s: %s (%s), want %g", name, room, lacks, c.want)
		}
	}
}

// A member of 4 TB that takes 200 MB/s is written in 20,000 seconds at least.
func TestExposureByHand(t *testing.T) {
	base := []string{"media[0].count", "6", "media[0].size", "4TB", "media[0].readRate", "220MB/s", "media[0].writeRate", "200MB/s", "layout.level", "raid6"}
	with := func(more ...string) Setup { return facts(t, append(append([]string{}, base...), more...)...) }
	for name, c := range map[string]struct {
		s     Setup
		least float64
		words string
	}{
		"double parity": {with(), 20_000, "at least 5 h 33 min"},
		"read slower":   {with("media[0].readRate", "100MB/s"), 40_000, "at least 11 h"},
		"only read":     {with("media[0].writeRate", ""), 4e12 / 220e6, "at least"},
		"inner tracks":  {with("media[0].writeRate", "", "media[0].innerRate", "110MB/s"), 4e12 / 165e6, "at least"}, // every track takes a turn
		"a stripe":      {with("layout.level", "raid0"), 0, "nothing is left"},
		"no level":      {with("layout.level", ""), 0, "tell layout.level"},
		"no rate":       {with("media[0].writeRate", "", "media[0].readRate", ""), 0, "tell media[0].size"},
		"two kinds":     {with("media[1].count", "2", "media[1].size", "8TB", "media[1].writeRate", "100MB/s"), 80_000, "at least 22 h"},
	} {
		if least, words := c.s.Exposure(); float64(least) < c.least-1 || float64(least) > c.least+1 || !strings.Contains(words, c.words) {
			t.Errorf("%s: %s, %q; want %g s, %q", name, least, words, c.least, c.words)
		}
	}
}

// What does not make figures differ makes setups no others: a run before the price was
// told is of the same setup as one after.
func TestPricesMakeNoOtherSetup(t *testing.T) {
	before := facts(t, "media[0].count", "6", "layout.level", "raid6")
	after := facts(t, "media[0].count", "6", "layout.level", "raid6", "cost.price", "4000", "controller.count", "2", "volume.usable", "8TB")
	if d := Diff(before, after); !d.Alike() {
		t.Errorf("%+v", d)
	}
	made, priced := Setup{}, Setup{}
	for _, f := range before.Facts {
		made.Know(f.Key, f.Value, Simulated, f.At)
	}
	priced = made.Over(facts(t, "cost.price", "4000", "volume.usable", "8TB"))
	if d := Diff(made, priced); !d.Alike() || d.Things != 0 {
		t.Errorf("a simulated one: %+v", d)
	}
	if d := Diff(before, facts(t, "media[0].count", "7", "layout.level", "raid6")); d.Alike() {
		t.Error("a further member makes no other setup")
	}
	if d := Diff(before, facts(t, "media[0].count", "6", "layout.level", "raid6", "cache[0].size", "1GB")); d.Alike() {
		t.Error("a cache that only one side knows of makes no other setup")
	}
}
