// Package mistake has the one error for a value that cannot be: which field it is in, and why.
// Plans, loads, arrays, setups, needs, parts and file sets all report their mistakes so, and the
// readers of files find the line and column of the field.
package mistake

import "fmt"

// Error says which field of something cannot be, and why.
type Error struct {
	Of     error  // what cannot be: the ErrInvalid of its package, which it wraps
	Field  string // as in a file, such as "members[0].count"; "" for the whole
	Reason string // what is wrong and what to do
}

// In is an Error in a field, of what a package calls invalid.
func In(of error, field, format string, arguments ...any) error {
	return &Error{Of: of, Field: field, Reason: fmt.Sprintf(format, arguments...)}
}

func (e *Error) Error() string {
	if e.Field == "" {
		return fmt.Sprintf("%v: %s", e.Of, e.Reason)
	}
	return fmt.Sprintf("%v: %s: %s", e.Of, e.Field, e.Reason)
}

// Unwrap makes errors.Is(err, ErrInvalid) true, of the package that it is about.
func (e *Error) Unwrap() error { return e.Of }
