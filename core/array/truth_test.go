package array

import (
	"fmt"
	"iter"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
	"patientheron/test/trials"
)

// truth follows every sector through an array: what each member, cache and operation
// holds. It works parity out by itself, from nothing but what was read, so that a
// read too few shows as a wrong byte.
type truth struct {
	t        *testing.T
	a        *Array
	what     string
	members  [][]uint32
	platter  [][]uint32 // of disks with a volatile cache, without what that holds
	caches   []map[int64]uint32
	jobs     map[int32]*carried
	units    [][]uint32    // what units held that were stored in a pool
	stored   map[int64]int // which of them was stored last at a place
	alike    map[uint32]uint32
	next     map[int64]uint32 // what the next operation of a host carries
	host     *carried         // of the operation of a host that came last
	lost     int64            // sectors that disks lost
	taken    int              // controllers that failed
	made     int              // copies
	unzeroed int
}

// carried is what an operation carries: of a write what is written, of a read what
// it was given so far.
type carried struct {
	parent  int32
	sectors map[int64]uint32
}

const sector = 512

func newTruth(t *testing.T, a *Array, what string, content func(int64) uint32) *truth {
	w := &truth{t: t, a: a, what: what, jobs: map[int32]*carried{}, stored: map[int64]int{}, alike: map[uint32]uint32{}}
	for _, m := range a.members {
		held := make([]uint32, int64(m.group.Capacity)/sector)
		for i := range held {
			held[i] = 0xdead0000 + uint32(i) // what nobody may ever see
		}
		w.members = append(w.members, held)
	}
	defer func() {
		for i, m := range a.members {
			if w.platter = append(w.platter, nil); m.volatile() {
				w.platter[i] = slices.Clone(w.members[i])
			}
		}
	}()
	for range a.caches {
		w.caches = append(w.caches, map[int64]uint32{})
	}
	l := a.layout
	for s := range a.pool / sector {
		if a.thin != nil && s*sector >= min(int64(a.thin.next)*a.thin.grain, a.size) {
			break // nothing lies there yet
		}
		m, at := l.Place(s * sector)
		for i := range l.copies() {
			w.members[m+i][at/sector] = content(s)
		}
	}
	for at := int64(0); l.parity > 0 && at < a.pool/int64(l.data); at += sector {
		stripe := at / l.chunk
		row := (l.row(stripe)*l.chunk + at%l.chunk) / sector
		data := make([]uint32, l.data)
		for i := range data {
			data[i] = w.members[l.column(stripe, i)][row]
		}
		for i := range l.parity {
			w.members[l.column(stripe, l.data+i)][row] = parityOf(i, data)
		}
	}
	a.watch = w
	return w
}

func (w *truth) reached(member int, from, to int64) {
	if to = min(to, int64(len(w.members[member]))*sector); w.platter[member] != nil && from < to {
		copy(w.platter[member][from/sector:to/sector], w.members[member][from/sector:])
	}
}

// lose lets disks lose what is only in their own memory, as a power cut does.
func (w *truth) lose() {
	for i, m := range w.a.members {
		if w.platter[i] == nil || m.failed {
			continue
		}
		if m.flash != nil {
			v := m.flash.volatile
			v.settle(w.a, m)
			for _, p := range v.pages {
				from, to := p.page*pageSize, min((p.page+1)*pageSize, int64(len(w.members[i]))*sector)
				switch {
				case p.done <= float64(w.a.now):
					w.reached(i, from, to)
					continue
				case p.command >= 0:
					continue
				}
				copy(w.members[i][from/sector:to/sector], w.platter[i][from/sector:])
				w.lost += (to - from) / sector
			}
			continue
		}
		for _, r := range append(slices.Clone(m.disk.cache.ranges), m.disk.cache.current) {
			if r.from < r.to {
				copy(w.members[i][r.from/sector:r.to/sector], w.platter[i][r.from/sector:])
				w.lost += (r.to - r.from) / sector
			}
		}
	}
}

// times is the product of all four bytes with a power of two in GF(2^8), by shifting
// (Anvin, The mathematics of RAID-6, 2004).
func times(v uint32, power int) uint32 {
	for range power {
		high := v & 0x80808080
		v = v&0x7f7f7f7f<<1 ^ high>>7*0x1d
	}
	return v
}

func parityOf(number int, data []uint32) (p uint32) {
	for i, v := range data {
		p ^= times(v, i*number)
	}
	return p
}

// submit hands an operation of a host over and gives what it carries.
func (w *truth) submit(r Request, content map[int64]uint32) *carried {
	w.host, w.next = nil, content
	w.a.Submit(r)
	return w.host
}

func (w *truth) wrong(format string, arguments ...any) {
	w.t.Helper()
	w.t.Fatalf("%s: %s", w.what, fmt.Sprintf(format, arguments...))
}

func (w *truth) born(n, parent int32) {
	w.jobs[n] = &carried{parent: parent, sectors: map[int64]uint32{}}
	if parent < 0 && w.host == nil { // the first one after a host has submitted it
		if w.next != nil {
			w.jobs[n].sectors = w.next
		}
		w.host = w.jobs[n]
	}
}

