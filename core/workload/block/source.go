package block

import (
	"fmt"

	"patientheron/core/measure"
	"patientheron/core/workload"
)

// Source prepares the blocks of one worker.
func (Load) Source(spec workload.Spec, worker int) (workload.Source, error) {
	generator, err := NewGenerator(spec, worker)
	if err != nil {
		return nil, err
	}
	p := &blocks{Generator: generator, Schedule: workload.NewSchedule(spec, worker), syncEvery: spec.SyncEvery}
	if spec.Writes() {
		p.content = workload.NewContent(spec, worker)
	}
	if spec.Think > 0 {
		p.think = int64(spec.Think.Duration())
		p.ready, p.thinking = spec.Depth, make([]int64, spec.Depth)
	}
	return p, nil
}

// blocks issues blocks: at a set rate, or as fast as they complete, with a time
// to think after each.
type blocks struct {
	*Generator
	*workload.Schedule // nil in a closed loop
	content            *workload.Content

	syncEvery int // writes between two flushes
	unsynced  int // writes completed since the last

	think    int64   // nanoseconds
	ready    int     // slots that have not worked yet
	thinking []int64 // when slots that think are done with it, a ring in order
	first    int     // of the ring
	count    int     // in the ring
}

func (p *blocks) Due() int64 {
	switch {
	case p.Schedule != nil:
		return p.Peek()
	case p.think == 0 || p.ready > 0:
		return 0
	case p.count > 0:
		return p.thinking[p.first]
	}
	return workload.Never
}

func (p *blocks) Next(a *workload.Access) int64 {
	switch {
	case p.Schedule != nil:
		p.Advance()
	case p.think == 0:
	case p.ready > 0:
		p.ready--
	default:
		p.first = (p.first + 1) % len(p.thinking)
		p.count--
	}
	if p.syncEvery > 0 && p.unsynced >= p.syncEvery {
		p.unsynced = 0
		*a = workload.Access{Class: measure.Flush}
	} else {
		p.Generator.Next(a)
	}
	return p.Due()
}

func (p *blocks) Fill(buffer []byte) { p.content.Fill(buffer) }

func (p *blocks) Words(a workload.Access) string {
	if !a.Class.Moves() {
		return a.Class.Verb()
	}
	return fmt.Sprintf("%s of %d bytes at offset %d", a.Class.Verb(), a.Length, a.Offset)
}

func (p *blocks) Over() bool { return false }

func (p *blocks) Without(workload.Access, error) bool { return false }

func (p *blocks) Completed(a *workload.Access, now int64, _ error) *workload.Whole {
	if a.Class == measure.Write {
		p.unsynced++
	}
	if p.think > 0 {
		p.thinking[(p.first+p.count)%len(p.thinking)] = now + p.think
		p.count++
	}
	return nil
}
