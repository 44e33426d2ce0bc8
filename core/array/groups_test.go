package array

import (
	"strings"
	"testing"

	"patientheron/core/quantity"
)

// Of RAID 50 and 60 every byte lies where plain arithmetic says: stripes go round the groups, and
// within each of them data and parity lie as in one group by itself.
func TestGroupsLieSideBySide(t *testing.T) {
	for _, c := range []struct {
		level          Level
		members, group int
	}{{Parity, 6, 3}, {Parity, 8, 4}, {Parity, 9, 3}, {DoubleParity, 8, 4}, {DoubleParity, 10, 5}} {
		groups := c.members / c.group
		d := Description{Members: []Group{{Count: c.members, Medium: Flash, Capacity: 2 * quantity.MiB}}, Layout: Layout{Level: c.level, Chunk: 16 * quantity.KiB, Groups: groups}}
		alone := d
		alone.Members, alone.Layout.Groups = []Group{d.Members[0]}, 0
		alone.Members[0].Count = c.group
		if d.Usable() != alone.Usable()*quantity.Bytes(groups) {
			t.Errorf("%s of %d: %s for data, and a group alone has %s", c.level, c.members, d.Usable(), alone.Usable())
		}
		whole, one := build(t, d), build(t, alone)
		width := one.layout.width()
		for at := int64(0); at < int64(d.Usable()); at += 4096 {
			stripe := at / width
			member, place := one.layout.Place(stripe/int64(groups)*width + at%width)
			member += int(stripe%int64(groups)) * c.group
			if m, p := whole.layout.Place(at); m != member || p != place {
				t.Fatalf("%s of %d in groups of %d: byte %d lies on member %d at %d, want %d at %d", c.level, c.members, c.group, at, m, p, member, place)
			}
		}
	}
	spared := Description{Members: []Group{{Count: 8, Medium: Flash, Capacity: quantity.GiB}}, Layout: Layout{Level: DoubleParity, Groups: 2, HotSpares: 1}}
	if words, want := strings.Join(spared.Words(), " "), "It survives the loss of any two members of each of its 2 groups, and of 1 more, one after each rebuild, and a power cut."; !strings.Contains(words, want) {
		t.Errorf("%q is not in: %s", want, words)
	}
	for what, d := range map[string]Description{
		"a stripe":        {Layout: Layout{Level: Stripe, Groups: 2}},
		"one group":       {Layout: Layout{Level: Parity, Groups: 1}},
		"not as many":     {Layout: Layout{Level: Parity, Groups: 4}},
		"too small":       {Layout: Layout{Level: DoubleParity, Groups: 3}},
		"and declustered": {Layout: Layout{Level: Parity, Groups: 2, Stripe: 3}},
	} {
		d.Members = []Group{{Count: 6, Medium: Flash, Capacity: quantity.GiB}}
		if d.Validate() == nil {
			t.Errorf("%s: %+v is possible", what, d.Layout)
		}
	}
}

// One member of each group may fail, and of one group no two.
func TestGroupsLoseAMemberEach(t *testing.T) {
	for _, c := range []struct {
		fail []int
		ok   bool
	}{{[]int{0}, true}, {[]int{0, 5}, true}, {[]int{2, 3, 8}, true}, {[]int{0, 1}, false}} {
		a := build(t, Description{Members: []Group{{Count: 9, Medium: Flash, Capacity: 2 * quantity.MiB}}, Layout: Layout{Level: Parity, Chunk: 16 * quantity.KiB, Groups: 3}})
		for _, m := range c.fail {
			a.inject(Fault{Kind: MemberFails, Member: m})
		}
		all := true
		for at := int64(0); at < a.size; at += 16 << 10 {
			all = one(a, Request{Offset: at, Length: 16 << 10}) && all
		}
		if all != c.ok {
			t.Errorf("without %v all was read: %v", c.fail, all)
		}
	}
}
