// Package logstore is a key-value store, without its contents: what requests to put, get
// and scan entries ask of the storage below. Entries that are put go into a log and into
// memory; what memory gathered becomes a sorted table, and tables are merged from level to
// level, each so many times as large as the one before (O'Neil and others, The
// log-structured merge-tree, Acta Informatica 33, 1996; levels of tables whose keys do not
// overlap).
//
// It knows neither clock nor queue: Next gives the operations that can be under way now,
// Completed is told of each that was answered, and tells which requests ended with it.
// Which keys lie in which table is kept exactly, so that what a request reads, and what a
// merge reads and writes, follows from what was put before.
//
//	s, err := logstore.New(shape)
//	for s.Ready() { issue(s.Next()) }
package logstore

import (
	"errors"
	"fmt"
)

// Block is the unit of all reads, and of where writes begin and end.
const Block = 4096

// Piece is how many bytes of a table are read or written at a time.
const Piece = 256 << 10

// ErrRoom is wrapped by errors about a store that its room cannot hold.
var ErrRoom = errors.New("too little room for the store")

// Log is what is done with the log before a put is answered.
type Log int

// The ways of logging: no log; pieces written as they fill, which nobody waits for; each
// put written and flushed by itself; or those that wait together written and flushed
// together.
const (
	NoLog Log = iota
	Asynchronous
	FlushEach
	FlushGroup
)

// Request is what is asked of a store.
type Request int

// The requests.
const (
	Put Request = iota
	Get
	Scan
	Stall // not asked by anybody: a put that waited until memory was emptied, or tables merged
)

// Shape is what a store is like, and what is asked of it.
type Shape struct {
	Keys           int64                  // distinct; all of them are in the store from the start
	Size           func(key uint32) int64 // bytes of an entry: its key and its value
	Largest        int64                  // of them
	Mean           float64
	Memtable       int64   // bytes of entries that memory gathers, and of a table
	LevelRatio     int64   // how many times as large a level is as the one before
	CompactAt      int     // tables of the first level that are merged together
	FalsePositives float64 // share of filters that say yes without cause
	Log            Log
	Clients        int // requests under way at a time
	ScanKeys       int64
	Room           int64 // bytes
	Zone           int64 // bytes of a zone, which is written in order and reset as a whole; 0 for none

	Ask func() Request // what the next request is
	Key func() uint32  // and which key it is about
}

// Data is the bytes of all entries, without those that lie in several levels.
func (s Shape) Data() int64 { return int64(float64(s.Keys) * s.Mean) }

// slot is the room for one table.
func (s Shape) slot() int64 { return s.zoned(s.Memtable + int64(s.Clients+1)*s.Largest) }

// zoned is so many bytes in whole blocks, or whole zones.
func (s Shape) zoned(bytes int64) int64 {
	if s.Zone > 0 {
		return (bytes + s.Zone - 1) / s.Zone * s.Zone
	}
	return up(bytes)
}

// log is the room for the log: what memory gathers, twice, and as much again that was
// overwritten before it got there.
func (s Shape) log() int64 {
	return s.zoned(4*s.Memtable + int64(s.Clients)*s.Largest + Piece + 2*s.Zone)
}

// StallAt is how many tables the first level has at most: then puts wait.
func (s Shape) StallAt() int { return 3 * s.CompactAt }

// base is what the level after the first holds before it is merged into the next.
func (s Shape) base() int64 { return int64(s.CompactAt) * s.Memtable }

// Levels is how many there are, the first among them.
func (s Shape) Levels() int {
	levels, holds := 2, s.base()
	for holds < s.Data() {
		holds *= s.LevelRatio
		levels++
	}
	return levels
}

// capacity is what a level holds before it is merged into the next.
func (s Shape) capacity(level int) int64 {
	holds := s.base()
	for range level - 1 {
		holds *= s.LevelRatio
	}
	return holds
}

// Needs is the room that a store takes at most: its levels, the tables of which are not all
// full, what is merged while the tables that it replaces are still there, and the log.
func (s Shape) Needs() int64 {
	last := s.Levels() - 1
	first := int64(s.StallAt())
	tables := 2*first + 2 // the first level, and what it left in the next that has not moved on
	for level := 1; level <= last; level++ {
		holds := s.tables(min(s.capacity(level), s.Data()))
		tables += holds + holds/4 + 2
	}
	merge := 2*first + s.tables(s.base())
	if last > 1 {
		merge = max(merge, min(4*s.LevelRatio+4, s.tables(s.Data())+2))
	}
	return s.log() + (tables+merge)*s.slot()
}

// tables is how many tables so many bytes take: each but the last of a level is full.
func (s Shape) tables(bytes int64) int64 { return bytes/s.Memtable + 1 }

func (s Shape) validate() error {
	switch {
	case s.Keys < 1 || s.Keys > 1<<32-1:
		return fmt.Errorf("%d keys; from 1 to %d", s.Keys, uint32(1<<32-1))
	case s.Zone%Block != 0 || s.Zone > 0 && s.Room%s.Zone != 0:
		return fmt.Errorf("a room of %d bytes in zones of %d", s.Room, s.Zone)
	case s.Needs() > s.Room:
		return fmt.Errorf("%w: it needs %d bytes for %d of entries, and has %d", ErrRoom, s.Needs(), s.Data(), s.Room)
	}
	return nil
}

func up(bytes int64) int64 { return (bytes + Block - 1) / Block * Block }

func down(bytes int64) int64 { return bytes / Block * Block }
