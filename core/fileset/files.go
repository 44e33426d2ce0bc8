package fileset

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"

	"patientheron/core/quantity"
)

// Files is a set with its numbers worked out. It may be used by several at a time.
type Files struct {
	set     Set
	classes []class
}

// class is a class with its numbers worked out.
type class struct {
	Class
	seed   uint64
	sizes  sampler
	listed []quantity.Bytes // sizes of files that are not drawn; nil for those that are
	first  int64            // number of its first file among all
	count  int64
	bytes  quantity.Bytes
	last   quantity.Bytes // size of the last file; -1 for that which is drawn
	folder string
	above  int64 // number of its folder among those of all classes
	leaf   int64 // and that of the first folder that holds files
	leaves int64 // folders that hold files
	branch int64 // folders in each folder above them
	digits int   // of the numbers of files
	width  int   // of those of folders
}

// File is one file of a set.
type File struct {
	Class  int // its number
	Number int64
	Size   quantity.Bytes
}

// New works a set out. The same seed gives the same files. The error is that of
// Validate, or says that a class comes to too many files.
func New(s Set, seed uint64) (*Files, error) {
	if err := s.Validate(); err != nil {
		return nil, err
	}
	f := &Files{set: s}
	for i, c := range s.Classes {
		k := class{Class: c, seed: mixed(mixed(seed) ^ uint64(i+1)*golden), sizes: c.Size.sampler(), first: f.Len(), last: -1, folder: folderName(c.Name)}
		if err := k.number(fmt.Sprintf("classes[%d]", i), mostFiles-f.Len()); err != nil {
			return nil, err
		}
		k.lay()
		k.above = f.FolderCount()
		k.leaf = k.above + k.below(k.levels())
		f.classes = append(f.classes, k)
	}
	return f, nil
}

// number finds how many files there are and what they come to, when they are not more than
// there may be.
func (c *class) number(at string, most int64) error {
	if c.count = c.Number; c.count > most {
		return wrong(at+".number", "%d, with the classes before it more than the %d files that a set may have", c.count, mostFiles)
	}
	if c.Total == 0 && c.count > 0 && c.Size.Fixed > mostBytes/quantity.Bytes(c.count) || c.Total > mostBytes {
		return wrong(at, "holds more than the %s that a set may hold", mostBytes)
	}
	if c.Total == 0 && c.Size.Fixed > 0 {
		c.bytes = quantity.Bytes(c.count) * c.Size.Fixed
		return nil
	}
	if c.Total == 0 {
		for i := range c.count {
			if c.bytes += c.size(i); c.bytes > mostBytes {
				return wrong(at, "holds more than the %s that a set may hold", mostBytes)
			}
		}
		return nil
	}
	for c.bytes < c.Total {
		if c.count == most {
			return wrong(at+".total", "%s are more files of these sizes than the %d that a set may have", c.Total, mostFiles)
		}
		size := c.size(c.count)
		if c.bytes+size > c.Total {
			size = c.Total - c.bytes
			c.last = size
		}
		c.bytes += size
		c.count++
	}
	return nil
}

// size is the size of a file of the class.
func (c *class) size(number int64) quantity.Bytes {
	if c.listed != nil {
		return c.listed[number]
	}
	if c.last >= 0 && number == c.count-1 {
		return c.last
	}
	if c.Size.Fixed > 0 {
		return c.Size.Fixed
	}
	// From 0 to below 1, by the number alone.
	return c.sizes(float64(mixed(c.seed+uint64(number)*golden)>>11) / (1 << 53))
}

// lay finds the folders: as many as it takes, under folders that branch alike.
func (c *class) lay() {
	c.leaves = 1
	if c.Folders.Files > 0 {
		c.leaves = max((c.count+int64(c.Folders.Files)-1)/int64(c.Folders.Files), 1)
	}
	deep := max(c.Folders.Deep, 1)
	c.branch = max(int64(math.Ceil(math.Pow(float64(c.leaves), 1/float64(deep))-1e-9)), 1)
	for power(c.branch, deep) < c.leaves {
		c.branch++
	}
	c.digits = len(strconv.FormatInt(max(c.count-1, 0), 10))
	c.width = len(strconv.FormatInt(c.branch-1, 10))
}

