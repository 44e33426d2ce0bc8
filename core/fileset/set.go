// Package fileset is the shape of trees of files: classes of files with their numbers,
// sizes, content and folders. A set takes no more memory for ten million files than for
// ten: what a file is like is worked out from its number and a seed, the same each time.
//
//	files, err := fileset.New(set, seed)
//	for i := range files.Len() { f := files.At(i); path := files.Path(nil, i) }
//
// Describe looks at a tree of real files and gives the set that it is like.
package fileset

import (
	"errors"
	"fmt"
	"math"
	"path"
	"strings"
	"unicode/utf8"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

// ErrInvalid is wrapped by all errors about a set that cannot be.
var ErrInvalid = errors.New("impossible file set")

func wrong(field, format string, arguments ...any) error {
	return mistake.In(ErrInvalid, field, format, arguments...)
}

// Set is the shape of a tree of files.
type Set struct {
	Name    string  `json:"name,omitempty"`
	Classes []Class `json:"classes"`
}

// Class is files that are alike.
type Class struct {
	Name         string         `json:"name"`
	Number       int64          `json:"number,omitempty"`     // of files; 0 when Total says how many they are
	Total        quantity.Bytes `json:"totalBytes,omitempty"` // of all files; the last one is cut to what is left
	Size         Sizes          `json:"size"`
	Ending       string         `json:"ending,omitempty"`       // of their names, such as ".tif"
	Compressible quantity.Share `json:"compressible,omitempty"` // of their content
	Duplicate    quantity.Share `json:"duplicate,omitempty"`    // of their pages of 4 KiB
	Folders      Folders        `json:"folders,omitzero"`
}

// Sizes is how large files are: one of fixed, range, log-normal and histogram.
type Sizes struct {
	Fixed quantity.Bytes `json:"fixedBytes,omitempty"`

	From quantity.Bytes `json:"fromBytes,omitempty"` // of a range, every size alike
	To   quantity.Bytes `json:"toBytes,omitempty"`

	Median quantity.Bytes `json:"medianBytes,omitempty"` // of a log-normal distribution
	Spread float64        `json:"spread,omitempty"`      // two thirds lie between the median divided and multiplied by it
	Most   quantity.Bytes `json:"mostBytes,omitempty"`   // none is larger; 0 for any size

	Bins []Bin `json:"bins,omitempty"` // of a histogram, by size
}

// Bin is the files of a size above that of the bin before.
type Bin struct {
	To    quantity.Bytes `json:"toBytes"`             // the largest of them
	Share quantity.Share `json:"share"`               // of all files; the shares need not add up to one
	Mean  quantity.Bytes `json:"meanBytes,omitempty"` // 0 for the middle
}

// Folders is how files lie in folders.
type Folders struct {
	Files int `json:"files,omitempty"` // in each folder; 0 for all of them in one
	Deep  int `json:"deep,omitempty"`  // levels of folders, which branch alike; 0 for one
}

const (
	mostClasses = 64
	mostFiles   = 100_000_000             // of a set
	mostBytes   = quantity.Bytes(1) << 56 // of a class: with 64 of them no sum overflows
	mostBins    = 256
	mostDeep    = 16
	largestFile = quantity.Bytes(1) << 53
)

// Validate reports the first thing about s that cannot be, as a *mistake.Error.
func (s Set) Validate() error {
	if len(s.Classes) == 0 || len(s.Classes) > mostClasses {
		return wrong("classes", "%d of them; from 1 to %d", len(s.Classes), mostClasses)
	}
	names := map[string]bool{}
	for i, c := range s.Classes {
		at := fmt.Sprintf("classes[%d]", i)
		if folder := folderName(c.Name); names[folder] {
			return wrong(at+".name", "%q; another class has the same name, or one with the same letters and digits", c.Name)
		} else {
			names[folder] = true
		}
		if err := c.validate(at); err != nil {
			return err
		}
	}
	return nil
}

func (c Class) validate(at string) error {
	switch {
	case folderName(c.Name) == "" || len(c.Name) > 100:
		return wrong(at+".name", "%q; a name of letters and digits, up to 100 bytes", c.Name)
	case c.Number < 0 || c.Total < 0 || (c.Number == 0) == (c.Total == 0):
		return wrong(at, "it has either a number of files or a total size, from 1")
	case c.Number > mostFiles:
		return wrong(at+".number", "%d; up to %d", c.Number, mostFiles)
	case !(c.Compressible >= 0 && c.Compressible <= 1) || !(c.Duplicate >= 0 && c.Duplicate <= 1):
		return wrong(at+".compressible", "shares from 0%% to 100%%")
	case len(c.Ending) > 16 || c.Ending != "" && (c.Ending[0] != '.' || strings.ContainsAny(c.Ending, "/\x00") || !utf8.ValidString(c.Ending)):
		return wrong(at+".ending", "%q; a dot and letters, such as .tif", c.Ending)
	case c.Folders.Files < 0 || c.Folders.Deep < 0 || c.Folders.Deep > mostDeep:
		return wrong(at+".folders", "%d files in each, %d deep; none negative, and up to %d deep", c.Folders.Files, c.Folders.Deep, mostDeep)
	}
	return c.Size.validate(at + ".size")
}

// Validate reports sizes that cannot be.
func (s Sizes) Validate() error { return s.validate("size") }

func (s Sizes) validate(at string) error {
	kinds := 0
	for _, is := range []bool{s.Fixed != 0, s.From != 0 || s.To != 0, s.Median != 0 || s.Spread != 0 || s.Most != 0, len(s.Bins) > 0} {
		if is {
			kinds++
		}
	}
	if kinds > 1 {
		return wrong(at, "one of a size, a range from and to, a median with its spread, or a list of bins")
	}
	within := func(sizes ...quantity.Bytes) bool {
		for _, size := range sizes {
			if size < 0 || size > largestFile {
				return false
			}
		}
		return true
	}
	switch {
	case !within(s.Fixed, s.From, s.To, s.Median, s.Most):
		return wrong(at, "sizes from nothing to %s", largestFile)
	case s.From > s.To:
		return wrong(at+".from", "%s, which is more than %s", s.From, s.To)
	case s.Median == 0 && (s.Spread != 0 || s.Most != 0):
		return wrong(at+".median", "is missing")
	case s.Median > 0 && !(s.Spread >= 1 && s.Spread <= 100):
		return wrong(at+".spread", "%g; from 1 to 100", s.Spread)
	case s.Most > 0 && s.Most < s.Median:
		return wrong(at+".most", "%s, which is less than the median of %s", s.Most, s.Median)
	case len(s.Bins) > mostBins:
		return wrong(at, "%d bins; up to %d", len(s.Bins), mostBins)
	}
	return s.validateBins(at)
}

func (s Sizes) validateBins(at string) error {
	sum, below := 0.0, quantity.Bytes(-1)
	for i, b := range s.Bins {
		at := fmt.Sprintf("%s[%d]", at, i)
		switch {
		case b.To <= below || b.To > largestFile:
			return wrong(at+".to", "%s; more than the bin before, and up to %s", b.To, largestFile)
		case !(b.Share >= 0) || math.IsInf(float64(b.Share), 0):
			return wrong(at+".share", "%g; a share from 0", float64(b.Share))
		case b.Mean != 0 && (b.Mean <= below || b.Mean > b.To):
			return wrong(at+".mean", "%s; within the bin", b.Mean)
		}
		sum, below = sum+float64(b.Share), b.To
	}
	if len(s.Bins) > 0 && sum <= 0 {
		return wrong(at, "no bin has any files")
	}
	return nil
}

// folderName is a name with nothing in it that a file system could stumble over.
func folderName(name string) string {
	clean := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, name)
	for strings.Contains(clean, "--") {
		clean = strings.ReplaceAll(clean, "--", "-")
	}
	return path.Clean("/" + strings.Trim(clean, "-"))[1:]
}