// content is what a write carries for a sector.
func (w *truth) content(n int32, s int64) uint32 {
	for i := n; i >= 0; i = w.jobs[i].parent {
		if v, has := w.jobs[i].sectors[s]; has {
			return v
		}
	}
	w.wrong("job %d carries nothing for sector %d", n, s)
	return 0
}

func (w *truth) copied(n, read int32, by int64) {
	for s, v := range w.jobs[read].sectors {
		w.jobs[n].sectors[s+by/sector] = v
	}
}

// give gives a sector to a read and to those it is a part of, as far as they asked for
// it: a cache may fetch more.
func (w *truth) give(n int32, s int64, v uint32) {
	for i := n; i >= 0; i = w.jobs[i].parent {
		if j := w.a.jobs.at(i); s*sector < j.offset || s*sector >= j.end() {
			return
		}
		w.jobs[i].sectors[s] = v
	}
}

type spot struct {
	member int
	row    int64
}

// known is what pieces that were read tell of the members.
func (w *truth) known(pieces []piece) map[spot]uint32 {
	known := map[spot]uint32{}
	for _, p := range pieces {
		for at := p.offset; !p.write && at < p.offset+int64(p.length); at += sector {
			known[spot{p.member, at / sector}] = w.members[p.member][at/sector]
		}
	}
	return known
}

// row works out the data of a row of a stripe from what is known, trying nothing but
// the two equations. Missing columns are -1 in the answer when they stay unknown.
func (w *truth) row(l *layout, stripe, row int64, known map[spot]uint32) ([]uint32, bool) {
	data, lacking := make([]uint32, l.data), []int{}
	for i := range data {
		v, has := known[spot{l.base + l.column(stripe, i), row}]
		data[i] = v
		if !has {
			data[i] = 0
			lacking = append(lacking, i)
		}
	}
	var parities []int
	values := [2]uint32{}
	for i := range l.parity {
		if v, has := known[spot{l.base + l.column(stripe, l.data+i), row}]; has {
			parities = append(parities, i)
			values[i] = v ^ parityOf(i, data)
		}
	}
	switch {
	case len(lacking) == 0:
		return data, true
	case len(lacking) > len(parities):
		return nil, false
	case len(lacking) == 1:
		data[lacking[0]] = divided(values[parities[0]], lacking[0]*parities[0])
		return data, true
	}
	// P = x + y, Q = 2^i x + 2^j y: x = (Q - 2^j P) / (2^i - 2^j).
	x, y := lacking[0], lacking[1]
	right := values[1] ^ times(values[0], y)
	for shift := 0; shift < 32; shift += 8 {
		for guess := range uint32(256) {
			if (times(guess, x)^times(guess, y))&0xff == right>>shift&0xff {
				data[x] |= guess << shift
				break
			}
		}
	}
	data[y] = values[0] ^ data[x]
	return data, true
}

// divided is the quotient by a power of two, by multiplying until it comes round: the
// powers of two repeat after 255.
func divided(v uint32, power int) uint32 { return times(v, (255-power%255)%255) }

func (w *truth) planned(n int32, l *layout, k kind, volume, place int64, length int, first, second []piece) {
	if k == trims || w.a.jobs.at(n).failed {
		return
	}
	known := map[spot]uint32{}
	if l != nil {
		known = w.known(first)
	}
	for off := int64(0); k == reads && off < int64(length); off += sector {
		s := (volume + off) / sector
		if l == nil {
			w.give(n, s, 0)
			continue
		}
		m, at := l.Place(place + off)
		found := false
		for i := range l.copies() {
			if v, has := known[spot{l.base + m + i, at / sector}]; has && !found {
				w.give(n, s, v)
				found = true
			}
		}
		if !found && l.parity > 0 {
			if data, solved := w.row(l, (place+off)/l.width(), at/sector, known); solved {
				column := int((place + off) / l.chunk % int64(l.data))
				w.give(n, s, data[column])
				found = true
			}
		}
		if !found {
			w.wrong("%d bytes at %d: nothing was read that tells sector %d", length, volume, s)
		}
	}
	if k == writes {
		w.write(n, l, volume, place, length, known, slices.Concat(first, second))
	}
}

// write applies the writes among pieces.
func (w *truth) write(n int32, l *layout, volume, place int64, length int, known map[spot]uint32, pieces []piece) {
	fresh := map[spot]uint32{}
	for off := int64(0); off < int64(length); off += sector {
		m, at := l.Place(place + off)
		for i := range l.copies() {
			fresh[spot{l.base + m + i, at / sector}] = w.content(n, (volume+off)/sector)
		}
	}
	applied := map[spot]uint32{}
	for _, p := range pieces {
		for at := p.offset; p.write && at < p.offset+int64(p.length); at += sector {
			here := spot{p.member, at / sector}
			if v, isData := fresh[here]; isData {
				applied[here] = v
			} else {
				applied[here] = w.parity(l, here, known, fresh)
			}
		}
	}
	for here, v := range applied {
		w.members[here.member][here.row] = v
	}
}

