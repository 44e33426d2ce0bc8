package workload

import (
	"encoding/binary"
	"math"

	"patientheron/core/quantity"
)

// PageSize is the unit in which duplicates are written.
const PageSize = 4096

// Unit is what the length of what is written around the host's memory is rounded up to, in
// bytes.
const Unit = 4096

// DefaultPiece is how many bytes of a file or a stream are moved at a time unless the load says.
const DefaultPiece = quantity.MiB

// MostGroups is how many things of a load (streams, passes by class) have figures of their own.
const MostGroups = 64

// grain is the unit of compressible content: each holds random bytes and then
// zeros, so that what a compressor can remove is the same for every block of
// whole sectors and for every record that it works on.
const grain = 512

// overhead is about what a compressor spends on the change from random bytes to
// zeros and back.
const overhead = 12

const commonPages = 16

// Content makes the bytes that one worker writes, all of them anew for every
// write: what is written twice would be folded into one by storage that finds
// duplicates, and shrink where several writes are compressed together. It
// allocates nothing after NewContent and is not safe for concurrent use.
type Content struct {
	state     uint64
	origin    uint64               // the state at the beginning
	page      [PageSize / 8]uint64 // random words
	random    int                  // random bytes of each grain; the rest are zero
	duplicate uint64               // a draw below this repeats a common page
	common    [][]byte
}

// NewContent prepares the content of worker's writes; worker -1 is who fills a
// test file.
func NewContent(spec Spec, worker int) *Content {
	spec.Seed = max(spec.Seed, 1)
	random := randomOf(float64(spec.Compressible))
	c := newContent(spec.Seed, uint64(worker)+2, random)
	if spec.Duplicate > 0 {
		c.duplicate = Threshold(float64(spec.Duplicate))
		// Every worker repeats the same pages.
		source := newContent(spec.Seed, 0, random)
		for range commonPages {
			page := make([]byte, PageSize)
			source.make(page)
			c.common = append(c.common, page)
		}
	}
	return c
}

// newContent makes the content of a writer, whose numbers begin far from those of
// any other seed or writer.
func newContent(seed, writer uint64, random int) *Content {
	c := &Content{state: Mixed(Mixed(seed) ^ writer*Golden), random: random}
	c.origin = c.state
	for i := range c.page {
		c.page[i] = c.draw()
	}
	return c
}

// randomOf is how many bytes of each grain are random when the given share can
// be removed. Eight of them always are: no two grains are alike.
func randomOf(compressible float64) int {
	if compressible <= 0 {
		return grain
	}
	left := int(math.Round((1-compressible)*grain)) - overhead
	return min(max(left, 8), grain) &^ 7
}

// Fill makes all of buffer anew.
func (c *Content) Fill(buffer []byte) {
	if c.duplicate == 0 {
		c.make(buffer)
		return
	}
	for len(buffer) > 0 {
		page := buffer[:min(PageSize, len(buffer))]
		buffer = buffer[len(page):]
		if draw := c.draw(); draw < c.duplicate || c.duplicate == ^uint64(0) {
			copy(page, c.common[c.draw()%commonPages])
			continue
		}
		c.make(page)
	}
}

// At makes what is filled next depend on nothing but the number and who writes: the same
// bytes each time.
func (c *Content) At(number uint64) { c.state = Mixed(c.origin ^ Mixed(number+Golden)) }

// Golden is what splitmix64 counts by: 2^64 over the Golden ratio.
const Golden = 0x9e3779b97f4a7c15

// draw gives the next number (splitmix64: Steele, Lea and Flood, Fast splittable
// pseudorandom number generators, 2014).
func (c *Content) draw() uint64 {
	c.state += Golden
	return Mixed(c.state)
}

// Mixed mixes the bits of a number (the finalizer of splitmix64).
func Mixed(z uint64) uint64 {
	z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9
	z = (z ^ (z >> 27)) * 0x94d049bb133111eb
	return z ^ (z >> 31)
}

// make fills buffer with grains.
func (c *Content) make(buffer []byte) {
	if c.random == grain {
		c.fill(buffer)
		return
	}
	for len(buffer) > 0 {
		part := buffer[:min(grain, len(buffer))]
		buffer = buffer[len(part):]
		random := min(c.random, len(part))
		c.fill(part[:random])
		clear(part[random:])
	}
}

// fill makes random bytes: a page of them that is made once, with every word
// changed by a key that is drawn for each page. Nobody who looks for what was
// there before, or for what repeats, finds anything, and it takes a third of the
// time of drawing every word.
func (c *Content) fill(buffer []byte) {
	for len(buffer) >= PageSize {
		mask((*[PageSize]byte)(buffer), &c.page, c.draw())
		buffer = buffer[PageSize:]
	}
	if len(buffer) == 0 {
		return
	}
	key, i := c.draw(), 0
	for ; len(buffer) >= 8; buffer = buffer[8:] {
		binary.LittleEndian.PutUint64(buffer, c.page[i]^key)
		i++
	}
	var last [8]byte
	binary.LittleEndian.PutUint64(last[:], c.page[i%len(c.page)]^key)
	copy(buffer, last[:])
}

// mask writes a page with every word changed by the key.
func mask(into *[PageSize]byte, page *[PageSize / 8]uint64, key uint64) {
	for i := 0; i < len(page); i += 4 {
		part, words := (*[32]byte)(into[8*i:]), (*[4]uint64)(page[i:])
		binary.LittleEndian.PutUint64(part[0:], words[0]^key)
		binary.LittleEndian.PutUint64(part[8:], words[1]^key)
		binary.LittleEndian.PutUint64(part[16:], words[2]^key)
		binary.LittleEndian.PutUint64(part[24:], words[3]^key)
	}
}
