package fileset

import (
	"bytes"
	"cmp"
	"compress/flate"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/bits"
	"math/rand/v2"
	"path"
	"slices"
	"strings"

	"patientheron/core/quantity"
)

// Described is what was found in a tree of files.
type Described struct {
	Set     Set            `json:"set" doc:"A set of the same shape"`
	Files   int64          `json:"files"`
	Bytes   quantity.Bytes `json:"bytes"`
	Folders int64          `json:"folders" doc:"The one that was looked at as well"`
	Sampled quantity.Bytes `json:"sampledBytes" doc:"What was read of the files to see how far they can be compressed"`

	Unreadable int64 `json:"unreadable,omitempty" doc:"Files and folders that could not be looked at, or were gone when it came to them"`
	Special    int64 `json:"special,omitempty" doc:"Links, devices and the like, which are no files"`
	Elsewhere  int64 `json:"elsewhere,omitempty" doc:"Folders that were not gone into"`
}

// Look says how a tree is looked at.
type Look struct {
	// Elsewhere reports whether a folder is not gone into, such as one that is on another
	// file system; nil for none.
	Elsewhere func(fs.DirEntry) bool
	// Progress is told from time to time how many files were found; nil for nobody.
	Progress func(files int64, bytes quantity.Bytes)
}

const (
	mostKinds   = 20       // classes that are kept apart
	leastOfKind = 3        // files that make a kind of their own
	samples     = 32       // files of a class that are read from
	samplePiece = 64 << 10 // of each
)

// kind is the files with one ending, or with several that are kept together.
type kind struct {
	ending  string
	of      []string // all endings
	files   int64
	bytes   quantity.Bytes
	least   int64       // size of the smallest
	most    int64       // and of the largest
	bins    [65]sizeBin // by the binary digits of their sizes
	levels  int64       // of folders above them, all added up
	folders int64       // that hold any of them
	in      string      // the last of those
	sample  []string
}

// sizeBin is files of sizes with as many binary digits.
type sizeBin struct{ files, bytes int64 }

// Describe looks at a tree of files: how many there are, how large, by the endings of
// their names, how deep they lie, and, by reading a piece of some, how far they can be
// compressed. Of names it keeps the endings, of contents nothing. What it cannot look at
// is counted. It fails when the top cannot be looked at, holds no files, or ctx ends.
func Describe(ctx context.Context, tree fs.FS, look Look) (Described, error) {
	d, _, err := describe(ctx, tree, look, func(string, string, int64) error { return nil })
	return d, err
}

// describe gives each file it finds to keep, with its ending, and the kinds that became
// the classes of the set.
func describe(ctx context.Context, tree fs.FS, look Look, keep func(ending, name string, size int64) error) (d Described, classes []*kind, err error) {
	kinds := map[string]*kind{}
	draws := rand.New(rand.NewPCG(1, 1))
	err = fs.WalkDir(tree, ".", func(name string, entry fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		switch {
		case err != nil && name == ".":
			return err
		case err != nil:
			d.Unreadable++
			if entry != nil && entry.IsDir() {
				return fs.SkipDir
			}
			return nil
		case entry.IsDir() && name != "." && look.Elsewhere != nil && look.Elsewhere(entry):
			d.Elsewhere++
			return fs.SkipDir
		case entry.IsDir():
			d.Folders++
			return nil
		case !entry.Type().IsRegular():
			d.Special++
			return nil
		}
		info, err := entry.Info()
		if err != nil {
			d.Unreadable++
			return nil
		}
		d.Files++
		d.Bytes += quantity.Bytes(info.Size())
		ending := endingOf(name)
		k := kinds[ending]
		if k == nil {
			k = &kind{ending: ending, of: []string{ending}}
			kinds[ending] = k
		}
		k.add(name, info.Size(), draws)
		if look.Progress != nil && d.Files%1024 == 0 {
			look.Progress(d.Files, d.Bytes)
		}
		return keep(ending, name, info.Size())
	})
	if err != nil {
		return d, nil, err
	}
	if d.Files == 0 {
		return d, nil, errors.New("there are no files in it")
	}
	classes = sorted(kinds)
	for _, k := range classes {
		c := k.class()
		read, left, err := k.compressed(ctx, tree)
		if err != nil {
			return d, nil, err
		}
		d.Sampled += quantity.Bytes(read)
		if read > 0 {
			c.Compressible = quantity.Share(max(0, float64(int(100*(1-float64(left)/float64(read))))/100))
		}
		d.Set.Classes = append(d.Set.Classes, c)
	}
	return d, classes, nil
}

// endingOf is what a name ends in, when that says of what kind the file is: up to five
// letters and digits.
func endingOf(name string) string {
	ending := strings.ToLower(path.Ext(path.Base(name)))
	if len(ending) < 2 || len(ending) > 6 || strings.Trim(ending[1:], "abcdefghijklmnopqrstuvwxyz0123456789") != "" || ending == path.Base(name) {
		return ""
	}
	return ending
}