// parity is a sector of new parity: of all data, known or fresh, or by what changed.
func (w *truth) parity(l *layout, here spot, known, fresh map[spot]uint32) uint32 {
	if l.parity == 0 {
		w.wrong("member %d is written at row %d, which is none of the data", here.member, here.row)
	}
	stripe, number := int64(0), -1
	for s := range l.stripesIn(here.row * sector / l.chunk) {
		for i := range l.parity {
			if l.base+l.column(s, l.data+i) == here.member {
				stripe, number = s, i
			}
		}
	}
	if number < 0 {
		w.wrong("member %d is written at row %d, which is neither data of the write nor parity", here.member, here.row)
	}
	data, complete := make([]uint32, l.data), true
	old, hasOld := known[here]
	for i := range data {
		column := spot{l.base + l.column(stripe, i), here.row}
		if v, isFresh := fresh[column]; isFresh {
			data[i] = v
			was, hasWas := known[column]
			old ^= times(was^v, i*number)
			hasOld = hasOld && hasWas
		} else if v, isKnown := known[column]; isKnown {
			data[i] = v
		} else {
			complete = false
		}
	}
	switch {
	case complete:
		return parityOf(number, data)
	case hasOld:
		return old
	}
	all, solved := w.row(l, stripe, here.row, known)
	if !solved {
		w.wrong("parity at row %d of member %d cannot be known", here.row, here.member)
	}
	for i := range all {
		if v, isFresh := fresh[spot{l.base + l.column(stripe, i), here.row}]; isFresh {
			all[i] = v
		}
	}
	return parityOf(number, all)
}

// stripesIn are the stripes that lie in a row of chunks of all members.
func (l *layout) stripesIn(row int64) iter.Seq[int64] {
	return func(yield func(int64) bool) {
		for s := int64(0); l.spread != nil && s < l.spread.groups; s++ {
			if !yield(row*l.spread.groups + s) {
				return
			}
		}
		if l.spread == nil {
			yield(row)
		}
	}
}

// moved fills a range of what takes over a column of a stripe from the others as they are.
func (w *truth) moved(l *layout, stripe int64, column, to int, from, length int64) {
	for at := from; at < from+length; at += sector {
		known := map[spot]uint32{}
		for i := range l.columns {
			if m := l.column(stripe, i); i != column && l.member(w.a, m).has(from+length) {
				known[spot{l.base + m, at / sector}] = w.members[l.base+m][at/sector]
			}
		}
		data, solved := w.row(l, stripe, at/sector, known)
		if !solved {
			w.wrong("column %d of stripe %d cannot be made anew", column, stripe)
		}
		if column >= l.data {
			w.members[l.base+to][at/sector] = parityOf(column-l.data, data)
		} else {
			w.members[l.base+to][at/sector] = data[column]
		}
	}
}

func (w *truth) kept(level int, n int32, offset int64, length int) {
	for s := offset / sector; s < (offset+int64(length))/sector; s++ {
		w.caches[level][s] = w.content(n, s)
	}
}

func (w *truth) served(level int, n int32, offset int64, length int) {
	for s := offset / sector; s < (offset+int64(length))/sector; s++ {
		v, has := w.caches[level][s]
		if !has {
			w.wrong("cache %d serves sector %d, which it does not have", level, s)
		}
		w.give(n, s, v)
	}
}

func (w *truth) forgot(level int, offset int64, length int) {
	for s := offset / sector; s < (offset+int64(length))/sector; s++ {
		delete(w.caches[level], s)
	}
}

func (w *truth) leaving(level int, n int32, offset int64, length int) {
	for s := offset / sector; s < (offset+int64(length))/sector; s++ {
		v, has := w.caches[level][s]
		if !has {
			w.wrong("cache %d writes out sector %d, which it does not have", level, s)
		}
		w.jobs[n].sectors[s] = v
	}
}

// A unit that is stored in a pool is there as a token in each of its sectors, from which
// all of the unit can be told if they are of one kind and complete.
const (
	token     = 0x20000000
	tokenUnit = 256
)

func (w *truth) packed(n, by int32, u unitPart) {
	var unit []uint32
	for s := u.from / sector; s < u.to/sector; s++ {
		unit = append(unit, w.content(n, s))
	}
	for i := range u.length / sector {
		w.jobs[by].sectors[u.place/sector+i] = token + uint32(len(w.units))*tokenUnit + uint32(i)
	}
	w.stored[u.at] = len(w.units)
	w.units = append(w.units, unit)
}

func (w *truth) unpacked(n, by int32, u unitPart) {
	held := w.jobs[by].sectors
	for s := u.from / sector; s < u.to/sector; s++ {
		w.give(n, s, w.opened(func(place int64) uint32 { return held[place/sector] }, u, s))
	}
}