// power is base to the n-th, or more than any number of folders.
func power(base int64, n int) int64 {
	product := int64(1)
	for range n {
		if product *= base; product > mostFiles {
			return mostFiles + 1
		}
	}
	return product
}

// Len is the number of all files.
func (f *Files) Len() int64 {
	if len(f.classes) == 0 {
		return 0
	}
	last := &f.classes[len(f.classes)-1]
	return last.first + last.count
}

// Bytes is what all files together hold.
func (f *Files) Bytes() (sum quantity.Bytes) {
	for i := range f.classes {
		sum += f.classes[i].bytes
	}
	return sum
}

// Of is how many files a class has and what they come to.
func (f *Files) Of(class int) (count int64, bytes quantity.Bytes) {
	return f.classes[class].count, f.classes[class].bytes
}

// At is a file, from 0 to below Len.
func (f *Files) At(i int64) File {
	n := f.classOf(i)
	c := &f.classes[n]
	return File{Class: n, Number: i - c.first, Size: c.size(i - c.first)}
}

func (f *Files) classOf(i int64) int {
	last := len(f.classes) - 1
	if last == 0 || i >= f.classes[last].first {
		return last
	}
	return sort.Search(last, func(n int) bool { return i < f.classes[n].first+f.classes[n].count })
}

// Path appends the path of a file to a buffer, with slashes and below the folder of the
// set: that of its class, the folders in it, and its name, all of plain letters.
func (f *Files) Path(buffer []byte, i int64) []byte {
	var p Prefix
	return f.PathAfter(buffer, i, &p)
}

// Prefix is what the path begins with that was made last in a buffer: that of a folder, of
// which it knows the files. The zero value knows none.
type Prefix struct {
	class         int
	first, behind int64
	length        int
}

// PathAfter is Path in a buffer that still holds the path that was made before with the
// same prefix, of which it keeps what both begin with.
func (f *Files) PathAfter(buffer []byte, i int64, p *Prefix) []byte {
	if i < p.first || i >= p.behind {
		p.class = f.classOf(i)
		c := &f.classes[p.class]
		leaf, each := int64(0), c.count
		if c.Folders.Files > 0 {
			each = int64(c.Folders.Files)
			leaf, _ = divide(i-c.first, each)
		}
		p.first = c.first + leaf*each
		p.behind = min(p.first+each, c.first+c.count)
		buffer = append(c.appendFolder(buffer, leaf, c.levels()), '/')
		p.length = len(buffer)
	}
	c := &f.classes[p.class]
	buffer = appendPadded(buffer[:p.length], i-c.first, c.digits)
	if c.Ending == "" { // the usual case, for which append would call
		return buffer
	}
	return append(buffer, c.Ending...)
}

// LongestPath is the length of the longest of the paths of files and folders, in bytes.
func (f *Files) LongestPath() (longest int) {
	for i := range f.classes {
		c := &f.classes[i]
		longest = max(longest, len(c.folder)+c.levels()*(1+c.width)+1+c.digits+len(c.Ending))
	}
	return longest
}

// levels is how many folders lie above each other below that of the class.
func (c *class) levels() int {
	if c.Folders.Files == 0 {
		return 0
	}
	return max(c.Folders.Deep, 1)
}

// appendFolder appends the path of a folder, a number of levels below that of the class:
// the digits of its number, to the base of the branches, name those above it.
func (c *class) appendFolder(buffer []byte, number int64, levels int) []byte {
	buffer = append(buffer, c.folder...)
	for level := levels - 1; level > 0; level-- {
		buffer = append(buffer, '/')
		buffer = appendPadded(buffer, number/power(c.branch, level)%c.branch, c.width)
	}
	if levels > 0 {
		_, rest := divide(number, c.branch)
		buffer = append(buffer, '/')
		buffer = appendPadded(buffer, rest, c.width)
	}
	return buffer
}

// Folders calls each for every folder of the set, those above before those in them.
func (f *Files) Folders(each func(path []byte) bool) {
	var buffer []byte
	for i := range f.classes {
		c := &f.classes[i]
		for level := range c.levels() + 1 {
			below := power(c.branch, c.levels()-level)
			for n := int64(0); n*below < c.leaves; n++ {
				if buffer = c.appendFolder(buffer[:0], n, level); !each(buffer) {
					return
				}
			}
		}
	}
}

