package array

import (
	"cmp"
	"fmt"
	"strings"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// Tier is faster members that hold what is used most, moved there and back by
// extents. New data lands there while it has room.
type Tier struct {
	Members Group
	Level   Level             // default raid1 of two members, raid10 of more
	Lower   []LowerTier       // between it and the members below, the fastest first
	Extent  quantity.Bytes    // default 64 MiB
	Every   quantity.Seconds  // how often what is hot is looked for; default 10 s
	Rate    quantity.ByteRate // of moving; default 100 MB/s
	Off     []Region          // that stay on the members below
	Windows []Window          // in which extents are moved; none for always
}

// LowerTier is members that hold what is used less than what lies on the tiers above, and more than
// what lies below.
type LowerTier struct {
	Members Group
	Level   Level // default raid1 of two members, raid10 of more
}

// Region is a range of the volume; of a thin one, of the room behind it.
type Region struct{ From, To quantity.Bytes }

// Window is a time that comes again and again.
type Window struct{ At, For, Every quantity.Seconds }

// mostLowerTiers is how many may lie between a tier and the members below.
const mostLowerTiers = 3

// tiers are those of an array, the fastest first; none where it has no tier.
func (d Description) tiers() []LowerTier {
	if d.Tier == nil {
		return nil
	}
	return append([]LowerTier{{d.Tier.Members, d.Tier.Level}}, d.Tier.Lower...)
}

// form is how the members of a tier are laid out.
func (t LowerTier) form() Layout {
	level := t.Level
	if level == "" {
		level = MirrorStripe
		if t.Members.Count < 4 {
			level = Mirror
		}
	}
	return Layout{Level: level, Chunk: 64 * quantity.KiB}
}

func (t LowerTier) expandedMembers() []Group {
	return Description{Members: []Group{t.Members}}.expandedMembers()
}

// usable is the capacity of a tier for data.
func (t LowerTier) usable() quantity.Bytes {
	return Description{Members: []Group{t.Members}, Layout: t.form()}.Usable()
}

// validateTier also makes sure that the tiers can be taken away again: the members below must have
// room for all that they hold.
func (d Description) validateTier() error {
	t := d.Tier
	if len(t.Lower) > mostLowerTiers {
		return wrong("tier.lower", "%d; up to %d tiers between this one and the members below", len(t.Lower), mostLowerTiers)
	}
	held := quantity.Bytes(0)
	for i, part := range d.tiers() {
		at := tierAt(i)
		if err := part.validate(at); err != nil {
			return err
		}
		if held += part.usable(); held > d.Usable() {
			return wrong(at, "it holds %s, with the tiers above it, more than the %s of the members below: it could never be drained to be taken away; use a smaller tier", held, d.Usable())
		}
	}
	switch {
	case t.Extent != 0 && (t.Extent < quantity.MiB || t.Extent > quantity.GiB || t.Extent%quantity.MiB != 0):
		return wrong("tier.extent", "%s; whole MiB, from 1 MiB to 1 GiB", t.Extent)
	case !(t.Every >= 0) || t.Every > 86400 || !(t.Rate >= 0):
		return wrong("tier", "it looks at most once a day, and moves at a rate that is not negative")
	}
	for i, r := range t.Off {
		if at := fmt.Sprintf("tier.off[%d]", i); r.From < 0 || r.To <= r.From || r.From >= d.Usable() {
			return wrong(at, "from %s to %s; a part of the %s that there are, in order", r.From, r.To, asSold(d.Usable()))
		}
	}
	for i, w := range t.Windows {
		if !(w.At >= 0) || !(w.For > 0) || !(w.Every > w.For) || w.Every > 7*86400 || w.At > 7*86400 {
			return wrong(fmt.Sprintf("tier.windows[%d]", i), "at %s for %s every %s; it lasts for less than the time after which it comes again, which is a week at most", w.At, w.For, w.Every)
		}
	}
	if extents := d.Usable() / cmp.Or(t.Extent, tierExtent); extents > 1<<24 {
		return wrong("tier.extent", "%s in extents of %s are %d extents; at most 16 777 216 are kept track of: use larger extents", d.Usable(), cmp.Or(t.Extent, tierExtent), extents)
	}
	return nil
}

// tierAt is where a tier stands in an array file.
func tierAt(i int) string {
	if i == 0 {
		return "tier"
	}
	return fmt.Sprintf("tier.lower[%d]", i-1)
}

// validate checks the members of a tier and how they are laid out.
func (t LowerTier) validate(at string) error {
	if err := t.Members.validate(at + ".members"); err != nil {
		return err
	}
	form := t.form()
	switch least, known := fewest[form.Level]; {
	case !known:
		return wrong(at+".level", "%q; one of concatenation, raid0, raid1, raid10, raid5, raid6", t.Level)
	case form.Level == Stripe || form.Level == Concatenation || t.Members.Count < 2:
		return wrong(at+".level", "%s of %d members has no redundancy, and a tier holds the only copy of its data; use raid1 of two", form.Level, t.Members.Count)
	case t.Members.Count < least || form.Level == MirrorStripe && t.Members.Count%2 != 0:
		return wrong(at+".level", "%s of %d members; it needs at least %d, and raid10 an even number", form.Level, t.Members.Count, least)
	}
	return nil
}

// tierFacts are what is known of tiers.
func (d Description) tierFacts(know, some func(key string, value any)) {
	t := d.Tier
	if t == nil {
		return
	}
	know("tier.extent", cmp.Or(t.Extent, tierExtent))
	know("tier.every", cmp.Or(t.Every, tierEvery))
	know("tier.rate", cmp.Or(t.Rate, tierRate))
	var off, windows []string
	for _, r := range t.Off {
		off = append(off, fmt.Sprintf("%d to %d", r.From, r.To))
	}
	for _, w := range t.Windows {
		windows = append(windows, fmt.Sprintf("%gs for %gs every %gs", w.At, w.For, w.Every))
	}
	some("tier.off", strings.Join(off, ", "))
	some("tier.windows", strings.Join(windows, ", "))
	for i, part := range d.tiers() {
		at := setup.TierAt(i)
		know(at+"medium", part.Members.Medium)
		part.Members.completed().know(at, func(key string, value any) {
			if key != at+"interface" || part.Members.Medium != HardDisk {
				know(key, value)
			}
		})
		know(at+"size", asSold(part.usable()))
		know(at+"count", part.Members.Count)
		know(at+"level", part.form().Level)
	}
}

// tierWords say what the tiers are.
func (d Description) tierWords() (words []string) {
	t := d.Tier
	if t == nil {
		return nil
	}
	for i, part := range d.tiers() {
		data, moved := "The most used data", fmt.Sprintf(", moved by %s every %s at %s", cmp.Or(t.Extent, tierExtent), cmp.Or(t.Every, tierEvery), cmp.Or(t.Rate, tierRate))
		if i > 0 {
			data, moved = "The next most used data", ""
		}
		words = append(words, fmt.Sprintf("%s lies on a tier of %s That is %s as %s%s.", data, part.Members.words(), asSold(part.usable()), part.form().Level, moved))
	}
	for _, w := range t.Windows {
		words = append(words, fmt.Sprintf("Extents are moved at %s, for %s, every %s.", w.At, w.For, w.Every))
	}
	for _, r := range t.Off {
		words = append(words, fmt.Sprintf("The range from %s to %s stays on the members below.", asSold(r.From), asSold(r.To)))
	}
	return words
}