// opened is a sector of a unit that is stored somewhere: what was stored as a whole
// needs all of what it takes.
func (w *truth) opened(at func(place int64) uint32, u unitPart, s int64) uint32 {
	first := at(u.place)
	if first < token || first >= 2*token { // it was there from the beginning, as it is
		return at(u.at + s*sector - u.begin)
	}
	for i := range u.length / sector {
		if got, want := at(u.place+i*sector), first+uint32(i); got != want {
			w.wrong("of a unit at %d sector %d is %#x, want %#x", u.at, i, got, want)
		}
	}
	if skipped := uint32(u.place-u.at) / sector; (first-token)%tokenUnit != skipped {
		w.wrong("what is read at %d is sector %d of a unit, want %d", u.place, (first-token)%tokenUnit, skipped)
	}
	return w.units[(first-token)/tokenUnit][s-u.begin/sector]
}

// same lets what is written be the same as what lies somewhere: to whoever compares them
// there is no difference any more.
func (w *truth) same(n int32, u unitPart) {
	for i, v := range w.units[w.stored[u.at]] {
		if one, other := w.kind(v), w.kind(w.content(n, u.begin/sector+int64(i))); one != other {
			w.alike[other] = one
		}
	}
}

// kind is the one of those that are alike which stands for them.
func (w *truth) kind(v uint32) uint32 {
	next, is := w.alike[v]
	if !is {
		return v
	}
	next = w.kind(next)
	w.alike[v] = next // the way is shorter from now on
	return next
}

func (w *truth) landed(slot int32) {
	l, first := w.a.tier.where(w.a, 0, slot, 0)
	for at := first; at < first+w.a.tier.extent; at += sector {
		m, place := l.Place(at)
		for i := range l.copies() {
			w.members[l.base+m+i][place/sector] = 0
		}
		for i := range l.parity {
			w.members[l.base+l.column(place/l.chunk, l.data+i)][place/sector] = 0
		}
	}
}

// gathered lets a job write what another one carries.
func (w *truth) gathered(n, from int32, volume int64, length int) {
	for s := volume / sector; s < (volume+int64(length))/sector; s++ {
		w.jobs[n].sectors[s] = w.content(from, s)
	}
}

// zeroed lets a range of a member of a layout read as zeros.
func (w *truth) zeroed(l *layout, member int, from, to int64) {
	clear(w.members[l.base+member][from/sector : to/sector])
}

// lies is what lies at a place of the pool: read from any member that has it, or
// worked out.
func (w *truth) lies(place int64) uint32 {
	l := w.a.layout
	if t := w.a.tier; t != nil {
		extent := int(place / t.extent)
		if t.empty[extent] {
			return 0
		}
		l, place = t.where(w.a, extent, t.place[extent], place)
	}
	m, at := l.Place(place)
	known := map[spot]uint32{}
	for i := range l.members {
		if l.member(w.a, i).has(at + sector) {
			known[spot{l.base + i, at / sector}] = w.members[l.base+i][at/sector]
		}
	}
	for i := range l.copies() {
		if v, has := known[spot{l.base + m + i, at / sector}]; has {
			return v
		}
	}
	data, solved := w.row(l, place/l.width(), at/sector, known)
	if !solved {
		w.wrong("nothing tells what lies at %d", place)
	}
	return data[int(place/l.chunk%int64(l.data))]
}

// snapshotted is what a snapshot holds of a sector of the volume.
func (w *truth) snapshotted(generation int32, s int64) uint32 {
	t := w.a.thin
	unit := int32(s * sector / t.unit)
	at := func(it stored) uint32 {
		if t.reduced != nil {
			return w.opened(w.lies, t.partAt(unit, it), s)
		}
		return w.lies(t.place(it.slot, s*sector))
	}
	if it := t.of(unit); it.slot >= 0 && it.born <= generation {
		return at(it.stored)
	}
	for _, o := range t.held {
		if o.unit == unit && o.born <= generation && generation < o.left {
			return at(o.stored)
		}
	}
	return 0
}

// remade fills a range of a member from the others as they are.
func (w *truth) remade(l *layout, member int, from, length int64) {
	known := map[spot]uint32{}
	for at := from; at < from+length; at += sector {
		for m := range l.members {
			if m != member && l.member(w.a, m).has(from+length) {
				known[spot{l.base + m, at / sector}] = w.members[l.base+m][at/sector]
			}
		}
		here := spot{l.base + member, at / sector}
		if l.parity == 0 {
			first := member / l.copies() * l.copies()
			for m := first; m < first+l.copies(); m++ {
				if v, has := known[spot{l.base + m, at / sector}]; has {
					w.members[here.member][here.row] = v
				}
			}
			continue
		}
		stripe := at / l.chunk
		if l.spread != nil { // of those of a row, the one of its group
			stripe = stripe*l.spread.groups + int64(member/l.columns)
		}
		data, solved := w.row(l, stripe, at/sector, known)
		if !solved {
			w.wrong("row %d of member %d cannot be made anew", at/sector, member)
		}
		for i := range l.columns {
			if l.column(stripe, i) == member && i < l.data {
				w.members[here.member][here.row] = data[i]
			} else if l.column(stripe, i) == member {
				w.members[here.member][here.row] = parityOf(i-l.data, data)
			}
		}
	}
}

