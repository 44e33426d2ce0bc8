package measure

import (
	"fmt"
	"iter"
)

// Class is what an operation does. Whatever counts operations is keyed by it, so
// that a new class is a line in the table below and nothing else.
type Class uint8

// The classes.
const (
	Read Class = iota
	Write
	Flush // forces what was written to stable storage
	Trim  // gives a range back: nobody will ask for what is there
	Zero  // lets the storage write zeros over a range by itself
	Copy  // lets the storage copy a range to another place by itself
	Swap  // reads a range and writes it anew where it is still as it was read

	Open       // opens a file that is there
	Create     // makes a file and opens it
	Close      // gives an open file back
	Truncate   // sets the length of a file
	Attributes // asks for size, times and rights of a file
	List       // reads the names in a folder
	Rename     // gives a file another name, in place of the file that had it
	Remove     // takes a file away
	MakeFolder // makes a folder
	File       // all that is done with one file, from its first operation to its last

	// Classes is how many there are, for tables that are indexed by class.
	Classes int = iota
)

var classes = [Classes]struct {
	name  string // as it is stored, travels and is shown
	verb  string // of one operation
	moves bool   // it moves bytes of the load, or lets the storage move them
}{
	Read:  {"reads", "read", true},
	Write: {"writes", "write", true},
	Flush: {"flushes", "flush", false},
	Trim:  {"trims", "trim", false},
	Zero:  {"zeroes", "zero", true},
	Copy:  {"copies", "copy", true},
	Swap:  {"swaps", "swap", true},

	Open:       {"opens", "open", false},
	Create:     {"creates", "create", false},
	Close:      {"closes", "close", false},
	Truncate:   {"truncates", "truncate", false},
	Attributes: {"attributes", "stat", false},
	List:       {"lists", "list", false},
	Rename:     {"renames", "rename", false},
	Remove:     {"removes", "remove", false},
	MakeFolder: {"folders", "mkdir", false},
	File:       {"files", "file", false},
}

// moving has the bit of each class that moves bytes.
var moving = func() (bits uint32) {
	for c, class := range classes {
		if class.moves {
			bits |= 1 << c
		}
	}
	return bits
}()

// EachClass yields all classes in the order in which they are shown.
func EachClass() iter.Seq[Class] {
	return func(yield func(Class) bool) {
		for c := range Classes {
			if !yield(Class(c)) {
				return
			}
		}
	}
}

// String names the class: "reads".
func (c Class) String() string { return classes[c].name }

// Verb names one operation of the class: "read".
func (c Class) Verb() string { return classes[c].verb }

// OfFiles reports whether it is a class of operations on files and their names.
func (c Class) OfFiles() bool { return c >= Open }

// Moves reports whether its operations move bytes of the load. Only what moves
// counts in totals: a flush beside the writes it belongs to would say nothing.
func (c Class) Moves() bool { return moving>>c&1 != 0 }

// MarshalText writes the name.
func (c Class) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

// UnmarshalText reads a name.
func (c *Class) UnmarshalText(text []byte) error {
	for class := range EachClass() {
		if class.String() == string(text) {
			*c = class
			return nil
		}
	}
	return fmt.Errorf("there is no class of operation %q", text)
}