// add counts a file.
func (k *kind) add(name string, size int64, draws *rand.Rand) {
	k.files++
	k.bytes += quantity.Bytes(size)
	size = min(size, int64(largestFile))
	if k.files == 1 || size < k.least {
		k.least = size
	}
	k.most = max(k.most, size)
	bin := &k.bins[bits.Len64(uint64(max(size, 1)-1))+bit(size > 0)]
	bin.files++
	bin.bytes += size
	k.levels += int64(strings.Count(name, "/"))
	if folder := path.Dir(name); folder != k.in || k.folders == 0 {
		k.folders++
		k.in = folder
	}
	// Each file is among the samples with the same chance (reservoir sampling: Vitter,
	// Random sampling with a reservoir, 1985).
	if size == 0 {
		return
	}
	if len(k.sample) < samples {
		k.sample = append(k.sample, name)
	} else if i := draws.Int64N(k.files); i < samples {
		k.sample[i] = name
	}
}

func bit(is bool) int {
	if is {
		return 1
	}
	return 0
}

// sorted are the kinds by what they hold, those with few files and those beyond the
// number that is kept apart as one.
func sorted(kinds map[string]*kind) (list []*kind) {
	rest := &kind{}
	for _, k := range kinds {
		if k.ending == "" || k.files < leastOfKind {
			rest.merge(k)
		} else {
			list = append(list, k)
		}
	}
	slices.SortFunc(list, func(x, y *kind) int {
		return cmp.Or(-cmp.Compare(x.bytes, y.bytes), cmp.Compare(x.ending, y.ending))
	})
	for len(list) > mostKinds {
		rest.merge(list[len(list)-1])
		list = list[:len(list)-1]
	}
	if rest.files > 0 {
		slices.Sort(rest.sample)
		rest.sample = rest.sample[:min(len(rest.sample), samples)]
		list = append(list, rest)
	}
	return list
}

func (k *kind) merge(other *kind) {
	if k.files == 0 || other.least < k.least {
		k.least = other.least
	}
	k.most = max(k.most, other.most)
	k.files, k.bytes, k.levels, k.folders = k.files+other.files, k.bytes+other.bytes, k.levels+other.levels, k.folders+other.folders
	for i, bin := range other.bins {
		k.bins[i].files += bin.files
		k.bins[i].bytes += bin.bytes
	}
	k.of = append(k.of, other.of...)
	k.sample = append(k.sample, other.sample...)
}

// class is a class of files like those of the kind.
func (k *kind) class() Class {
	c := Class{Name: "other files", Number: k.files, Ending: k.ending}
	if k.ending != "" {
		c.Name = k.ending[1:] + " files"
	}
	if k.least == k.most {
		c.Size.Fixed = quantity.Bytes(k.least)
		return k.folded(c)
	}
	used := func(bin sizeBin) bool { return bin.files > 0 }
	// The bin before says that no file is as small as those in it.
	for i := max(slices.IndexFunc(k.bins[:], used)-1, 0); slices.ContainsFunc(k.bins[i:], used); i++ {
		b := Bin{To: upTo(i), Share: quantity.Share(float64(k.bins[i].files) / float64(k.files))}
		if k.bins[i].files > 0 {
			b.Mean = quantity.Bytes(k.bins[i].bytes / k.bins[i].files)
		}
		c.Size.Bins = append(c.Size.Bins, b)
	}
	return k.folded(c)
}

// folded says how the files of a class lie in folders.
func (k *kind) folded(c Class) Class {
	if k.folders > 1 {
		deep := int(float64(k.levels)/float64(k.files)+0.5) - 1
		c.Folders = Folders{Files: int((k.files + k.folders - 1) / k.folders), Deep: min(max(deep, 1), mostDeep)}
	}
	return c
}

// upTo is the largest size of a bin: 0, 1, 2, 4 and so on.
func upTo(bin int) quantity.Bytes {
	if bin == 0 {
		return 0
	}
	return 1 << (bin - 1)
}

// compressed reads a piece of each of the samples, and tells what that was and what a
// compressor left of it. What cannot be read any more is left out.
func (k *kind) compressed(ctx context.Context, tree fs.FS) (read, left int64, err error) {
	var out bytes.Buffer
	packer, err := flate.NewWriter(&out, flate.BestSpeed)
	if err != nil {
		return 0, 0, fmt.Errorf("prepare a compressor: %w", err)
	}
	for i, name := range k.sample {
		if ctx.Err() != nil {
			return read, left, ctx.Err()
		}
		piece := pieceOf(tree, name, i)
		out.Reset()
		packer.Reset(&out)
		_, _ = packer.Write(piece) // into memory
		_ = packer.Close()
		read += int64(len(piece))
		left += int64(min(out.Len(), len(piece)))
	}
	return read, left, nil
}

// pieceOf reads a piece of a file: of one that is larger at places that differ from file
// to file.
func pieceOf(tree fs.FS, name string, number int) []byte {
	file, err := tree.Open(name)
	if err != nil {
		return nil
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.Size() > samplePiece {
		if there, is := file.(io.Seeker); is {
			_, _ = there.Seek((info.Size()-samplePiece)/samples*int64(number%samples), io.SeekStart)
		}
	}
	piece, _ := io.ReadAll(io.LimitReader(file, samplePiece))
	return piece
}