// tinyArray draws an array whose every sector can be followed.
func tinyArray(source *rand.Rand) Description {
	pick := func(n int) int { return source.IntN(n) }
	d := Description{
		Members: []Group{{Count: []int{2, 3, 4, 5, 6}[pick(5)], Medium: []Medium{HardDisk, Flash, LowLatency}[pick(3)], Capacity: quantity.MiB + quantity.Bytes(pick(3))*768*quantity.KiB}},
		Layout:  Layout{Level: []Level{Concatenation, Stripe, Mirror, MirrorStripe, Parity, DoubleParity}[pick(6)], Chunk: quantity.Bytes(1+pick(12)) * 4096},
		Empty:   []quantity.Share{0, 0, 0.5, 1}[pick(4)],
	}
	if n := d.Members[0].Count; (d.Layout.Level == Parity || d.Layout.Level == DoubleParity) && pick(2) == 0 {
		d.Members[0].Count, d.Layout.Stripe, d.Layout.Spares = n+3, 3+pick(3), pick(4)
	}
	if least := fewest[d.Layout.Level]; (d.Layout.Level == Parity || d.Layout.Level == DoubleParity) && d.Layout.Stripe == 0 && pick(2) == 0 {
		d.Layout.Groups = 2 + pick(2)
		d.Members[0].Count = d.Layout.Groups * (least + pick(2))
	}
	if d.Members[0].Medium == Flash && pick(3) == 0 {
		d.Members[0].Channels = 1 + pick(4)
	}
	// Of parity a cut leaves stripes of which only some was written, as in life.
	if d.Members[0].Medium != LowLatency && d.Layout.Level != Parity && d.Layout.Level != DoubleParity && pick(2) == 0 {
		d.Members[0].WriteCaching = true
		if d.Members[0].Medium == HardDisk {
			d.Members[0].WriteBuffer = quantity.Bytes(64+pick(512)) * quantity.KiB
		}
	}
	for range pick(3) {
		d.Caches = append(d.Caches, Cache{
			Name: "c", Size: quantity.MiB, Block: 4096 << pick(6), Mode: []CacheMode{ReadOnly, WriteBack, WriteBack, WriteThrough}[pick(4)],
			DirtyLimit: quantity.Share(0.05 + 0.9*source.Float64()), Bypass: []quantity.Bytes{0, 64 * quantity.KiB}[pick(2)],
			Fetch: []CacheFetch{FetchParts, FetchBlocks}[pick(2)], ReadAhead: []quantity.Bytes{0, 128 * quantity.KiB}[pick(2)], Protected: pick(2) == 0, Devices: pick(3) / 2 * 2, Pinned: []quantity.Bytes{0, 0, 64 * quantity.KiB}[pick(3)],
		})
	}
	for i := range d.Caches {
		if c := &d.Caches[i]; c.Mode == WriteBack && !c.Protected && c.Devices == 0 && pick(3) == 0 {
			c.Log = &Log{}
		}
	}
	if pick(3) == 0 {
		d.Tier = &Tier{Members: Group{Count: 2 + pick(3), Medium: Flash, Capacity: quantity.MiB}, Level: []Level{Mirror, Parity}[pick(2)], Extent: quantity.MiB, Every: 0.05, Rate: 50e6}
		for range pick(3) {
			d.Tier.Lower = append(d.Tier.Lower, LowerTier{Members: Group{Count: 2 + pick(3), Medium: []Medium{Flash, LowLatency}[pick(2)], Capacity: quantity.MiB}, Level: []Level{Mirror, Parity}[pick(2)]})
		}
		if pick(3) == 0 {
			d.Tier.Windows = []Window{{At: 0.02, For: 0.05, Every: 0.1}}
		}
		if pick(3) == 0 {
			d.Tier.Off = []Region{{From: 0, To: quantity.MiB}}
		}
	}
	if pick(3) == 0 {
		d.Link = Link{Rate: 125e6, Count: 2, Combined: Multipath, RoundTrip: 100e-6, FailOver: 0.002}
	}
	if pick(3) == 0 { // so small that the pool has room for three snapshots of all of it
		unit := quantity.Bytes(1+pick(24)) * 4096
		d.Thin = &Thin{Unit: unit, Size: max(d.Usable()/unit/4, 1)*unit - quantity.Bytes(pick(2))*sector}
		d.Snapshots = Snapshots{Every: []quantity.Seconds{0, 0.03}[pick(2)], Keep: 2}
		if pick(2) == 0 {
			d.Thin.Compresses, d.Thin.Deduplicates, d.Thin.Throughput = pick(2) == 0, pick(2) == 0, []quantity.ByteRate{0, 500e6}[pick(2)]
			if d.Thin.Throughput *= quantity.ByteRate(min(1, pick(3))); !d.Thin.reduces() {
				d.Thin.Throughput = 0
			}
			if d.Thin.Deduplicates && pick(2) == 0 {
				d.Thin.Index = indexEntry * quantity.Bytes(1+pick(20))
				d.Thin.Unit = 4096 << pick(2)
				d.Thin.Size = max(d.Usable()/d.Thin.Unit/4, 1)*d.Thin.Unit - quantity.Bytes(pick(2))*sector
			}
		}
	}
	d.Thin.unzero(pick(3) == 0)
	if pick(4) == 0 {
		d.Replica = &Replica{Kilometres: 20}
		if pick(2) == 0 {
			*d.Replica = Replica{Mode: Asynchronous, Kilometres: 20, Rate: 50e6, Journal: 256 * quantity.KiB}
		}
	}
	if pick(3) == 0 {
		d.Controller = Controller{Count: 2, Takeover: 1e-3}
		for i := range d.Caches {
			c := &d.Caches[i]
			c.Mirrored = c.Mode == WriteBack && c.Devices == 0 && pick(2) == 0
		}
	}
	if d.Thin == nil && d.Empty == 0 && d.Usable() > 4*quantity.MiB && pick(3) == 0 { // which reads what the test writes
		d.Neighbours = []Neighbour{{Name: "n", Size: quantity.MiB, Owner: pick(max(d.Controller.Count, 1)), Depth: 1, Block: 8192, Order: []Order{Random, Sequential}[pick(2)]}}
	}
	if pick(3) == 0 {
		d.Shelves = Shelves{Count: 1 + pick(2), Rate: 100e6, Dealt: []Dealt{InOrder, InTurn}[pick(2)]}
	}
	if d.Link.Rate > 0 && pick(2) == 0 {
		d.Link.Connections, d.Link.Window, d.Link.Loss = 1+pick(3), 64*quantity.KiB, 0.01
		d.Link.RoundTrip = max(d.Link.RoundTrip, 1e-4)
	}
	return d
}

