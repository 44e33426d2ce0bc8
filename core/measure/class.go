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

	// Classes is how many there are, for tables that are indexed by class.
	Classes int = iota
)

var classes = [Classes]struct {
	name  string // as it is stored, travels and is shown
	verb  string // of one operation
	moves bool   // it moves bytes of the load
}{
	Read:  {"reads", "read", true},
	Write: {"writes", "write", true},
	Flush: {"flushes", "flush", false},
	Trim:  {"trims", "trim", false},
}

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

// Moves reports whether its operations move bytes of the load. Only what moves
// counts in totals: a flush beside the writes it belongs to would say nothing.
func (c Class) Moves() bool { return classes[c].moves }

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
