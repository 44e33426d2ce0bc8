// Command proof writes to a logical unit through the heron's initiator, at many settings of
// its sessions, lets the unit copy and zero by itself, reads all of it back, and holds what
// came to be on it to a plain array of bytes: what it reads, and the file behind the unit.
//
//	proof iscsi://192.0.2.1/iqn.2026-01.example:store/0 /srv/store.img
//
// What was on the unit is lost.
package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"strings"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// settings are those of the keys that bear on data, each by itself and together.
var settings = []string{
	"", "InitialR2T=Yes", "ImmediateData=No", "ImmediateData=No InitialR2T=Yes", "FirstBurstLength=4096", "MaxBurstLength=8192 FirstBurstLength=512",
	"MaxRecvDataSegmentLength=512", "MaxOutstandingR2T=1", "HeaderDigest=CRC32C", "DataDigest=CRC32C",
	"HeaderDigest=CRC32C DataDigest=CRC32C InitialR2T=Yes MaxRecvDataSegmentLength=4096", "sessions=3", "sessions=2 policy=least",
}

const (
	block = 512
	most  = 256 << 10 // bytes of an operation
	span  = 4 << 20   // that is worked on
	times = 40        // operations at each setting
)

func main() {
	runtime.LockOSThread() // a queue belongs to one thread
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: proof LOCATOR FILE")
		os.Exit(2)
	}
	if err := prove(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "proof:", err)
		os.Exit(1)
	}
}

// proof is a unit beside what it should hold.
type proof struct {
	storage.Bounds
	locator volume.Locator
	model   []byte
	random  *rand.Rand
	content *rand.ChaCha8
	done    map[measure.Class]int
}

func prove(locator, file string) error {
	l, err := storage.Parse(locator)
	if err != nil {
		return err
	}
	p := &proof{locator: l, model: make([]byte, span), random: rand.New(rand.NewPCG(1, 2)), content: rand.NewChaCha8([32]byte{1}), done: map[measure.Class]int{}}
	for i, text := range settings {
		var with []plan.Setting
		for _, s := range strings.Fields(text) {
			field, value, _ := strings.Cut(s, "=")
			with = append(with, plan.Setting{Field: field, Value: value})
		}
		if err := p.at(with, i == 0); err != nil {
			return fmt.Errorf("at %q: %w", text, err)
		}
	}
	held, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if len(held) < span || !bytes.Equal(held[:span], p.model) {
		return errors.New("the file behind the unit holds something else than what was written, copied and zeroed")
	}
	fmt.Println("held to a model:", p.done[measure.Write], "writes,", p.done[measure.Copy], "copies,", p.done[measure.Zero], "zeroes,", p.done[measure.Swap], "swaps, at", len(settings), "settings")
	return nil
}

// at works on the unit with some keys at other values.
func (p *proof) at(with []plan.Setting, whole bool) error {
	l, err := p.With(p.locator, with)
	if err != nil {
		return err
	}
	claim, err := p.claim(l)
	if err != nil {
		return err
	}
	prepared, err := p.Prepare(context.Background(), l, volume.Request{Writes: true, Size: span, Consent: claim})
	if err != nil {
		return err
	}
	defer prepared.Close()
	spec := workload.Default()
	spec.Copies, spec.Zeroes, spec.Swaps, spec.Blocks = 0.1, 0.1, 0.1, workload.Block(block)
	opened, err := prepared.Use(context.Background(), spec)
	if err != nil {
		return err
	}
	q, err := opened.Open(load.QueueOptions{Depth: 1, LargestBlock: most})
	if err != nil {
		return err
	}
	if whole { // what was there before is written over
		for at := 0; at < span; at += most {
			if err := p.write(q, int64(at), most); err != nil {
				return err
			}
		}
	}
	for range times {
		if err := p.step(q); err != nil {
			return err
		}
	}
	for at := 0; at < span; at += most {
		if err := carryOut(q, load.Operation{Class: measure.Read, Offset: int64(at), Length: most}); err != nil {
			return err
		}
		if !bytes.Equal(q.Buffer(0)[:most], p.model[at:at+most]) {
			return fmt.Errorf("read something else than what was written, copied and zeroed, at %d", at)
		}
	}
	if err := carryOut(q, load.Operation{Class: measure.Flush}); err != nil {
		return err
	}
	return q.Close(0)
}

// claim agrees to lose what is on the unit.
func (p *proof) claim(l volume.Locator) (*volume.Claim, error) {
	facts, err := p.Look(context.Background(), l)
	if err != nil {
		return nil, err
	}
	claim := volume.Claim{Size: facts.Size, Serial: facts.Serial}
	if claim.Holds, _, err = p.Holds(context.Background(), l); err != nil {
		return nil, err
	}
	identity, err := p.Agree(context.Background(), l, claim)
	claim.Identity = &identity
	return &claim, err
}

// step carries one operation out, on the unit and on the model.
func (p *proof) step(q load.Queue) error {
	length := block * (1 + p.random.IntN(most/block))
	place := func() int64 { return block * p.random.Int64N(int64(span-length)/block) }
	o := load.Operation{Length: length, Offset: place()}
	switch p.random.IntN(5) {
	case 4:
		o.Class, o.Length = measure.Swap, block // which counts one further
		counter := p.model[o.Offset:]
		binary.LittleEndian.PutUint64(counter, binary.LittleEndian.Uint64(counter)+1)
	case 0:
		o.Class = measure.Zero
		clear(p.model[o.Offset:][:length])
	case 1:
		o.Class, o.Source = measure.Copy, place()
		if o.Source < o.Offset+int64(length) && o.Offset < o.Source+int64(length) {
			return p.write(q, o.Offset, length) // what overlaps is nobody's promise
		}
		copy(p.model[o.Offset:][:length], p.model[o.Source:][:length])
	default:
		return p.write(q, o.Offset, length)
	}
	p.done[o.Class]++
	return carryOut(q, o)
}

func (p *proof) write(q load.Queue, at int64, length int) error {
	data := q.Buffer(0)[:length]
	_, _ = p.content.Read(data)
	copy(p.model[at:], data)
	p.done[measure.Write]++
	return carryOut(q, load.Operation{Class: measure.Write, Offset: at, Length: length})
}

// carryOut carries one operation out and waits for it.
func carryOut(q load.Queue, o load.Operation) error {
	if err := q.Submit([]*load.Operation{&o}); err != nil {
		return err
	}
	into := make([]load.Completion, 1)
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		n, err := q.Collect(into, 100*time.Millisecond)
		if err != nil {
			return err
		}
		if n == 1 {
			if into[0].Err != nil {
				return fmt.Errorf("%s %d bytes at %d: %w", o.Class.Verb(), o.Length, o.Offset, into[0].Err)
			}
			return nil
		}
	}
	return errors.New("no answer within a minute")
}
