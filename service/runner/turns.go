package runner

import (
	"context"
	"runtime"
	"slices"
	"sync"

	"patientheron/resource"
	"patientheron/storage"
)

// Whose turn it is: runs on real storage are carried out one at a time, in their order, and have
// the host alone. Runs on simulated arrays go beside each other, one a core, since nothing that
// goes on elsewhere changes a figure of theirs; while a real one is under way they pause.

// group are runs that are under way together: one, or those of a joint.
type group struct {
	runs []*execution
	real bool // one of their volumes is
}

// virtual reports whether a volume is of no time but its own.
func virtual(v resource.Volume) bool { return storage.TraitsOf(v.Kind).Virtual }

// turns is who is under way.
type turns struct {
	groups []*group
}

// under are the runs under way.
func (t *turns) under() (all []*execution) {
	for _, g := range t.groups {
		all = append(all, g.runs...)
	}
	return all
}

func (t *turns) end(g *group) {
	t.groups = slices.DeleteFunc(t.groups, func(other *group) bool { return other == g })
}

// free reports whether runs may begin beside those that are under way: real ones when no other
// real one is, simulated ones while a core is free and no real one is under way. What is held to a
// pace takes hardly any of a core.
func (t *turns) free(real, paced bool) bool {
	simulated := 0
	for _, g := range t.groups {
		if g.real {
			return false
		}
		if g.runs[0].run.Pace == 0 {
			simulated += len(g.runs)
		}
	}
	return real || paced || simulated < runtime.GOMAXPROCS(0)
}

// gate is where simulated runs pause while a real one is under way.
type gate struct {
	mu   sync.Mutex
	shut chan struct{} // nil while it is open; closed when it is opened
}

// close shuts the gate until it is opened.
func (g *gate) close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut == nil {
		g.shut = make(chan struct{})
	}
}

func (g *gate) open() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut != nil {
		close(g.shut)
		g.shut = nil
	}
}

// pass waits until the gate is open or ctx ends, and calls waits before it does.
func (g *gate) pass(ctx context.Context, waits func()) {
	g.mu.Lock()
	shut := g.shut
	g.mu.Unlock()
	if shut == nil || ctx.Err() != nil { // whoever was stopped says nothing any more
		return
	}
	waits()
	select {
	case <-shut:
	case <-ctx.Done():
	}
}

// pausing is where a volume of the run pauses; nil where it does not.
func (e *execution) pausing() func() {
	if !e.pauses {
		return nil
	}
	return e.pause
}

// pause lets a simulated run stand still while a real one is under way.
func (e *execution) pause() {
	was := resource.Status("")
	e.gate.pass(e.ctx, func() {
		e.change(func(r *resource.Run) {
			was, r.Status, r.Reason = r.Status, resource.Waiting, "It stands still while real storage is measured, which has the host alone."
		})
	})
	if was != "" {
		e.change(func(r *resource.Run) { r.Status, r.Reason = was, "" })
	}
}
