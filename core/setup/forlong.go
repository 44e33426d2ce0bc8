package setup

import (
	"fmt"
	"math"
)

// What storage can do when it is fresh and what it can do for long differ where something is used
// up: the spare room of flash, which is cleaned when it is gone, its fast region, and the room of
// a tier, on which only a share of all can lie.

// wears reports whether a use may wear something down, so that what passes for long is less than
// what passes at first.
func (s Setup) wears(u Use) bool {
	if s.Text("tier.size") != "" || s.Text("replication.journal") != "" {
		return true
	}
	if s.cachesForLong(u) {
		return true
	}
	for i := range s.Count("media") {
		if u.Reads < 1 && s.Text(fmt.Sprintf("media[%d].kind", i)) == "ssd" {
			return true
		}
	}
	return false
}

// unknownForLong is said of flash of which nobody tells what is inside, or how far it compresses.
const unknownForLong = "not known; it depends on the spare room and the dies inside: write all of it twice, then measure with --steady"

// pageSize is the unit in which flash is written.
const pageSize = 4096

// wear makes a medium that of a long run: its writes are what is left when cleaning has begun and
// the fast region is full.
func (m *medium) wear(s Setup, u Use, at, kind string) {
	if u.Reads >= 1 || kind != "ssd" {
		return
	}
	program, read, erase := float64(s.Seconds(at+"programTime")), float64(s.Seconds(at+"readTime")), float64(s.Seconds(at+"eraseTime"))
	dies, pages, spare := s.Number(at+"dies"), s.Number(at+"blockPages"), s.Number(at+"overProvision")
	if min(program, read, erase, dies, pages, spare) <= 0 || s.Is(at+"compresses") {
		m.unknownForLong = true
		return
	}
	used := m.size
	if room, _ := s.Usable(); u.Span > 0 && room > u.Span {
		used *= float64(u.Span) / float64(room)
	}
	still := max(m.size*(1-s.Number("volume.empty"))-used, 0) // holds data and is not written
	m.amplified = Amplification(u, used/pageSize, (m.size*(1+spare)-still)/pageSize)
	each := (program + (m.amplified-1)*(read+program) + m.amplified*erase/pages) / dies
	m.carried = 1 + 2*(m.amplified-1)
	m.write = side{piece: m.slow * each, byte: m.slow * each / pageSize}
	if u.Sequential {
		m.write.piece = 0
	}
}

// Amplification is how many pages of flash are programmed for each that is written, in the long
// run of a use over so many pages of a drive that has so many in all, cleaned first in, first out.
// A page that is written with probability p by each write is still valid when a lap of the log of n
// writes is over with probability exp(-pn), and is then written once more, so that a lap programs
// n × Σ p/(1 - exp(-pn)) pages, which is all that there are; that gives n. Of uniform writes this is
// A = a/(a + W(-a exp(-a))) (Desnoyers, Analytic modeling of SSD write performance, 2012). A
// stream leaves nothing valid behind it.
func Amplification(u Use, used, physical float64) float64 {
	switch {
	case u.Sequential || !(used > 0):
		return 1
	case physical <= used:
		return math.Inf(1)
	}
	type class struct{ pages, p float64 }
	classes := []class{{used, 1 / used}}
	if hot := float64(u.HotSpan); hot > 0 && hot < 1 && u.HotAccesses > 0 {
		accesses := float64(u.HotAccesses)
		classes = []class{{used * hot, accesses / (used * hot)}, {used * (1 - hot), (1 - accesses) / (used * (1 - hot))}}
	}
	programmed := func(n float64) (sum float64) { // in a lap of so many writes
		for _, c := range classes {
			if pn := c.p * n; pn > 1e-12 {
				sum += c.pages * pn / -math.Expm1(-pn)
			} else {
				sum += c.pages
			}
		}
		return sum
	}
	low, high := 0.0, physical
	for range 100 {
		if middle := (low + high) / 2; programmed(middle) < physical {
			low = middle
		} else {
			high = middle
		}
	}
	return physical / high
}
