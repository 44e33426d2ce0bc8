// Package volumetest holds a kind of volume to what the load engine expects of it, in
// the spirit of testing/iotest: every kind must pass.
package volumetest

import (
	"bytes"
	"fmt"
	"runtime"
	"slices"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
)

// Kind is what is tested.
type Kind struct {
	// Open opens a volume of at least 1 MiB that may be written, for one test.
	Open func(t *testing.T) load.Volume
	// KeepsNothing is set when what is written cannot be read back.
	KeepsNothing bool
	// ByStorage are the classes that it was opened for and carries out by itself.
	ByStorage []measure.Class
}

// issues are the classes of operations on blocks that a kind takes.
func (k Kind) issues() []measure.Class {
	return append([]measure.Class{measure.Read, measure.Write, measure.Flush, measure.Trim}, k.ByStorage...)
}

const block = 4096

// Run holds a kind to the contract of load.Volume and load.Queue.
func Run(t *testing.T, k Kind) {
	for name, test := range map[string]func(*testing.T, Kind, load.Volume){
		"facts": facts, "every operation is answered once": once, "data comes back": data, "a look does not wait": looking,
		"many queues": many, "closing with operations in flight": closing, "pieces lie where they belong": pieces,
	} {
		t.Run(name, func(t *testing.T) {
			runtime.LockOSThread() // a queue belongs to one thread
			defer runtime.UnlockOSThread()
			v := k.Open(t)
			defer func() {
				if err := v.Close(); err != nil {
					t.Error(err)
				}
			}()
			test(t, k, v)
		})
	}
}

func facts(t *testing.T, _ Kind, v load.Volume) {
	f := v.Facts()
	if f.Size < 1<<20 || f.Alignment < 1 || f.ReadOnly || int64(block)%int64(f.Alignment) != 0 {
		t.Errorf("%+v", f)
	}
}

func queue(t *testing.T, v load.Volume, depth int) load.Queue {
	t.Helper()
	q, err := v.Open(load.QueueOptions{Depth: depth, LargestBlock: 2 * block})
	if err != nil {
		t.Fatal(err)
	}
	if q.Interface() == "" {
		t.Error("it does not say how operations are handed over")
	}
	return q
}

// Submit hands operations over to a queue.
func Submit(q load.Queue, operations []load.Operation) error {
	all := make([]*load.Operation, len(operations))
	for i := range operations {
		all[i] = &operations[i]
	}
	return q.Submit(all)
}

// perform hands operations over and collects all answers.
func perform(t *testing.T, v load.Volume, q load.Queue, operations ...load.Operation) []load.Completion {
	t.Helper()
	if err := Submit(q, operations); err != nil {
		t.Fatal(err)
	}
	var answers []load.Completion
	into := make([]load.Completion, len(operations))
	for end := time.Now().Add(30 * time.Second); len(answers) < len(operations); {
		if stepped, is := v.(load.Stepped); is {
			stepped.Step(1 << 62)
		}
		n, err := q.Collect(into, 10*time.Millisecond)
		if err != nil {
			t.Fatal(err)
		}
		answers = append(answers, into[:n]...)
		if time.Now().After(end) {
			t.Fatalf("%d of %d operations were answered", len(answers), len(operations))
		}
	}
	return answers
}

// once: as many as fit at a time, of all classes, each answered once and in full.
func once(t *testing.T, k Kind, v load.Volume) {
	const depth = 16
	classes := k.issues()
	q := queue(t, v, depth)
	for round := range 20 {
		var operations []load.Operation
		for slot := range depth {
			o := load.Operation{Class: classes[(slot+round)%len(classes)], Slot: slot}
			if o.Class != measure.Flush {
				o.Offset, o.Length = int64((slot*7+round*13)%100)*block, block*(1+slot%2)
				o.Source = (o.Offset + 50*block) % (100 * block)
			}
			operations = append(operations, o)
		}
		seen := map[int]bool{}
		for _, a := range perform(t, v, q, operations...) {
			o := operations[a.Slot]
			if a.Err != nil || o.Class.Moves() && a.Bytes != o.Length || seen[a.Slot] {
				t.Fatalf("%+v was answered with %+v", o, a)
			}
			seen[a.Slot] = true
		}
	}
	if n, err := q.Collect(make([]load.Completion, depth), 0); n != 0 || err != nil {
		t.Errorf("%d answers to nothing (%v)", n, err)
	}
	if err := q.Close(0); err != nil {
		t.Error(err)
	}
}

