package iscsi

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/core/workload"
	"patientheron/storage/volume/volumetest"
)

// What is written, zeroed and copied through our initiator is what a plain array of bytes
// comes to, block by block.
func TestCopiesAndZeroes(t *testing.T) {
	var unit *Unit
	s := serve(t, Instant(size), func(o *Options) { unit = o.Units[0] })
	spec := workload.Default()
	spec.Copies, spec.Zeroes = 0.5, 0.2
	v, err := prepare(t, locator(s, "")).Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	const block, most = 512, 1 << 20
	q, err := v.Open(load.QueueOptions{Depth: 2, LargestBlock: most})
	if err != nil {
		t.Fatal(err)
	}
	model := make([]byte, 4<<20)
	random, content := rand.New(rand.NewPCG(7, 8)), rand.NewChaCha8([32]byte{3})
	place := func(length int) int64 { return block * random.Int64N((int64(len(model))-int64(length))/block) }
	for range 400 {
		length := block * (1 + random.IntN(most/block))
		o := load.Operation{Length: length, Offset: place(length)}
		switch random.IntN(3) {
		case 0:
			o.Class = measure.Write
			_, _ = content.Read(q.Buffer(0)[:length])
			copy(model[o.Offset:], q.Buffer(0)[:length])
		case 1:
			o.Class = measure.Zero
			clear(model[o.Offset:][:length])
		default:
			o.Class, o.Source = measure.Copy, place(length)
			copy(model[o.Offset:][:length], bytes.Clone(model[o.Source:][:length])) // also where they overlap
		}
		if c := carriedOut(t, q, o); c.Err != nil || c.Bytes != length {
			t.Fatalf("%+v was answered with %+v", o, c)
		}
	}
	if !bytes.Equal(unit.contents[:len(model)], model) {
		t.Error("the unit holds something else")
	}
	// A place past the end is refused, and nothing of it is done.
	if c := carriedOut(t, q, load.Operation{Class: measure.Copy, Length: block, Offset: 0, Source: size}); c.Err == nil {
		t.Error("what is past the end was copied")
	}
	if !bytes.Equal(unit.contents[:len(model)], model) {
		t.Error("a copy that was refused did something")
	}
	if err := q.Close(0); err != nil {
		t.Error(err)
	}
}

// carriedOut carries out an operation by itself.
func carriedOut(t *testing.T, q load.Queue, o load.Operation) load.Completion {
	t.Helper()
	if err := volumetest.Submit(q, []load.Operation{o}); err != nil {
		t.Fatal(err)
	}
	into := make([]load.Completion, 1)
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); {
		n, err := q.Collect(into, 100*time.Millisecond)
		if err != nil {
			t.Fatal(err)
		}
		if n == 1 {
			return into[0]
		}
	}
	t.Fatal("no answer")
	return load.Completion{}
}

// A copy takes the disk the time of a read and of a write.
func TestCopiesAskTheDisk(t *testing.T) {
	disk := &recorded{Instant: size}
	s := serve(t, disk, nil)
	spec := workload.Default()
	spec.Copies = 1
	v, err := prepare(t, locator(s, "")).Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	q, err := v.Open(load.QueueOptions{Depth: 1, LargestBlock: 1 << 16})
	if err != nil {
		t.Fatal(err)
	}
	disk.take()
	if c := carriedOut(t, q, load.Operation{Class: measure.Copy, Length: 8192, Offset: 4096, Source: 1 << 20}); c.Err != nil {
		t.Fatal(c.Err)
	}
	want := []Operation{{Kind: Read, Offset: 1 << 20, Length: 8192}, {Kind: Write, Offset: 4096, Length: 8192}}
	asked := disk.take()
	if len(asked) != 2 {
		t.Fatalf("%+v", asked)
	}
	for i, o := range asked {
		if o.Kind != want[i].Kind || o.Offset != want[i].Offset || o.Length != want[i].Length {
			t.Errorf("%+v, want %+v", o, want[i])
		}
	}
	disk.fails.Store(true)
	if c := carriedOut(t, q, load.Operation{Class: measure.Copy, Length: 8192, Offset: 4096, Source: 1 << 20}); c.Err == nil {
		t.Error("a copy whose read failed was done")
	}
	if err := q.Close(0); err != nil {
		t.Error(err)
	}
}

