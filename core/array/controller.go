package array

import (
	"math"

	"patientheron/core/quantity"
)

// takeover is how long nothing is answered for a volume while another controller takes it over.
const takeover = quantity.Seconds(5)

// controller is one of those that volumes are owned by.
type controller struct {
	operations, throughput server // one behind the other
	down                   bool
}

func newControllers(c Controller) []controller {
	all := make([]controller, max(c.Count, 1))
	for i := range all {
		all[i] = controller{server{perOperation: perSecond(float64(c.Operations))}, server{perByte: perSecond(float64(c.Throughput))}, false}
	}
	return all
}

// pass is when an operation that arrives at a time is past the controller.
func (c *controller) pass(at int64, bytes int) int64 {
	return c.throughput.pass(c.operations.pass(at, bytes), bytes)
}

func (c *controller) busyUntil(now int64) float64 {
	return max(c.operations.busyUntil(now), c.throughput.busyUntil(now))
}

// serving is the controller that serves what one owns: itself, or else the next one that works; -1
// where none does.
func (a *Array) serving(owner int) int {
	for i := range a.controllers {
		if at := (owner + i) % len(a.controllers); !a.controllers[at].down {
			return at
		}
	}
	return -1
}

// mirror is the way between controllers by which each keeps what another has taken.
type mirror struct {
	line server
	time int64
}

// controllerFails takes a controller away: another one takes its volumes over after a while. What
// only its own memory held is lost, and with none left to hold a second copy nothing more is kept
// dirty in memory.
func (a *Array) controllerFails(number int) {
	c := &a.controllers[number]
	if c.down {
		a.counters.faultsIgnored++
		return
	}
	served := a.serving(a.volume.owner) == number
	var moves []*volume
	for _, v := range a.volumes() {
		if a.serving(v.owner) == number {
			moves = append(moves, v)
		}
	}
	c.down = true
	for _, v := range moves {
		if a.serving(v.owner) < 0 {
			v.pausedUntil = math.MaxInt64 // until one returns
		} else {
			v.pausedUntil = max(v.pausedUntil, a.now+int64(a.described.Controller.Takeover.Duration()))
		}
	}
	if served {
		a.landDestages()
		for _, k := range a.caches {
			if k.spec.Devices == 0 {
				k.forget(a, k.spec.Mirrored)
			}
		}
	}
	a.holdTwice()
}

// findServing notes which controller serves each volume; the last that did where none does.
func (a *Array) findServing() {
	for _, v := range a.volumes() {
		if at := a.serving(v.owner); at >= 0 {
			v.serving = &a.controllers[at]
		}
	}
}

// volumes are all that controllers own.
func (a *Array) volumes() []*volume {
	all := []*volume{&a.volume}
	for _, nb := range a.neighbours {
		all = append(all, &nb.volume)
	}
	return all
}

// controllerReturns brings a controller back, which takes what it owns again.
func (a *Array) controllerReturns(number int) {
	a.controllers[number].down = false
	for _, v := range a.volumes() {
		if v.pausedUntil != math.MaxInt64 {
			continue
		}
		v.pausedUntil = a.now
		waiting := v.paused
		v.paused = nil
		for _, n := range waiting {
			a.arriveOnce(n)
		}
	}
	a.holdTwice()
}

// holdTwice lets mirrored caches keep what is dirty as long as two controllers can hold it.
func (a *Array) holdTwice() {
	a.findServing()
	working := 0
	for i := range a.controllers {
		working += 1 - bit(a.controllers[i].down)
	}
	for _, k := range a.caches {
		if k.spec.Mirrored {
			k.alone = working < 2
			k.destage(a)
		}
	}
}

func (c Controller) validate() error {
	switch {
	case !(c.Operations >= 0) || !(c.Throughput >= 0):
		return wrong("controller", "its limits cannot be negative; leave them out for none")
	case !(c.CopyRate >= 0):
		return wrong("controller.copyRate", "%s; the rate of offloaded copies, such as 2GB/s", c.CopyRate)
	case c.Count < 0 || c.Count > 16:
		return wrong("controller.count", "%d; from 1 to 16", c.Count)
	case c.Owner < 0 || c.Owner >= max(c.Count, 1):
		return wrong("controller.owner", "%d; there are %d, counted from 0", c.Owner, max(c.Count, 1))
	case !(c.Takeover >= 0) || c.Takeover > 3600:
		return wrong("controller.takeover", "%s; up to an hour", c.Takeover)
	case !(c.MirrorRate >= 0) || !(c.MirrorTime >= 0) || c.MirrorTime > 1:
		return wrong("controller.mirrorRate", "%s, and %s for each; none negative, and up to a second", c.MirrorRate, c.MirrorTime)
	}
	return nil
}