func (t *Thin) unzero(is bool) {
	if t != nil && !t.reduces() {
		t.Unzeroed = is
	}
}

// Whatever was written is read, through every cache, tier and degraded layout, while
// members fail and are made anew, caches and batteries fail, paths drop and reads go
// wrong; a power cut and a failing controller lose nothing that was flushed.
func TestNothingIsServedThatWasNotThere(t *testing.T) {
	t.Parallel()
	tried, fails, cuts, errors, moves, hits, resent, copied, shared := 0, 0, 0, 0, int64(0), int64(0), int64(0), int64(0), 0
	repeated, saved, looked := int64(0), int64(0), int64(0)
	var lost int64
	taken, made, unzeroed := 0, 0, 0
	for seed := range trials.Of(300) {
		source := rand.New(rand.NewPCG(uint64(seed), 99))
		d := tinyArray(source)
		if d.Validate() != nil {
			continue
		}
		tried++
		f, c, e, w := follow(t, fmt.Sprintf("seed %d: %+v", seed, d), d, source)
		a := w.a
		lost += w.lost
		taken, made, unzeroed = taken+w.taken, made+w.made, unzeroed+w.unzeroed
		fails, cuts, errors, resent = fails+f, cuts+c, errors+e, resent+a.counters.resent
		if a.tier != nil {
			moves += a.tier.movedBytes
		}
		if a.thin != nil {
			copied += a.thin.copied
			shared += len(a.thin.held)
			if r := a.thin.reduced; r != nil {
				repeated, saved, looked = repeated+r.repeated, saved+r.taken-r.kept, looked+r.looked
			}
		}
		for _, c := range a.caches {
			hits += c.hits
		}
	}
	t.Logf("%d arrays, %d members failed, %d power cuts, %d reads recovered, %d operations sent again, %d MB relocated, %d hits, %d MB copied first, %d units held by snapshots, %d kB were there already, %d MB saved, %d looks, disks lost %d sectors, %d controllers failed, %d copies", tried, fails, cuts, errors, resent, moves/1e6, hits, copied/1e6, shared, repeated/1e3, saved/1e6, looked, lost, taken, made)
	// What is rare comes up where all is tried; a part has to try something.
	few := trials.Parts() > 1
	if tried < 10 || cuts == 0 || fails == 0 || made == 0 || hits == 0 || moves == 0 ||
		!few && (taken < 20 || made < 500 || unzeroed == 0 || lost == 0 || repeated == 0 || saved == 0 || looked == 0 || copied == 0 || shared == 0 || tried < 150 || fails < 100 || cuts < 50 || errors == 0 || resent == 0 || hits < 1000) {
		t.Error("hardly anything was tried")
	}
}

