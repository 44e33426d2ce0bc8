// Package signature recognises what storage holds by the marks that layers and
// file systems leave on it, at its start and at its end.
//
// Find looks with a table of its own. Ask asks Debian's blkid, which knows
// more, where that is installed. Content says whether there is anything at all,
// recognised or not. None of them writes.
package signature

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"patientheron/core/setup"
)

// Unknown names content that nothing recognises.
const Unknown = setup.UnknownContent

// mark is a magic at a place; a negative offset counts from the end. Where a
// magic is short, valid looks at more.
type mark struct {
	name   string
	offset int64
	magic  string
	valid  func(at func(offset int64, length int) []byte) bool
}

// Find names what is recognised on storage of the given size, each name once,
// in the order of the table; none when nothing is. Storage shorter than a
// mark's place does not hold it.
func Find(storage io.ReaderAt, size int64) ([]string, error) {
	r := &reader{storage: storage, size: size}
	var names []string
	add := func(name string) {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, m := range marks {
		offset := m.offset
		if offset < 0 {
			offset += size
		}
		if string(r.at(offset, len(m.magic))) == m.magic && (m.valid == nil || m.valid(r.at)) {
			add(m.name)
		}
	}
	for _, rule := range rules {
		if rule.found(r) {
			add(rule.name)
		}
	}
	// A boot sector carries the mark of a partition table; alone it may be one.
	if len(names) == 0 && string(r.at(0x1fe, 2)) == "\x55\xaa" {
		add("partition table or boot sector")
	}
	return names, r.err
}

// reader reads pieces of storage, most of which lie close together.
type reader struct {
	storage io.ReaderAt
	size    int64
	pages   map[int64][]byte
	err     error
}

const page = 64 << 10

// at gives length bytes at an offset, or nil where the storage has none.
func (r *reader) at(offset int64, length int) []byte {
	if offset < 0 || offset+int64(length) > r.size || r.err != nil {
		return nil
	}
	if r.pages == nil {
		r.pages = map[int64][]byte{}
	}
	var out []byte
	for first := offset / page; len(out) < length; first++ {
		p, known := r.pages[first]
		if !known {
			p = make([]byte, min(page, r.size-first*page))
			if _, err := r.storage.ReadAt(p, first*page); err != nil && !errors.Is(err, io.EOF) {
				r.err = fmt.Errorf("read %d bytes at %d: %w", len(p), first*page, err)
				return nil
			}
			r.pages[first] = p
		}
		from := offset + int64(len(out)) - first*page
		out = append(out, p[from:min(int64(len(p)), from+int64(length-len(out)))]...)
	}
	return out
}

// samples is in how many places between start and end Content looks.
const samples = 61

// Content reports whether storage holds anything but zeros: in its first and
// last MiB, and in places spread evenly between them.
func Content(storage io.ReaderAt, size int64) (bool, error) {
	const end, sample = 1 << 20, 4 << 10
	something := func(offset, length int64) (bool, error) {
		buffer := make([]byte, max(min(length, size-offset), 0))
		n, err := storage.ReadAt(buffer, offset)
		if err != nil && !errors.Is(err, io.EOF) {
			return false, fmt.Errorf("read %d bytes at %d: %w", len(buffer), offset, err)
		}
		return len(bytes.Trim(buffer[:n], "\x00")) > 0, nil
	}
	for _, offset := range []int64{0, max(size-end, 0)} {
		if found, err := something(offset, end); found || err != nil {
			return found, err
		}
	}
	if size <= 2*end {
		return false, nil
	}
	var at []int64
	for i := int64(1); i <= samples; i++ {
		at = append(at, (size-sample)/(samples+1)*i/sample*sample)
	}
	pieces, err := readAll(storage, at, sample)
	return slices.ContainsFunc(pieces, func(p []byte) bool { return len(bytes.Trim(p, "\x00")) > 0 }), err
}

// rules are marks whose place or sense has to be worked out.
var rules = []struct {
	name  string
	found func(*reader) bool
}{
	{"RAID member (md)", func(r *reader) bool {
		const magic = 0xa92b4efc
		sectors := r.size / 512
		for _, offset := range []int64{
			(sectors - 16) &^ 7 * 512,     // version 1.0
			(r.size &^ 0xffff) - 64<<10,   // version 0.90
			(r.size &^ 0xffff) - 128<<10,  // 0.90 of a larger whole
			(sectors&^127 - 128) * 512, 0, // 0.90 in sectors; 1.1
		} {
			if b := r.at(offset, 4); b != nil && (binary.LittleEndian.Uint32(b) == magic || binary.BigEndian.Uint32(b) == magic) {
				return true
			}
		}
		return false
	}},
	{"ZFS member", func(r *reader) bool {
		// Four labels of 256 KiB, two at each end; in the second half of each lie
		// the uberblocks, of 1 KiB or more.
		end := r.size &^ (256<<10 - 1)
		for _, label := range []int64{0, 256 << 10, end - 512<<10, end - 256<<10} {
			for at := int64(128 << 10); at < 256<<10; at += 1 << 10 {
				if b := r.at(label+at, 8); b != nil && (binary.LittleEndian.Uint64(b) == 0x00bab10c || binary.BigEndian.Uint64(b) == 0x00bab10c) {
					return true
				}
			}
		}
		return false
	}},
	{"partition table (sun)", func(r *reader) bool {
		label := r.at(0, 512)
		if label == nil || binary.BigEndian.Uint16(label[508:]) != 0xdabe {
			return false
		}
		var sum uint16
		for i := 0; i < 512; i += 2 {
			sum ^= binary.BigEndian.Uint16(label[i:])
		}
		return sum == 0
	}},
	{"partition table", func(r *reader) bool {
		boot := r.at(0, 512)
		if boot == nil || boot[510] != 0x55 || boot[511] != 0xaa {
			return false
		}
		used := 0
		for i := range 4 {
			entry := boot[446+16*i:][:16]
			if entry[0]&0x7f != 0 {
				return false // the boot flag of a real entry is 0x00 or 0x80
			}
			if entry[4] != 0 && binary.LittleEndian.Uint32(entry[12:]) > 0 {
				used++
			}
		}
		return used > 0
	}},
	{"RAID member (DDF)", func(r *reader) bool {
		for _, offset := range []int64{r.size - 512, r.size - 257*512} {
			if b := r.at(offset, 4); b != nil && (binary.BigEndian.Uint32(b) == 0xde11de11 || binary.LittleEndian.Uint32(b) == 0xde11de11) {
				return true
			}
		}
		return false
	}},
}
