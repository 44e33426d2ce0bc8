package workload

import (
	"encoding/binary"
	"math/rand/v2"
)

// PageSize is the unit of written content: compressibility and duplicates
// hold for every page of this many bytes.
const PageSize = 4096

const commonPages = 16

// Content makes the bytes that one worker writes. It allocates nothing after
// NewContent and is not safe for concurrent use.
type Content struct {
	state        uint64
	incompressed int // bytes of each page that are random; the rest are zero
	duplicate    uint64
	fresh        bool
	common       [][]byte
	worker       uint64
	written      uint64 // pages so far, for the stamp
}

// NewContent prepares the content of worker's writes.
func NewContent(spec Spec, worker int) *Content {
	spec = spec.Completed()
	c := &Content{
		state:        spec.Seed*0x9e3779b97f4a7c15 + uint64(worker) + 1,
		incompressed: int((1 - float64(spec.Compressible)) * PageSize),
		fresh:        spec.Fresh || spec.Duplicate > 0,
		worker:       uint64(worker) + 1,
	}
	if spec.Duplicate > 0 {
		c.duplicate = threshold(float64(spec.Duplicate))
		// Every worker repeats the same pages.
		source := rand.NewPCG(spec.Seed, 0xc0ffee)
		for range commonPages {
			page := make([]byte, PageSize)
			for at := 0; at+8 <= c.incompressed; at += 8 {
				binary.LittleEndian.PutUint64(page[at:], source.Uint64())
			}
			c.common = append(c.common, page)
		}
	}
	return c
}

// Fill makes all of buffer anew.
func (c *Content) Fill(buffer []byte) {
	for len(buffer) > 0 {
		page := buffer[:min(PageSize, len(buffer))]
		buffer = buffer[len(page):]
		if c.duplicate > 0 {
			if draw := c.draw(); draw < c.duplicate || c.duplicate == ^uint64(0) {
				copy(page, c.common[c.draw()%commonPages])
				continue
			}
		}
		random := min(c.incompressed, len(page))
		at := 0
		for ; at+8 <= random; at += 8 {
			binary.LittleEndian.PutUint64(page[at:], c.draw())
		}
		clear(page[at:])
		c.stamp(page)
	}
}

// Refresh makes buffer, which Fill or Refresh made before, ready to be
// written again: wholly new when the workload asks for fresh content,
// otherwise with a new stamp in every page.
func (c *Content) Refresh(buffer []byte) {
	if c.fresh {
		c.Fill(buffer)
		return
	}
	for at := 0; at < len(buffer); at += PageSize {
		c.stamp(buffer[at:])
	}
}

// stamp makes a page unlike every other page ever written by this run, so
// that nothing on the way can fold two writes into one.
func (c *Content) stamp(page []byte) {
	if len(page) < 16 {
		return
	}
	c.written++
	binary.LittleEndian.PutUint64(page, c.written)
	binary.LittleEndian.PutUint64(page[8:], c.worker)
}

// draw is splitmix64 (Steele, Lea and Flood, Fast splittable pseudorandom
// number generators, 2014), chosen because it keeps up with fast devices.
func (c *Content) draw() uint64 {
	c.state += 0x9e3779b97f4a7c15
	z := c.state
	z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9
	z = (z ^ (z >> 27)) * 0x94d049bb133111eb
	return z ^ (z >> 31)
}
