package cli

import (
	"bytes"
	"io"
	"os"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// screen is an output that a person reads. Names, paths and answers may hold
// what moves a terminal's cursor, changes its colours or turns text around; that
// is shown as a mark in its place. Errors of writing are kept, so that a full
// disk or a closed pipe ends the command with a failure.
type screen struct {
	out     *os.File
	pending []byte // the beginning of a character whose rest comes later
	err     error
}

func (s *screen) Write(p []byte) (int, error) {
	text := append(s.pending, p...)
	s.pending = nil
	var clean bytes.Buffer
	for len(text) > 0 {
		if !utf8.FullRune(text) {
			s.pending = bytes.Clone(text)
			break
		}
		r, size := utf8.DecodeRune(text)
		if controls(r) || r == utf8.RuneError && size == 1 {
			r = '�'
		}
		clean.WriteRune(r)
		text = text[size:]
	}
	if _, err := s.exact().Write(clean.Bytes()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// controls reports whether a character does something to a terminal but show
// itself: controls other than the end of a line and the tabulator, and what
// changes the direction of text.
func controls(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
}

// exact is the output as it is, for what programs read; errors are kept all the
// same.
func (s *screen) exact() io.Writer { return keeping{s} }

type keeping struct{ s *screen }

func (k keeping) Write(p []byte) (int, error) {
	n, err := k.s.out.Write(p)
	if err != nil && k.s.err == nil {
		k.s.err = err
	}
	return n, err
}

// exactly is the output for what programs read: as it is, but for a terminal.
func exactly(out io.Writer) io.Writer {
	if s, is := out.(*screen); is && !isTerminal(out) {
		return s.exact()
	}
	return out
}

// fileOf is the file behind an output; nil for none.
func fileOf(out io.Writer) *os.File {
	switch o := out.(type) {
	case *screen:
		return o.out
	case *os.File:
		return o
	}
	return nil
}

func isTerminal(out io.Writer) bool {
	file := fileOf(out)
	return file != nil && term.IsTerminal(int(file.Fd()))
}
