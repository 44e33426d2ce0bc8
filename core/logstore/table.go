package logstore

import (
	"slices"
	"sort"
)

// table is a sorted run of entries.
type table struct {
	number uint32 // no two are alike
	keys   []uint32
	starts []uint32 // of each entry within the table, where entries differ in size
	each   int64    // size of all of them, where they do not
	bytes  int64
	at     int64 // of its slot
}

func (t *table) first() uint32 { return t.keys[0] }

func (t *table) last() uint32 { return t.keys[len(t.keys)-1] }

// start is where an entry begins within the table; that of the one after the last is its
// end.
func (t *table) start(i int) int64 {
	switch {
	case i >= len(t.keys):
		return t.bytes
	case t.starts != nil:
		return int64(t.starts[i])
	}
	return int64(i) * t.each
}

// find is the place of a key, or of the next larger one.
func (t *table) find(key uint32) (place int, there bool) {
	place = sort.Search(len(t.keys), func(i int) bool { return t.keys[i] >= key })
	return place, place < len(t.keys) && t.keys[place] == key
}

// add puts an entry at the end.
func (t *table) add(key uint32, size int64, varies bool) {
	t.keys = append(t.keys, key)
	if varies {
		t.starts = append(t.starts, uint32(t.bytes))
	} else {
		t.each = size
	}
	t.bytes += size
}

// span is the blocks that some entries of a table lie in, at least one.
func (t *table) span(from, to int) (offset, length int64) {
	from = min(from, len(t.keys)-1)
	begin, end := down(t.start(from)), up(max(t.start(to), t.start(from)+1))
	return t.at + begin, min(end, up(t.bytes)) - begin
}

// maybe reports whether the filter of a table says that a key may be there: always where it
// is, and by chance, but always the same, where it is not.
func (s *Store) maybe(t *table, key uint32) (place int, there, maybe bool) {
	place, there = t.find(key)
	if there || s.FalsePositives >= 1 {
		return place, there, true
	}
	draw := mixed(uint64(t.number)<<32 | uint64(key))
	return place, false, float64(draw>>11)/(1<<53) < s.FalsePositives
}

// overlapping are the tables of a level, whose keys do not overlap, that hold any from one
// key to another.
func overlapping(level []*table, from, to uint32) (first, after int) {
	first = sort.Search(len(level), func(i int) bool { return level[i].last() >= from })
	after = first
	for after < len(level) && level[after].first() <= to {
		after++
	}
	return first, after
}

// fill lays out what is in the store from the start: every key in the last level, and in
// those above as many as they hold, drawn by their hash.
func (s *Store) fill() {
	last := len(s.levels) - 1
	for level := last; level > 0; level-- {
		share := 1.0
		if level < last {
			share = min(float64(s.capacity(level))/float64(s.Data()), 1)
		}
		var t *table
		for key := range s.Keys {
			if share < 1 && float64(mixed(uint64(level)<<40^uint64(key)+s.seed)>>11)/(1<<53) >= share {
				continue
			}
			if t == nil {
				t = s.newTable()
			}
			if t.add(uint32(key), s.Size(uint32(key)), s.varies); t.bytes >= s.Memtable {
				s.levels[level] = append(s.levels[level], t)
				t = nil
			}
		}
		if t != nil {
			s.levels[level] = append(s.levels[level], t)
		}
		s.sizes[level] = bytesOf(s.levels[level])
	}
}

func bytesOf(level []*table) (sum int64) {
	for _, t := range level {
		sum += t.bytes
	}
	return sum
}

// newTable takes a slot for a table.
func (s *Store) newTable() *table {
	s.tables++
	slot := s.free[len(s.free)-1]
	s.free = s.free[:len(s.free)-1]
	return &table{number: s.tables, at: slot}
}

// drop gives the slots of tables back; one in zones is reset before it is used again.
func (s *Store) drop(tables []*table) {
	for _, t := range tables {
		if s.Zone > 0 {
			s.issue(&s.behind, Reset, t.at, s.slot(), flight{part: slotReset, at: t.at})
		} else {
			s.free = append(s.free, t.at)
		}
	}
}

// replace puts tables in place of others that lie beside each other in a level.
func replace(level []*table, first, after int, by []*table) []*table {
	return slices.Concat(level[:first], by, level[after:])
}

// mixed is the finalizer of splitmix64 (Steele, Lea and Flood 2014).
func mixed(z uint64) uint64 {
	z += 0x9e3779b97f4a7c15
	z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9
	z = (z ^ (z >> 27)) * 0x94d049bb133111eb
	return z ^ (z >> 31)
}
