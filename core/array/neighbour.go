package array

import (
	"fmt"
	"math/rand/v2"

	"patientheron/core/quantity"
)

// Order is in which order a neighbour goes over its volume.
type Order string

// The orders.
const (
	Random     Order = "random"
	Sequential Order = "sequential"
)

// Neighbour is another volume of the array with a load of its own. It lies behind the one that is
// measured, and shares controllers, caches and members with it; its hosts have ways of their own.
type Neighbour struct {
	Name   string
	Size   quantity.Bytes
	Owner  int            // among the controllers, from 0
	Writes quantity.Share // of its operations; the rest reads
	Block  quantity.Bytes // default 8 KiB
	Order  Order          // default random
	Depth  int            // operations in flight; default 8 where no rate is given
	Rate   quantity.OpRate
	At     quantity.Seconds // when it begins
	For    quantity.Seconds // how long it goes on; 0 for ever
}

func (n Neighbour) completed() Neighbour {
	if n.Block == 0 {
		n.Block = 8 * quantity.KiB
	}
	if n.Order == "" {
		n.Order = Random
	}
	if n.Depth == 0 && n.Rate == 0 {
		n.Depth = 8
	}
	return n
}

// volume is one of those that controllers own.
type volume struct {
	size        quantity.Bytes
	owner       int
	serving     *controller // now
	pausedUntil int64       // nothing gets past the controller before; for ever where none works
	paused      []int32     // operations that wait for one to return
}

// neighbour is one at work.
type neighbour struct {
	volume
	spec   Neighbour
	first  int64 // where its volume begins
	source *rand.Rand
	next   int64 // where the next operation of a stream begins
	until  int64

	answered int64
	took     float64 // nanoseconds, of all that was answered
}

func newNeighbours(d Description) (all []*neighbour) {
	first := int64(d.Size())
	for i, n := range d.Neighbours {
		nb := &neighbour{volume: volume{size: n.Size, owner: n.Owner}, spec: n, first: first, source: rand.New(rand.NewPCG(uint64(i), 0x6865726f6e))}
		nb.until = int64((n.At + n.For).Duration())
		if n.For == 0 {
			nb.until = 1<<63 - 1
		}
		all = append(all, nb)
		first += int64(n.Size)
	}
	return all
}

// acts lets a neighbour begin, or go on: one of a rate by its next operation, as they come of their
// own accord (a Poisson process), and the other by all that it has in flight.
func (nb *neighbour) acts(a *Array, number int32) {
	if a.now >= nb.until {
		return
	}
	if nb.spec.Rate > 0 {
		nb.submit(a, number)
		a.events.add(a.now+1+int64(nb.source.ExpFloat64()/float64(nb.spec.Rate)*1e9), neighbourActs, number)
		return
	}
	for range nb.spec.Depth {
		nb.submit(a, number)
	}
}

// submit makes its next operation.
func (nb *neighbour) submit(a *Array, number int32) {
	block := int64(nb.spec.Block)
	at := nb.next
	if nb.spec.Order == Random {
		at = nb.source.Int64N(int64(nb.spec.Size)/block) * block
	} else if nb.next += block; nb.next+block > int64(nb.spec.Size) {
		nb.next = 0
	}
	k := reads
	if nb.source.Float64() < float64(nb.spec.Writes) {
		k = writes
	}
	n := a.newJob(k, forNeighbour, nb.first+at, int(block))
	j := a.jobs.at(n)
	j.tag, j.since = int(number), a.now
	a.come(n, &nb.volume)
}

// answeredTo counts an operation of a neighbour that is done, and lets it go on.
func (a *Array) answeredTo(done job) {
	nb := a.neighbours[done.tag]
	nb.answered++
	nb.took += float64(a.now - done.since)
	if nb.spec.Rate == 0 && a.now < nb.until {
		nb.submit(a, int32(done.tag))
	}
}

// volumeOf is the volume that an operation is on.
func (a *Array) volumeOf(j *job) *volume {
	if j.purpose == forNeighbour {
		return &a.neighbours[j.tag].volume
	}
	return &a.volume
}

// isElsewhere reports whether an operation has nothing to do with a cache: it is memory of another
// controller than the one that owns its volume.
func (a *Array) isElsewhere(j *job, c *cache) bool {
	return j.purpose == forNeighbour && c.spec.Devices == 0 && a.neighbours[j.tag].owner != a.volume.owner
}

func (n Neighbour) words() string {
	n = n.completed()
	text := fmt.Sprintf("Beside it lies %s of %s: %s of %s", n.Name, n.Size, n.Order, n.Block)
	text += fmt.Sprintf(", %s writes", n.Writes)
	if n.Rate > 0 {
		text += fmt.Sprintf(", %s", n.Rate)
	} else {
		text += fmt.Sprintf(", %d at a time", n.Depth)
	}
	if n.At > 0 {
		text += fmt.Sprintf(", from %s on", n.At)
	}
	if n.For > 0 {
		text += fmt.Sprintf(", for %s", n.For)
	}
	return text + "."
}

// validateNeighbours makes sure that neighbours have room, and loads that can be.
func (d Description) validateNeighbours() error {
	var sum quantity.Bytes
	names := map[string]bool{}
	for i, n := range d.Neighbours {
		at := fmt.Sprintf("neighbours[%d].", i)
		full := n.completed()
		sum += n.Size
		switch {
		case n.Name == "" || names[n.Name]:
			return wrong(at+"name", "%q; one of its own, by which it is told from the others", n.Name)
		case n.Size < quantity.MiB || n.Size%512 != 0:
			return wrong(at+"size", "%s; from 1 MiB, in multiples of 512 B", n.Size)
		case n.Owner < 0 || n.Owner >= max(d.Controller.Count, 1):
			return wrong(at+"owner", "%d; there are %d controllers, counted from 0", n.Owner, max(d.Controller.Count, 1))
		case !(n.Writes >= 0 && n.Writes <= 1):
			return wrong(at+"writes", "%g; a share from 0%% to 100%%", float64(n.Writes))
		case full.Block < 512 || full.Block > min(64*quantity.MiB, n.Size) || full.Block%512 != 0:
			return wrong(at+"block", "%s; a multiple of 512 B up to 64 MiB, and not more than its size", full.Block)
		case full.Order != Random && full.Order != Sequential:
			return wrong(at+"order", "%q; random or sequential", n.Order)
		case n.Depth < 0 || n.Depth > 4096 || !(n.Rate >= 0) || n.Rate > 1e7 || n.Depth > 0 && n.Rate > 0:
			return wrong(at+"depth", "%d in flight, at %s; one of them, up to 4096 or 10 million a second", n.Depth, n.Rate)
		case !(n.At >= 0) || n.At > 86400 || !(n.For >= 0) || n.For > 86400:
			return wrong(at+"at", "%s, for %s; up to a day", n.At, n.For)
		}
		names[n.Name] = true
	}
	switch {
	case len(d.Neighbours) == 0:
		return nil
	case len(d.Neighbours) > 32:
		return wrong("neighbours", "%d; up to 32", len(d.Neighbours))
	case d.Thin != nil:
		return wrong("neighbours", "they lie behind a volume that has all of its room from the beginning; leave out thin")
	case d.Empty > 0:
		return wrong("neighbours", "they lie where the room is empty, and hold data; leave out empty")
	case d.Members[0].Zone > 0:
		return wrong("neighbours", "zones that hosts manage are those of one host; leave out zone")
	case sum >= d.Usable():
		return wrong("neighbours", "%s together leave nothing of the %s that there are; make them smaller", sum, asSold(d.Usable()))
	}
	return nil
}
