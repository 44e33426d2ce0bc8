package wall

import (
	"errors"
	"io"
	"strings"
	"testing"
)

func explode(over []int) int { return over[len(over)] }

func TestAPanicIsAnError(t *testing.T) {
	err := Do(func() error { _ = explode(nil); return nil })
	if stack := StackOf(err); !strings.Contains(stack, "wall.explode") {
		t.Errorf("%v happened at %s", err, stack)
	}
	if err == nil || !strings.Contains(err.Error(), "index out of range") {
		t.Errorf("it is said: %v", err)
	}
	if err := Do(func() error { return io.EOF }); err != io.EOF || StackOf(err) != "" {
		t.Errorf("an error became %v", err)
	}
	if err := Behind(func() error { panic(io.ErrUnexpectedEOF) })(); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("what it was called with is gone: %v", err)
	}
}

// A panic that is handed on from one goroutine to the next keeps its first stack.
func TestAPanicIsHandedOn(t *testing.T) {
	first := Do(func() error { _ = explode(nil); return nil })
	var p *Panic
	if !errors.As(first, &p) {
		t.Fatalf("it is %v", first)
	}
	if second := Do(func() error { panic(p) }); StackOf(second) != p.Stack {
		t.Errorf("another stack: %s", StackOf(second))
	}
}

// What had failed before the panic is said as well.
func TestBothAreSaid(t *testing.T) {
	failing := func() (err error) {
		defer Guard(&err)
		err = io.ErrClosedPipe
		panic("then this")
	}
	if err := failing(); !errors.Is(err, io.ErrClosedPipe) || !strings.Contains(err.Error(), "then this") {
		t.Errorf("it is said: %v", err)
	}
}
