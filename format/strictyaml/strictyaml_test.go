package strictyaml

import (
	"errors"
	"strings"
	"testing"
	"time"
)

// What no person writes is refused at once, with its place; what a person may
// write is read.
func TestLimits(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want bool // read
	}{
		"brackets":                  {strings.Repeat("[", 100_000), false},
		"brackets in lines":         {strings.Repeat("[\n", 100_000), false},
		"braces":                    {strings.Repeat("{a: ", 1000), false},
		"lists in lists":            {strings.Repeat("- ", 1000) + "a", false},
		"keys of keys":              {strings.Repeat("? ", 1000) + "a", false},
		"anchors":                   {strings.Repeat("&a ", 1000) + "a", false},
		"a line without end":        {"a: " + strings.Repeat("x", 10_000), false},
		"a file without end":        {strings.Repeat("# nothing\n", 100_000), false},
		"an indent without end":     {strings.Repeat(" ", 1000) + "a: 1", false},
		"closing brackets":          {strings.Repeat("]\n", 1000), false},
		"thirty levels of brackets": {"a: " + strings.Repeat("[", 30) + strings.Repeat("]", 30), true},
		"thirty levels of lines":    {levels(30), true},
		"many entries":              {"a:\n" + strings.Repeat("  - {b: [1, 2], c: d}\n", 2000), true},
		"brackets in text":          {"a: '[[[['\nb: \"{{{{\"\n", true},
	} {
		began := time.Now()
		_, err := Parse([]byte(c.text), "something")
		var at *Error
		if (err == nil) != c.want || err != nil && (!errors.As(err, &at) || !errors.Is(err, ErrInvalid)) {
			t.Errorf("%s: %.200v", name, err)
		}
		if err != nil && len(err.Error()) > 500 {
			t.Errorf("%s: the error has %d bytes", name, len(err.Error()))
		}
		t.Logf("%s: %v", name, time.Since(began))
	}
}

func levels(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	b.WriteString(strings.Repeat(" ", n) + "b: 1\n")
	return b.String()
}

// Whatever comes from outside, reading it ends, in the document or in an error
// with its place.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"name: x\n", "a: [1, {b: 'c'}]\n", "- - a\n- b\n", "a: |\n  text\n", "&a *a", "\x00", "{", "a: \"\\x41\"", "? a\n: b\n", "%YAML 1.2\n---\na\n...\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		document, err := Parse(text, "something")
		var at *Error
		if err != nil && !errors.As(err, &at) || err == nil && document == nil {
			t.Fatalf("%v, %v", document, err)
		}
	})
}
