package storage_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"patientheron/client"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/service/servicetest"
	"patientheron/storage"
	"patientheron/storage/volume"
	"patientheron/storage/volume/volumetest"
)

// board is a kind of volume that only this test has: memory under a name, with a mark on it, that
// counts what is done to it. It is registered with one line, and named nowhere else.
type board struct {
	content       []byte
	reads, writes atomic.Int64
	lock          sync.Mutex // of the content, as workers write where others read
}

var boards = map[string]*board{}

func init() {
	storage.Register("board", func(storage.Bounds) volume.Opener { return boardOpener{} })
}

type boardOpener struct{}

func (boardOpener) Parse(name string) (volume.Locator, error) {
	if boards[name] == nil {
		return volume.Locator{}, fmt.Errorf("%w: there is no board %q", volume.ErrLocator, name)
	}
	return volume.Locator{Scheme: "board", Kind: "memory board", Name: name}, nil
}

func (boardOpener) Traits(kind string) volume.Traits {
	if kind != "memory board" {
		return volume.Traits{}
	}
	return volume.Traits{Overwritten: true, Disk: true}
}

func (boardOpener) identity(l volume.Locator) setup.Identity {
	return setup.Identity{Size: quantity.Bytes(len(boards[l.Name].content)), Serial: "serial of " + l.Name, Holds: []string{"a chess game"}}
}

func (o boardOpener) Look(_ context.Context, l volume.Locator) (setup.Facts, error) {
	i := o.identity(l)
	return setup.Facts{Size: i.Size, Alignment: 512, Serial: i.Serial, Writable: true}, nil
}

func (boardOpener) NameOf(_ context.Context, l volume.Locator) string {
	return "the board called " + l.Name
}

func (o boardOpener) Describe(_ context.Context, l volume.Locator) (s setup.Setup, layer setup.Layer, err error) {
	s.Know("media[0].kind", "memory", setup.Read, time.Now())
	return s, setup.Layer{Kind: "memory board", Name: l.Name, Words: "memory of a test", Below: []setup.Layer{}}, nil
}

func (o boardOpener) Check(_ context.Context, l volume.Locator, r volume.Request) error {
	switch {
	case len(r.Files) > 0:
		return volume.NoFiles(l)
	case !r.Writes:
		return nil
	case r.Consent == nil:
		return volume.NoConsent(l)
	}
	return r.Consent.Still(l, o.identity(l))
}

func (o boardOpener) Agree(_ context.Context, l volume.Locator, claim volume.Claim) (setup.Identity, error) {
	return o.identity(l), claim.Agreed(l, o.identity(l))
}

func (o boardOpener) Holds(_ context.Context, l volume.Locator) (holds, user string, err error) {
	i := o.identity(l)
	return i.HoldsInWords(), "", nil
}

func (boardOpener) Readable(context.Context, volume.Locator) error { return nil }

func (o boardOpener) Prepare(ctx context.Context, l volume.Locator, r volume.Request) (volume.Volume, error) {
	return boards[l.Name], o.Check(ctx, l, r)
}

func (b *board) Use(context.Context, workload.Spec) (load.Volume, error) { return b, nil }
func (b *board) Close() error                                            { return nil }
func (b *board) Facts() load.Facts {
	return load.Facts{Size: quantity.Bytes(len(b.content)), Alignment: 512}
}

func (b *board) Open(o load.QueueOptions) (load.Queue, error) {
	return &hand{board: b, block: o.LargestBlock, memory: make([]byte, o.Depth*o.LargestBlock)}, nil
}

// hand is a queue of a board.
type hand struct {
	*board
	block  int
	memory []byte
	done   []load.Completion
}

func (h *hand) Buffer(slot int) []byte { return h.memory[slot*h.block : (slot+1)*h.block] }
func (h *hand) Interface() string      { return "copies in memory" }
func (h *hand) Close(int) error        { return nil }

func (h *hand) Submit(all []*load.Operation) error {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, o := range all {
		place, buffer := h.content[o.Offset:][:o.Length], h.Buffer(o.Slot)[o.From:]
		switch o.Class {
		case measure.Read:
			copy(buffer, place)
			h.reads.Add(1)
		case measure.Write:
			copy(place, buffer)
			h.writes.Add(1)
		case measure.Trim:
			clear(place)
		}
		h.done = append(h.done, load.Completion{Slot: o.Slot, Bytes: o.Length})
	}
	return nil
}

