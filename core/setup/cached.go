package setup

import (
	"fmt"
	"math"

	"patientheron/core/quantity"
)

// What a cache answers for long, and so keeps from the members.

// class is a part of what a use works on: so many blocks, and the share of its operations that go to
// them.
type class struct{ blocks, share float64 }

// classes are those of a use over so many blocks, all alike or with a hot part.
func (u Use) classes(blocks float64) []class {
	if hot := float64(u.HotSpan); hot > 0 && hot < 1 && u.HotAccesses > 0 {
		return []class{{blocks * hot, float64(u.HotAccesses)}, {blocks * (1 - hot), float64(1 - u.HotAccesses)}}
	}
	return []class{{blocks, 1}}
}

// HitShare is the share of operations at random that find their block in a cache of so many that
// forgets what was not used for longest: one that is asked for with probability p is there with
// 1 - exp(-pT), where T is such that as many are there as the cache holds (Che, Tung, Wang,
// Hierarchical web caching systems, 2002).
func HitShare(u Use, blocks, held float64) (share float64) {
	return u.of(blocks, u.there(blocks, held, byUse))
}

// of is the share of the operations that go to blocks of which so large a share of each class is
// there.
func (u Use) of(blocks float64, there []float64) (share float64) {
	for i, in := range there {
		share += u.classes(blocks)[i].share * in
	}
	return share
}

// How likely a block is there that is asked for so often while one stays: where its time begins anew
// each time that it is asked for, and where it is over after the same time anyhow (Gelenbe, A
// unified approach to the evaluation of a class of replacement algorithms, 1973). The second is
// what becomes of dirty blocks: those go first that have been dirty for longest.
func byUse(asked float64) float64     { return -math.Expm1(-asked) }
func byArrival(asked float64) float64 { return asked / (1 + asked) }

// there is which share of each class a cache of so many blocks holds.
func (u Use) there(blocks, held float64, likely func(float64) float64) []float64 {
	classes := u.classes(blocks)
	in := make([]float64, len(classes))
	count := func(t float64) (sum float64) {
		for i, c := range classes {
			in[i] = likely(c.share / c.blocks * t)
			sum += c.blocks * in[i]
		}
		return sum
	}
	if held >= blocks {
		for i := range in {
			in[i] = 1
		}
		return in
	}
	low, high := 0.0, 1.0
	for count(high) < held && high < 1e18 {
		high *= 2
	}
	for range 100 {
		if middle := (low + high) / 2; count(middle) < held {
			low = middle
		} else {
			high = middle
		}
	}
	count(high)
	return in
}

// runsOf is how many commands a cache makes for each block that it passes on when so many are dirty:
// a block goes with the one before it where that is dirty as well.
func (u Use) runsOf(blocks, dirty float64) float64 {
	runs, passed := 0.0, 0.0
	for i, in := range u.there(blocks, dirty, byArrival) {
		flow := u.classes(blocks)[i].share * (1 - in)
		runs, passed = runs+flow*(1-in), passed+flow
	}
	if passed == 0 {
		return 1
	}
	return runs / passed
}

// behindCache is what the members pass for long when a cache in front of them answers what it can:
// hits of reads, and writes to what waits to be written already. It is nil where that is not
// known: of more than one cache, of streams, of writes to parity that are gathered first, and of
// operations that touch its blocks in part.
func (s Setup) behindCache(u Use) *Hop {
	const at = "cache[0]."
	size, block := float64(s.Bytes(at+"size")), float64(s.Bytes(at+"block"))
	mode := s.Text(at + "mode")
	if s.Count("cache") != 1 || u.Sequential || size == 0 || block == 0 || s.Text("pool.unit") != "" || s.Text("tier.size") != "" || s.Bytes(at+"pinned") > 0 {
		return nil
	}
	if bypass := s.Bytes(at + "bypass"); bypass > 0 && u.Block >= bypass {
		return nil
	}
	whole := math.Mod(float64(u.Block), block) == 0 || s.Text(at+"fetch") == "blocks" && u.Reads == 1
	if !whole || mode == "read-only" && u.Reads < 1 {
		return nil
	}
	if mode == "write-back" && u.Reads < 1 && s.geometry(u).parity() > 0 {
		return nil // how much less parity costs where neighbours go together is not known
	}
	span := float64(u.Span)
	if room, _ := s.Usable(); span == 0 || span > float64(room) {
		span = float64(room)
	}
	if span == 0 {
		return nil
	}
	hits, absorbed := HitShare(u, span/block, size/block), 0.0
	if mode == "write-back" {
		absorbed = u.of(span/block, u.there(span/block, size/block*s.Number(at+"dirtyLimit"), byArrival))
	}
	reads, writes := float64(u.Reads)*(1-hits), float64(1-u.Reads)*(1-absorbed)
	if reads+writes < 1e-6 {
		return nil // all of it is the cache's
	}
	reach := u
	reach.Reads, reach.Depth = quantity.Share(reads/(reads+writes)), 0
	if mode == "write-back" {
		each := max(float64(u.Block), block) // what is written at a time stays together
		reach.runs = u.runsOf(span/each, size/each*s.Number(at+"dirtyLimit"))
	}
	if reach.runs > 0 && u.Reads < 1 && !s.mildlyGathered(reach.runs) {
		return nil
	}
	members := s.mediaCeilings(reach)
	if len(members) != 1 || members[0].Rate == 0 {
		return nil
	}
	h := members[0]
	h.Rate /= quantity.OpRate(reads + writes)
	h.Formula = fmt.Sprintf("%s answers %s of the reads", s.Text(at+"name"), quantity.Share(hits))
	switch {
	case u.Reads == 0:
		h.Formula = fmt.Sprintf("%s takes %s of the writes once more before it passes them on", s.Text(at+"name"), quantity.Share(absorbed))
	case absorbed > 0:
		h.Formula += fmt.Sprintf(" and takes %s of the writes once more before it passes them on", quantity.Share(absorbed))
	}
	h.Formula += "; of the rest " + members[0].Formula
	h.answered = true
	return &h
}

// mildlyGathered reports whether how many neighbours a cache passes on together says little of what the
// members pass: it is worked out as if they were dirty each for itself, and a disk is also written
// in the order of its places.
func (s Setup) mildlyGathered(runs float64) bool {
	for i := range s.Count("media") {
		switch s.Text(fmt.Sprintf("media[%d].kind", i)) {
		case "ssd":
		case "low-latency nvme":
			if runs < 0.7 {
				return false
			}
		default:
			return false
		}
	}
	return true
}

// cachesForLong reports whether what a cache answers for long is known.
func (s Setup) cachesForLong(u Use) bool {
	u.Long = true
	return u.Block > 0 && s.Count("cache") == 1 && s.Count("media") > 0 && s.behindCache(u) != nil
}
