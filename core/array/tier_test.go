package array

import (
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// hot reads mostly the first tenth of a volume.
func hot(a *Array, seed uint64) func(int) Request {
	near, all := random(a, seed, 4096, a.Size()/10, false), random(a, seed+1, 4096, 0, false)
	return func(i int) Request {
		if i%10 == 0 {
			return all(i)
		}
		return near(i)
	}
}

// Taking the tier away takes what it holds over the rate, and up to a look; then it
// answers nothing, and nothing lands there.
func TestATierLeaves(t *testing.T) {
	d := tiered()
	d.Tier.Rate = 40e6
	a := build(t, d)
	for a.tier.used() < a.tier.parts[0].slots*3/4 {
		closed(a, 8, 2000, hot(a, uint64(a.Now())))
	}
	held, began := float64(a.tier.used())*float64(a.tier.extent), a.Now()
	a.inject(Fault{Kind: TierLeaves})
	for a.tier.used() > 0 {
		if !a.Step(began + 1e12) {
			t.Fatal("it never left")
		}
	}
	took, least := float64(a.Now()-began)/1e9, held/40e6
	if took < least || took > least*1.02+float64(d.Tier.Every) {
		t.Errorf("%.1f MB took %.2f s, expected %.2f s and up to %s until it begins", held/1e6, took, least, d.Tier.Every)
	}
	a.tier.parts[0].answered = 0
	closed(a, 8, 3000, hot(a, 5))
	if a.tier.parts[0].answered > 0 || a.tier.used() > 0 {
		t.Errorf("a tier that left answers %d operations and holds %d extents", a.tier.parts[0].answered, a.tier.used())
	}
}

// A region that is off never comes to lie on the tier, however hot it is; others do.
func TestRegionsStayOffTheTier(t *testing.T) {
	d := tiered()
	d.Empty = 0.5
	d.Tier.Off = []Region{{From: 0, To: d.Usable() / 20}, {From: d.Usable() - 64*quantity.MiB, To: d.Usable()}}
	a := build(t, d)
	one(a, Request{Write: true, Offset: int64(a.Size()) - 4096, Length: 4096})
	one(a, Request{Write: true, Offset: int64(a.Size()) / 4 * 3, Length: 4096})
	landed := a.tier.used()
	closed(a, 8, 30_000, hot(a, 1))
	for extent, place := range a.tier.place {
		if a.tier.off[extent] && place >= 0 {
			t.Errorf("extent %d lies on the tier", extent)
		}
	}
	if landed != 1 {
		t.Errorf("of two pieces of new data, one where the tier is off, %d landed", landed)
	}
	if a.tier.used() == 0 || !a.tier.off[0] || !a.tier.off[len(a.tier.off)-1] || a.tier.off[len(a.tier.off)/2] {
		t.Errorf("%d extents are on the tier; off: %v", a.tier.used(), a.tier.off)
	}
}

// Extents are moved within the windows alone.
func TestRelocationKeepsToItsWindows(t *testing.T) {
	d := tiered()
	d.Tier.Windows = []Window{{At: 2, For: 1, Every: 10}, {At: 5, For: 0.5, Every: 10}}
	d.Tier.Rate = 20e6
	a := build(t, d)
	moved := map[bool]int64{}
	next, answered := hot(a, 3), 0
	for a.Now() < 40e9 {
		before, at := a.tier.movedBytes, float64(a.Now())/1e9
		a.Submit(next(answered))
		for len(a.Done()) == 0 {
			a.Step(1 << 62)
		}
		a.Forget()
		answered++
		within := at - float64(int(at/10))*10
		// A piece that began within a window may end shortly behind it.
		moved[within >= 2 && within < 3.1 || within >= 5 && within < 5.6] += a.tier.movedBytes - before
	}
	// At its rate all windows together move 6 s times 20 MB/s, unless nothing is left.
	if moved[false] > 0 || moved[true] < 30e6 {
		t.Errorf("%d bytes moved within the windows, %d outside", moved[true], moved[false])
	}
}

// What is said to survive counts the members of tiers, which hold the only copy of what lies there.
func TestATierIsNotForgottenByWhatSurvives(t *testing.T) {
	d := tiered()
	d.Tier.Lower = []LowerTier{{Members: Group{Count: 6, Medium: Flash, Capacity: gb}, Level: DoubleParity}}
	if words, want := strings.Join(d.Words(), " "), "It survives the loss of any one member, of any one member of the tier, of any two members of the lower tier 1 and a power cut."; !strings.Contains(words, want) {
		t.Errorf("%s\nwithout %q", words, want)
	}
	if after := d.Setup().After(setup.AnyTwoMembers); after.Survives != setup.No {
		t.Errorf("two members of it may fail: %s", after.Words)
	}
}

// Members of lower tiers fail, are made anew and have parameters as those of the tier do.
func TestMembersOfLowerTiersCount(t *testing.T) {
	d := tiered()
	d.Tier.Lower = []LowerTier{{Members: Group{Count: 3, Medium: LowLatency, Capacity: 64 * quantity.MiB}, Level: Parity}}
	last := len(d.expandedMembers()) + d.Tier.Members.Count + 2
	d.Faults = []Fault{{Kind: MemberFails, At: 0.1, Member: last}, {Kind: RebuildBegin, At: 0.2, Member: last, Rate: 1e9}}
	a := build(t, d)
	closed(a, 8, 40_000, hot(a, 3))
	if a.Now() < 1e9 || a.members[last].failed || a.layoutOf(last) != a.tier.parts[1].layout {
		t.Errorf("after %d ns member %d failed: %v", a.Now(), last, a.members[last].failed)
	}
	d.Faults[0].Member++
	if err := d.Validate(); err == nil {
		t.Error("a member behind the last one fails")
	}
	found := false
	for _, p := range d.Parameters() {
		found = found || p.Key == "tier.lower[0].members.readTime"
	}
	if !found {
		t.Error("the members of the lower tier have no read time")
	}
}
