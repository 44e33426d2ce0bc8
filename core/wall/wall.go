// Package wall keeps a panic from ending the process: what is called behind it fails with
// an error that holds what happened and where, and everything beside it goes on.
//
// A goroutine that is not behind a wall ends the service when it panics, with every run on
// board. So whatever works for one run, one look or one session begins with Do or Guard.
package wall

import (
	"errors"
	"fmt"
	"runtime/debug"
)

// Panic is the error of what panicked behind a wall.
type Panic struct {
	Value any
	Stack string // of the goroutine that panicked
}

func (p *Panic) Error() string {
	return fmt.Sprintf("a fault of this program, not of the storage: %v; the log has where it happened: please report it", p.Value)
}

// Unwrap gives the error that the panic was called with, if it was one.
func (p *Panic) Unwrap() error {
	err, _ := p.Value.(error)
	return err
}

// Do calls work, and gives its error or its panic.
func Do(work func() error) (err error) {
	defer Guard(&err)
	return work()
}

// Guard is deferred by a function that gives an error: a panic becomes that error, beside
// the one that there was.
//
//	defer wall.Guard(&err)
func Guard(err *error) {
	if value := recover(); value != nil {
		*err = errors.Join(*err, caught(value))
	}
}

// Behind is work behind a wall, for those who start goroutines.
func Behind(work func() error) func() error {
	return func() error { return Do(work) }
}

func caught(value any) *Panic {
	if p, is := value.(*Panic); is { // handed on from another goroutine
		return p
	}
	return &Panic{Value: value, Stack: string(debug.Stack())}
}

// StackOf is where an error's panic happened; "" where none is behind it.
func StackOf(err error) string {
	var p *Panic
	if errors.As(err, &p) {
		return p.Stack
	}
	return ""
}
