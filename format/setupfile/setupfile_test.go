package setupfile

import (
	"errors"
	"strings"
	"testing"
	"time"

	"patientheron/core/setup"
)

const example = `media:
  - {kind: hard disk, count: 6, size: 4TB}
  - {kind: ssd, count: 2, size: 960GB}
layout: {level: raid6, chunk: 64KiB}
cache:
  - {medium: ssd, mode: read-only, size: 400GB, devices: 1}
link:
  - {rate: 1250MB/s, mtuHere: 9000, mtuThere: 9000}
tuning:
  queue-depth: 64
  note: "yes: quoted # and odd"
`

func TestReadsWhatItWrites(t *testing.T) {
	s, err := Read([]byte(example), time.Time{})
	if err != nil {
		t.Fatal(err)
	}
	if s.Text("media[1].size") != "960GB" || s.Text("tuning.note") != "yes: quoted # and odd" || s.Count("media") != 2 {
		t.Errorf("read %+v", s)
	}
	text, err := Write(s)
	if err != nil {
		t.Fatal(err)
	}
	again, err := Read(text, time.Time{})
	if err != nil || !again.Same(s) {
		t.Errorf("%v: wrote\n%s\nread %+v", err, text, again)
	}
	if text, err := Write(setup.Setup{}); err != nil || !strings.Contains(string(text), "nothing is known") {
		t.Errorf("%q, %v", text, err)
	}
}

func TestMistakesHaveTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		"":                        "line 1",
		"nodia: 3":                "line 1, column 1",
		"layout:\n  level: raid7": "line 2, column 10",
		"layout: {colour: red}":   "line 1",
		"media: {count: 3}":       "line 1",
		"media:\n  - {count: 2}\nlayout:\n  level: raid5": "line 4, column 10: impossible setup: layout.level: raid5 of 2 members",
		"media:\n  - {count: three}":                      "line 2",
		"layout: {level: raid5}\nlayout: 1":               "line 2",
		"link:\n  - {mtuHere: 10}":                        "line 2",
		"a: b: c":                                         "line 1",
		"cache:\n  - {mode: write-back, protected: yes, medium: ssd, devices: 1}": "line 2",
	} {
		_, err := Read([]byte(text), time.Time{})
		var mistake *Error
		if !errors.As(err, &mistake) || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(example))
	f.Add([]byte("media:\n  - 3"))
	f.Add([]byte("{}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Read(text, time.Time{})
		if err != nil {
			return
		}
		written, err := Write(s)
		if err != nil {
			t.Fatal(err)
		}
		if again, err := Read(written, time.Time{}); err != nil || !again.Same(s) {
			t.Errorf("%q was written as %q, which reads as %+v (%v)", text, written, again, err)
		}
	})
}