// appendPadded appends a number with so many digits, which are enough for it.
func appendPadded(buffer []byte, number int64, width int) []byte {
	start := len(buffer)
	buffer = slices.Grow(buffer, width)[:start+width]
	n := uint64(number)
	for i := len(buffer) - 1; i >= start; i-- {
		buffer[i] = byte('0' + n%10)
		n /= 10
	}
	return buffer
}

// divide is faster than / and % for numbers of 32 bits, as nearly all of files are.
func divide(number, by int64) (quotient, rest int64) {
	if uint64(number|by)>>32 == 0 {
		q := uint32(number) / uint32(by)
		return int64(q), int64(uint32(number) - q*uint32(by))
	}
	return number / by, number % by
}

// At is the size that a share of all files is not larger than.
func (s Sizes) At(share quantity.Share) quantity.Bytes { return s.sampler()(float64(share)) }

// Sampler gives the size that a share of all files is not larger than.
func (s Sizes) Sampler() func(share float64) quantity.Bytes { return s.sampler() }

// sampler gives the size that a share of all files is not larger than: the inverse of
// their distribution.
type sampler func(share float64) quantity.Bytes

func (s Sizes) sampler() sampler {
	switch {
	case s.To > 0:
		return func(share float64) quantity.Bytes {
			return s.From + quantity.Bytes(share*float64(s.To-s.From+1))
		}
	case s.Median > 0:
		return s.logNormal()
	case len(s.Bins) > 0:
		return s.histogram()
	}
	return func(float64) quantity.Bytes { return s.Fixed }
}

// logNormal: the logarithms lie normally around that of the median, and a standard
// deviation is that of the spread. What would be larger than most is drawn from below.
func (s Sizes) logNormal() sampler {
	sigma := math.Log(s.Spread)
	below := 1.0
	if s.Most > 0 && sigma > 0 {
		below = 0.5 * math.Erfc(-math.Log(float64(s.Most)/float64(s.Median))/sigma/math.Sqrt2)
	}
	most := float64(largestFile)
	if s.Most > 0 {
		most = float64(s.Most)
	}
	return func(share float64) quantity.Bytes {
		z := -math.Sqrt2 * math.Erfcinv(2*max(share*below, 1e-300))
		return quantity.Bytes(min(math.Round(float64(s.Median)*math.Exp(sigma*z)), most))
	}
}

// histogram: within a bin sizes follow a power of a share that is drawn evenly, chosen so
// that their mean is that of the bin.
func (s Sizes) histogram() sampler {
	ends, powers, sum := make([]float64, len(s.Bins)), make([]float64, len(s.Bins)), 0.0
	from := func(i int) quantity.Bytes {
		if i == 0 {
			return 0
		}
		return s.Bins[i-1].To + 1
	}
	for i, b := range s.Bins {
		sum += float64(b.Share)
		ends[i], powers[i] = sum, 1
		// The mean of u^k is 1/(k+1).
		if part := (float64(b.Mean-from(i)) + 0.5) / (float64(b.To-from(i)) + 1); b.Mean > 0 && part > 0 && part < 1 {
			powers[i] = 1/part - 1
		}
	}
	return func(share float64) quantity.Bytes {
		share *= sum
		i := min(sort.SearchFloat64s(ends, math.Nextafter(share, math.Inf(1))), len(ends)-1)
		for i > 0 && s.Bins[i].Share == 0 {
			i--
		}
		low := ends[i] - float64(s.Bins[i].Share)
		within := min(max((share-low)/float64(s.Bins[i].Share), 0), 1)
		span := float64(s.Bins[i].To-from(i)) + 1
		return min(from(i)+quantity.Bytes(math.Pow(within, powers[i])*span), s.Bins[i].To)
	}
}

// golden is what splitmix64 counts by: 2^64 over the golden ratio.
const golden = 0x9e3779b97f4a7c15

// mixed is the finalizer of splitmix64 (Steele, Lea and Flood, Fast splittable
// pseudorandom number generators, 2014).
func mixed(z uint64) uint64 {
	z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9
	z = (z ^ (z >> 27)) * 0x94d049bb133111eb
	return z ^ (z >> 31)
}