// follow drives one array with writes that do not overlap.
func follow(t *testing.T, what string, d Description, source *rand.Rand) (fails, cuts, errors int, w *truth) {
	taken, made, unzeroed := 0, 0, 0 // controllers that failed, copies, and sectors that were not written with zeros
	a := build(t, d)
	sectors := a.size / sector
	empty := d.filled()
	held := make([]uint32, sectors)
	older := map[int64][]uint32{} // what may come back after a power cut
	for s := range held {
		held[s] = uint32(s)*2654435761>>3 + 1
		if a.tier != nil && (int64(s)*sector)/a.tier.extent*a.tier.extent >= empty || a.thin != nil && a.thin.of(int32(int64(s)*sector/a.thin.unit)).slot < 0 {
			held[s] = 0
		}
	}
	w = newTruth(t, a, what, func(s int64) uint32 { return held[s] })
	type flight struct {
		from, to int64
		write    bool
		loose    bool // it overlaps a write: either content may come
		job      *carried
	}
	flying := map[int]flight{}
	gone := map[int64]bool{}          // was trimmed: nobody may rely on anything
	snapshots := map[int32][]uint32{} // what was held when they were taken
	drivesLose := slices.ContainsFunc(a.members, (*member).volatile)
	mayLose := drivesLose || slices.ContainsFunc(a.caches, (*cache).volatile)
	var version uint32
	defer func() { w.taken, w.made, w.unzeroed = taken, made, unzeroed }()
	reap := func() {
		for _, done := range a.Done() {
			f := flying[done.Tag]
			delete(flying, done.Tag)
			if done.Failed {
				w.wrong("an operation failed")
			}
			for s := f.from; !f.write && !f.loose && s < f.to; s++ {
				got, has := f.job.sectors[s]
				if gone[s] && has {
					held[s] = got
					continue
				}
				if !has || w.kind(got) != w.kind(held[s]) {
					if has && mayLose && slices.ContainsFunc(older[s], func(v uint32) bool { return v == anything || w.kind(v) == w.kind(got) }) {
						// It came back after the power cut; another copy may still hold the other.
						older[s] = append(older[s], held[s])
						held[s] = got
						continue
					}
					w.wrong("sector %d reads %#x (%v), want %#x", s, got, has, held[s])
				}
			}
		}
		a.Forget()
	}
	drain := func() {
		for len(flying) > 0 {
			if !a.Step(math.MaxInt64) {
				w.wrong("%d operations are never answered", len(flying))
			}
			reap()
		}
	}
	hot := source.Int64N(max(sectors-256, 1))
	wantsRest, streamed := false, int64(0)
	for i := range 400 {
		for until := a.Now() + source.Int64N(2e6); a.Step(until); {
		}
		reap()
		if source.IntN(20) == 0 {
			a.Writes([]float64{0, 0.3, 0.7, 0.95}[source.IntN(4)], []float64{0, 0.5, 1}[source.IntN(3)])
		}
		switch chance := source.IntN(100); {
		case chance == 0 && (fails < a.layout.tolerates() || a.layout.spread != nil && a.layout.missing(a) < a.layout.tolerates()):
			m := source.IntN(a.layout.members)
			if a.members[m].failed {
				break
			}
			for _, other := range a.members { // with a read that it gives up it could be one too many
				other.errors = 0
			}
			drain()
			for until := a.Now() + 2e6; a.Step(until); {
			}
			a.inject(Fault{Kind: MemberFails, Member: m})
			for row := range w.members[m] {
				w.members[m][row] = 0xbad00000 + uint32(row)
			}
			fails++
		case chance == 1 || chance == 11 && a.layout.spread != nil:
			for m := range a.layout.members {
				if a.members[m].failed && a.members[m].rebuild == nil {
					a.inject(Fault{Kind: RebuildBegin, Member: m, Rate: 5e6})
				}
			}
		case chance == 2 && (drivesLose || len(a.caches) > 0):
			drain()
			f := Fault{Kind: []FaultKind{PowerCut, FailOver}[source.IntN(2)], For: 0.001}
			if d.Controller.Count > 1 && f.Kind == FailOver {
				if slices.ContainsFunc(a.caches, func(c *cache) bool {
					return c.spec.Mode == WriteBack && c.spec.Devices == 0 && c.spec.Protected && !c.spec.Mirrored
				}) {
					break // it takes with it what was flushed to it
				}
				f = Fault{Kind: ControllerFails, Controller: source.IntN(2), For: 0.003}
				taken++
			}
			if f.Kind == PowerCut {
				w.lose()
			}
			a.inject(f)
			wantsRest = true
			cuts++
		case chance == 3 && len(a.caches) > 0:
			n := source.IntN(len(a.caches))
			f := Fault{Kind: BatteryFails, Cache: n, For: 0.003}
			if source.IntN(2) == 0 {
				f.Kind = CacheFails
			}
			if s := a.caches[n].spec; s.Protected || s.Mode != WriteBack { // others lose what they took
				a.inject(f)
			}
		case chance == 4 && len(a.hosts) > 0:
			a.inject(Fault{Kind: PathDrops, Path: source.IntN(2), For: 0.002})
		case chance == 7 && a.tier != nil && i > 200:
			a.inject(Fault{Kind: TierLeaves})
		case chance == 5:
			if m := source.IntN(a.layout.members); a.layout.missing(a) < a.layout.tolerates() {
				a.inject(Fault{Kind: MemberErrors, Member: m, Share: 0.3, Extra: 0.0005, For: 0.01})
				defer func() { errors += int(a.counters.recovered) }()
			}
		case chance == 6 && a.thin != nil && !wantsRest:
			drain()
			taken := a.thin.generation
			if a.inject(Fault{Kind: Snapshot}); len(older) > 0 { // what a cut left unknown
				continue
			}
			for a.thin.generation == taken && a.Step(math.MaxInt64) {
			}
			if a.thin.generation == taken+1 {
				snapshots[taken] = slices.Clone(held)
				for s := range gone {
					snapshots[taken][s] = anything
				}
			}
			continue
		case chance > 96 && !wantsRest && sectors > 256:
			drain()
			length := 1 + source.Int64N(100)
			from, to := source.Int64N(sectors/2-length), sectors/2+source.Int64N(sectors-sectors/2-length)
			if source.IntN(2) == 0 {
				from, to = to, from
			}
			unsure := false
			for s := range length {
				unsure = unsure || gone[from+s] || gone[to+s]
			}
			if unsure {
				continue
			}
			w.submit(Request{Tag: i, Copy: true, Source: from * sector, Offset: to * sector, Length: int(length) * sector}, map[int64]uint32{})
			flying[i] = flight{write: true}
			drain()
			for s := range length {
				older[to+s] = append(older[to+s], held[to+s])
				held[to+s] = held[from+s]
			}
			made++
			continue
		case chance < 10:
			drain()
			was := older
			w.submit(Request{Tag: i, Flush: true}, nil)
			flying[i] = flight{write: true}
			drain()
			if !wantsRest { // after a cut what is there has to be read first
				for s := range was {
					delete(older, s)
				}
			}
			continue
		}
		length := (1 + source.Int64N(96)) * sector
		if source.IntN(3) == 0 {
			length = 4096
		}
		if source.IntN(20) == 0 {
			length = (1 + source.Int64N(1000)) * sector
		}
		length = min(length, a.size)
		at := source.Int64N((a.size-length)/sector+1) * sector
		if source.IntN(4) == 0 { // a stream
			at = min(streamed, a.size-length)
			streamed = (at + length) % (a.size - 4096) / sector * sector
		} else if source.IntN(2) == 0 {
			at = min(hot*sector+source.Int64N(64)*4096, a.size-length) / sector * sector
		}
		f := flight{from: at / sector, to: (at + length) / sector, write: source.IntN(2) == 0}
		trims := source.IntN(30) == 0
		f.write = f.write || trims
		overlaps := false
		for tag, other := range flying {
			switch meets := f.from < other.to && other.from < f.to; {
			case meets && f.write && other.write:
				overlaps = true
			case meets && f.write:
				other.loose = true
				flying[tag] = other
			case meets && other.write:
				f.loose = true
			}
		}
		if overlaps || len(flying) > 8 {
			continue
		}
		var content map[int64]uint32
		if f.write {
			content = map[int64]uint32{}
			for s := f.from; s < f.to; s++ {
				if gone[s] {
					held[s] = anything
				}
				if gone[s] = trims; trims {
					continue
				}
				delete(gone, s)
				version++
				older[s] = append(older[s], held[s])
				held[s] = 0x40000000 + version
				content[s] = held[s]
			}
		}
		if a.thin != nil && !a.thin.zeroes && f.write && !trims {
			a.thin.unitsOf(at, at+length, func(unit int32, from, to int64) {
				begin, end := a.thin.limits(unit)
				for s := begin / sector; a.thin.of(unit).slot < 0 && s < end/sector; s++ {
					if s < f.from || s >= f.to {
						gone[s] = true // what lay there before
						unzeroed++
					}
				}
			})
		}
		f.job = w.submit(Request{Tag: i, Write: f.write && !trims, Trim: trims, Offset: at, Length: int(length)}, content)
		flying[i] = f
	}
	drain()
	for s := int64(0); s < sectors; s += 512 { // all of it at the end
		to := min(s+512, sectors)
		flying[0] = flight{from: s, to: to, job: w.submit(Request{Offset: s * sector, Length: int(to-s) * sector}, nil)}
		drain()
	}
	if a.thin == nil {
		return fails, cuts, errors, w
	}
	for len(a.thin.busy) > 0 && a.Step(math.MaxInt64) {
	}
	for _, generation := range a.thin.snapshots {
		for s, want := range snapshots[generation] {
			if got := w.snapshotted(generation, int64(s)); w.kind(got) != w.kind(want) && want != anything {
				w.wrong("snapshot %d holds %#x of sector %d, want %#x", generation, got, s, want)
			}
		}
	}
	return fails, cuts, errors, w
}

// anything is held of a sector that was trimmed.
const anything = 0xa110ca7e

// tolerates is how many members may be missing whatever they are.
func (l *layout) tolerates() int {
	switch {
	case l.level == MirrorStripe:
		return 1
	case l.spread != nil && l.spread.fixed: // they may be of one group
		return l.parity
	}
	return l.survives()
}