func (h *hand) Collect(into []load.Completion, wait time.Duration) (int, error) {
	n := copy(into, h.done)
	h.done = h.done[:copy(h.done, h.done[n:])]
	if n == 0 && wait > 0 {
		time.Sleep(wait)
	}
	return n, nil
}

// A kind of volume that nobody has heard of keeps the contract, is looked at, refused until its
// loss is agreed to, measured, and counted as it counts itself, through the whole service.
func TestAKindOfVolumeIsOnePackageAndOneLine(t *testing.T) {
	t.Run("contract", func(t *testing.T) {
		volumetest.Run(t, volumetest.Kind{Open: func(*testing.T) load.Volume { return &board{content: make([]byte, 2<<20)} }})
	})
	boards["mine"] = &board{content: make([]byte, 8<<20)}
	c := servicetest.Run(t)
	ctx := t.Context()
	if _, err := c.AddVolume(ctx, resource.NewVolume{Locator: "board:theirs"}); err == nil || !strings.Contains(err.Error(), `there is no board "theirs"`) {
		t.Errorf("an unknown one: %v", err)
	}
	looked, err := c.Look(ctx, "board:mine", client.Asked{})
	if err != nil || looked.Facts == nil || looked.Facts.Size != 8*quantity.MiB || looked.Setup.Text("media[0].kind") != "memory" {
		t.Fatalf("looked at: %+v, %v", looked, err)
	}
	if i := indexOf(looked.Checks, "nothing-of-value"); i < 0 || !strings.Contains(looked.Checks[i].Sentence, "a chess game") {
		t.Errorf("what is on it is not told: %+v", looked.Checks)
	}
	v, err := c.AddVolume(ctx, resource.NewVolume{Locator: "board:mine"})
	if err != nil || v.Name != "the board called mine" || v.Kind != "memory board" {
		t.Fatalf("%+v, %v", v, err)
	}

	spec := workload.Default()
	spec.Reads, spec.Span, spec.Depth, spec.Workers, spec.WarmUp, spec.For, spec.Interval = 0.75, 8*quantity.MiB, 4, 2, 0, 0.3, 0.1
	once := resource.NewRun{VolumeID: v.ID, Plan: plan.Plan{Name: "half a game", Stages: []plan.Stage{{Name: "moves", Load: spec}}}}
	if _, err := c.StartRun(ctx, once); err == nil || !strings.Contains(err.Error(), volume.ErrConsent.Error()) {
		t.Fatalf("without consent: %v", err)
	}
	if boards["mine"].writes.Load() > 0 {
		t.Fatal("it was written to without consent")
	}
	if _, err := c.GiveConsent(ctx, v.ID, resource.ConsentToWrite{Size: v.Facts.Size, Serial: v.Facts.Serial}); err == nil || !strings.Contains(err.Error(), "a chess game") {
		t.Errorf("consent that does not name what it holds: %v", err)
	}
	if _, err := c.GiveConsent(ctx, v.ID, resource.ConsentToWrite{Size: v.Facts.Size, Serial: v.Facts.Serial, Holds: "a chess game"}); err != nil {
		t.Fatal(err)
	}
	run, err := c.StartRun(ctx, once)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Watch(ctx, run.ID, client.Watcher{}); err != nil {
		t.Fatal(err)
	}
	detail, err := c.Run(ctx, run.ID)
	if err != nil || detail.Run.Status != resource.Finished || len(detail.Measurements) != 1 {
		t.Fatalf("%+v, %v", detail.Run, err)
	}
	sum := detail.Measurements[0].Summary
	for class, counted := range map[measure.Class]int64{measure.Read: boards["mine"].reads.Load(), measure.Write: boards["mine"].writes.Load()} {
		if got := sum.Classes[class].Operations; got == 0 || got > counted || got < counted-2*4 {
			t.Errorf("%v: the run has %d, the board counted %d, of which up to 8 may have been under way when the time was over", class, got, counted)
		}
	}
}

func indexOf(checks []setup.Check, name string) int {
	for i, c := range checks {
		if c.Name == name {
			return i
		}
	}
	return -1
}