// data: what one queue writes another reads.
func data(t *testing.T, k Kind, v load.Volume) {
	if k.KeepsNothing {
		t.Skip("it keeps nothing")
	}
	writer, reader := queue(t, v, 4), queue(t, v, 4)
	want := bytes.Repeat([]byte("sedgewater "), block)[:block]
	copy(writer.Buffer(2), want)
	perform(t, v, writer, load.Operation{Class: measure.Write, Offset: 3 * block, Length: block, Slot: 2})
	perform(t, v, writer, load.Operation{Class: measure.Flush, Slot: 1})
	perform(t, v, reader, load.Operation{Class: measure.Read, Offset: 3 * block, Length: block, Slot: 3})
	if !bytes.Equal(reader.Buffer(3)[:block], want) {
		t.Error("what was written is not what was read")
	}
	perform(t, v, writer, load.Operation{Class: measure.Trim, Offset: 3 * block, Length: block, Slot: 1})
	perform(t, v, reader, load.Operation{Class: measure.Read, Offset: 3 * block, Length: block, Slot: 3})
	if !bytes.Equal(reader.Buffer(3)[:block], make([]byte, block)) {
		t.Error("what was given back is still read")
	}
	if slices.Contains(k.ByStorage, measure.Copy) {
		perform(t, v, writer, load.Operation{Class: measure.Write, Offset: 3 * block, Length: block, Slot: 2})
		perform(t, v, writer, load.Operation{Class: measure.Copy, Source: 3 * block, Offset: 9 * block, Length: block, Slot: 1})
		perform(t, v, reader, load.Operation{Class: measure.Read, Offset: 9 * block, Length: block, Slot: 3})
		if !bytes.Equal(reader.Buffer(3)[:block], want) {
			t.Error("what was copied is not what is read")
		}
	}
	if slices.Contains(k.ByStorage, measure.Zero) {
		perform(t, v, writer, load.Operation{Class: measure.Write, Offset: 9 * block, Length: block, Slot: 2})
		perform(t, v, writer, load.Operation{Class: measure.Zero, Offset: 9 * block, Length: block, Slot: 1})
		perform(t, v, reader, load.Operation{Class: measure.Read, Offset: 9 * block, Length: block, Slot: 3})
		if !bytes.Equal(reader.Buffer(3)[:block], make([]byte, block)) {
			t.Error("zeros were let be written, and something else is read")
		}
	}
	for _, q := range []load.Queue{writer, reader} {
		if err := q.Close(0); err != nil {
			t.Error(err)
		}
	}
}

// pieces: the rest of an operation goes to the rest of its buffer.
func pieces(t *testing.T, k Kind, v load.Volume) {
	if k.KeepsNothing || v.Facts().Alignment > 512 {
		t.Skip("it keeps nothing, or nothing this small")
	}
	q := queue(t, v, 2)
	buffer := q.Buffer(0)
	for i := range buffer {
		buffer[i] = byte(i / 512)
	}
	want := bytes.Clone(buffer[:block])
	perform(t, v, q, load.Operation{Class: measure.Write, Offset: 0, Length: 1024, Slot: 0})
	perform(t, v, q, load.Operation{Class: measure.Write, Offset: 1024, Length: block - 1024, Slot: 0, From: 1024})
	perform(t, v, q, load.Operation{Class: measure.Read, Offset: 0, Length: 512, Slot: 1})
	perform(t, v, q, load.Operation{Class: measure.Read, Offset: 512, Length: block - 512, Slot: 1, From: 512})
	if !bytes.Equal(q.Buffer(1)[:block], want) {
		t.Error("the pieces do not make the whole")
	}
	if err := q.Close(0); err != nil {
		t.Error(err)
	}
}

// looking: with nothing in flight a look comes back at once, and a wait ends.
func looking(t *testing.T, _ Kind, v load.Volume) {
	q := queue(t, v, 2)
	for _, wait := range []time.Duration{0, time.Millisecond} {
		done := make(chan error, 1)
		began := time.Now()
		n, err := q.Collect(make([]load.Completion, 2), wait)
		done <- err
		if n != 0 || err != nil || time.Since(began) > 20*time.Second {
			t.Errorf("waiting %s for nothing gave %d (%v) after %s", wait, n, err, time.Since(began))
		}
	}
	if err := q.Close(0); err != nil {
		t.Error(err)
	}
}

// many: as many workers as a load may have.
func many(t *testing.T, _ Kind, v load.Volume) {
	var queues []load.Queue
	for range 256 {
		queues = append(queues, queue(t, v, 1))
	}
	for i, q := range queues {
		o := load.Operation{Class: measure.Read, Offset: int64(i%100) * block, Length: block}
		if a := perform(t, v, q, o)[0]; a.Err != nil || a.Bytes != block {
			t.Fatalf("queue %d: %+v", i, a)
		}
	}
	for _, q := range queues {
		if err := q.Close(0); err != nil {
			t.Error(err)
		}
	}
}

// closing: what is in flight holds nothing up and does no harm.
func closing(t *testing.T, _ Kind, v load.Volume) {
	for round := range 10 {
		q := queue(t, v, 32)
		var operations []load.Operation
		for slot := range 32 {
			operations = append(operations, load.Operation{Class: measure.Read, Offset: int64(slot) * block, Length: block, Slot: slot})
		}
		if err := Submit(q, operations); err != nil {
			t.Fatal(err)
		}
		n, err := q.Collect(make([]load.Completion, 1+round), 0)
		if err != nil {
			t.Fatal(err)
		}
		if err := q.Close(len(operations) - n); err != nil {
			t.Errorf("%d operations in flight: %v", len(operations)-n, fmt.Errorf("close: %w", err))
		}
	}
}
