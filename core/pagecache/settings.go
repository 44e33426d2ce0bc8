package pagecache

import (
	"fmt"

	"patientheron/core/quantity"
)

// Settings describe the memory. Zero values take defaults.
type Settings struct {
	Size       quantity.Bytes    // default 4 GiB
	Throughput quantity.ByteRate // at which a thread copies between it and a program; default 5 GB/s
	Dirty      quantity.Share    // that may wait to be written before writers wait; default 20 %
	Background quantity.Share    // from which on it is written without being asked; default half of Dirty
	Age        quantity.Seconds  // after which it is written in any case; default 30 s
	Ahead      quantity.Bytes    // read on ahead of who reads in order; default 128 KiB
}

// Completed is s with defaults in place of zeros.
func (s Settings) Completed() Settings {
	if s.Size == 0 {
		s.Size = 4 * quantity.GiB
	}
	if s.Throughput == 0 {
		s.Throughput = 5e9
	}
	if s.Dirty == 0 {
		s.Dirty = 0.2
	}
	if s.Background == 0 {
		s.Background = s.Dirty / 2
	}
	if s.Age == 0 {
		s.Age = 30
	}
	if s.Ahead == 0 {
		s.Ahead = 128 * quantity.KiB
	}
	return s
}

// Validate reports the first thing about s that cannot be.
func (s Settings) Validate() error {
	const least, most, mostAhead = quantity.MiB, 64 * quantity.GiB, 64 * quantity.MiB
	s = s.Completed()
	switch {
	case s.Size < least || s.Size > most || s.Size%page != 0:
		return fmt.Errorf("a size of %s; a multiple of %d B from %s to %s", s.Size, page, least, most)
	case !(s.Throughput >= 1e6 && s.Throughput <= 1e12):
		return fmt.Errorf("a throughput of %s; from 1 MB/s to 1 TB/s", s.Throughput)
	case !(s.Dirty > 0 && s.Dirty <= 1) || !(s.Background > 0 && s.Background <= s.Dirty):
		return fmt.Errorf("%s may be dirty, and from %s on it is written; up to 100%%, and the second no more than the first", s.Dirty, s.Background)
	case !(s.Age > 0 && s.Age <= 86400):
		return fmt.Errorf("an age of %s; up to a day", s.Age)
	case s.Ahead < page || s.Ahead > mostAhead || s.Ahead%page != 0:
		return fmt.Errorf("%s read ahead; a multiple of %d B up to %s", s.Ahead, page, mostAhead)
	}
	return nil
}

// Simulating is about how much memory the simulation of it takes once it is full.
func (s Settings) Simulating() quantity.Bytes { return s.Completed().Size / page * perPage }

// perPage is about what a page takes here: its slot, its place in the map and in the list of
// those that are dirty, and as much again of what these grew out of (measured).
const perPage = 192