// recorded is a disk that notes what it is asked for.
type recorded struct {
	Instant
	fails atomic.Bool

	mutex sync.Mutex
	all   []Operation
}

func (r *recorded) Begin(o *Operation) {
	r.mutex.Lock()
	r.all = append(r.all, *o)
	r.mutex.Unlock()
	o.Done(r.fails.Load())
}

// take gives what it was asked for since the call before.
func (r *recorded) take() []Operation {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	all := r.all
	r.all = nil
	return all
}

// What a unit does not do is refused before anything is measured.
func TestUnitsThatDoNotCopy(t *testing.T) {
	s := serve(t, Instant(size), nil)
	v := prepare(t, locator(s, ""))
	spec := workload.Default()
	spec.Copies, spec.Blocks = 1, workload.Block(32<<20)
	var wrong *mistake.Error
	if _, err := v.Use(t.Context(), spec); !errors.As(err, &wrong) || wrong.Field != "block" {
		t.Errorf("blocks of 32 MiB: %v", err)
	}
	spec.Copies, spec.Zeroes, spec.Blocks = 0, 1, workload.Block(64<<20)
	if _, err := v.Use(t.Context(), spec); err != nil {
		t.Errorf("64 MiB of zeros: %v", err)
	}
}

// However many hosts count in the same block at the same time, no count is lost: what was
// read is written anew only where nobody was faster.
func TestSwapsLoseNoCount(t *testing.T) {
	var unit *Unit
	s := serve(t, Instant(size), func(o *Options) { unit = o.Units[0] })
	spec := workload.Default()
	spec.Swaps, spec.Blocks = 1, workload.Block(4096)
	v, err := prepare(t, locator(s, "?sessions=2")).Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	const hosts, depth, rounds = 3, 4, 100
	var together sync.WaitGroup
	for host := range hosts {
		together.Go(func() {
			runtime.LockOSThread()
			q, err := v.Open(load.QueueOptions{Depth: depth, LargestBlock: 4096})
			if err != nil {
				t.Error(err)
				return
			}
			for range rounds {
				var operations []load.Operation
				for slot := range depth {
					operations = append(operations, load.Operation{Class: measure.Swap, Offset: 8192, Length: 4096, Slot: slot})
				}
				if err := volumetest.Submit(q, operations); err != nil {
					t.Error(err)
					return
				}
				into := make([]load.Completion, depth)
				for done, end := 0, time.Now().Add(3*time.Minute); done < depth; {
					n, err := q.Collect(into, 100*time.Millisecond)
					if err != nil || time.Now().After(end) {
						t.Errorf("host %d: %d answered (%v)", host, done, err)
						return
					}
					for _, c := range into[:n] {
						if c.Err != nil || c.Bytes != 4096 {
							t.Errorf("host %d: %+v", host, c)
						}
					}
					done += n
				}
			}
			if err := q.Close(0); err != nil {
				t.Error(err)
			}
		})
	}
	together.Wait()
	if got := binary.LittleEndian.Uint64(unit.contents[8192:]); got != hosts*depth*rounds {
		t.Errorf("counted to %d, and %d counted", got, hosts*depth*rounds)
	}
	spec.Blocks = workload.Block(1 << 20)
	var wrong *mistake.Error
	if _, err := prepare(t, locator(s, "")).Use(t.Context(), spec); !errors.As(err, &wrong) || wrong.Field != "block" {
		t.Errorf("blocks of 1 MiB: %v", err)
	}
}
