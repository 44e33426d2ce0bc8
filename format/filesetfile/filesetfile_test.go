package filesetfile

import (
	"errors"
	"reflect"
	"strings"
	"testing"

	"patientheron/core/fileset"
	"patientheron/core/quantity"
)

const summer = `name: A summer at sea
classes:
  - {name: hydrophone pieces, number: 20k, size: 48MiB, ending: .wav, compressible: 30%}
  - name: photographs
    total: 40GiB
    size: {median: 6MiB, spread: 1.8, most: 60MiB}
    folders: {files: 200, deep: 2}
  - {name: notes, number: 5, size: {from: 1KiB, to: 64KiB}, duplicate: 12.5%}
  - name: scans
    number: 7
    size:
      - {to: 1MiB, share: 20%, mean: 700KiB}
      - {to: 20MiB, share: 80%}
  - {name: locks, number: 3}
`

var summerSet = fileset.Set{Name: "A summer at sea", Classes: []fileset.Class{
	{Name: "hydrophone pieces", Number: 20_000, Size: fileset.Sizes{Fixed: 48 * quantity.MiB}, Ending: ".wav", Compressible: 0.3},
	{Name: "photographs", Total: 40 * quantity.GiB, Size: fileset.Sizes{Median: 6 * quantity.MiB, Spread: 1.8, Most: 60 * quantity.MiB}, Folders: fileset.Folders{Files: 200, Deep: 2}},
	{Name: "notes", Number: 5, Size: fileset.Sizes{From: quantity.KiB, To: 64 * quantity.KiB}, Duplicate: 0.125},
	{Name: "scans", Number: 7, Size: fileset.Sizes{Bins: []fileset.Bin{{To: quantity.MiB, Share: 0.2, Mean: 700 * quantity.KiB}, {To: 20 * quantity.MiB, Share: 0.8}}}},
	{Name: "locks", Number: 3},
}}

func TestReadGivesEveryValue(t *testing.T) {
	got, err := Read([]byte(summer))
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, summerSet) {
		t.Errorf("%+v", got)
	}
	if again, err := Read(Write(got)); err != nil || !reflect.DeepEqual(again, got) {
		t.Errorf("written and read again: %+v (%v)\n%s", again, err, Write(got))
	}
}

func TestMistakesHaveALineAndAColumn(t *testing.T) {
	for name, c := range map[string]struct {
		text         string
		line, column int
		words        string
	}{
		"nothing":            {"name: x\n", 1, 0, "from 1 to 64"},
		"unknown key":        {"classes: {name: a, colour: red}\n", 1, 20, `no key "colour"`},
		"neither":            {"classes:\n  - {name: a, size: 5}\n", 2, 5, "either a number"},
		"half a file":        {"classes: {name: a, number: 1.5}\n", 1, 28, "1200 or 20k"},
		"many files":         {"classes: {name: a, number: 101M}\n", 1, 28, "up to 100000000"},
		"no such size":       {"classes: {name: a, number: 1, size: large}\n", 1, 37, "large"},
		"a range upside":     {"classes: {name: a, number: 1, size: {from: 5, to: 4}}\n", 1, 44, "more than 4"},
		"a spread alone":     {"classes: {name: a, number: 1, size: {spread: 2}}\n", 1, 0, "is missing"},
		"bins out of order":  {"classes: {name: a, number: 1, size: [{to: 5, share: 1%}, {to: 4, share: 1%}]}\n", 1, 63, "more than the bin before"},
		"an absurd ending":   {"classes: {name: a, number: 1, ending: x/y}\n", 1, 39, "such as .tif"},
		"two of one name":    {"classes: [{name: a b, number: 1}, {name: A-B, number: 2}]\n", 1, 42, "another class"},
		"a name of nothing":  {"classes: {name: '..', number: 1}\n", 1, 17, "letters and digits"},
		"depths of the sea":  {"classes: {name: a, number: 1, folders: {files: 1, deep: 99}}\n", 1, 40, "up to 16 deep"},
		"more than one kind": {"classes: {name: a, number: 1, size: {from: 1, to: 2, median: 3}}\n", 1, 37, "one of a size"},
	} {
		_, err := Read([]byte(c.text))
		var mistake *Error
		if !errors.As(err, &mistake) || !strings.Contains(err.Error(), c.words) || mistake.Line != c.line || c.column > 0 && mistake.Column != c.column {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Whatever is read without a mistake can be written and read again.
func FuzzRead(f *testing.F) {
	f.Add(summer)
	f.Fuzz(func(t *testing.T, text string) {
		set, err := Read([]byte(text))
		if err != nil {
			return
		}
		if _, err := Read(Write(set)); err != nil {
			t.Errorf("%v\n%s", err, Write(set))
		}
	})
}
