package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/storage"
	"patientheron/storage/volume"
	"patientheron/test/peer"
)

// overISCSI holds the engine against a loop on a library's asynchronous calls, both over
// one session to the same target, whose unit is kept in memory.
func overISCSI() (err error) {
	if err := os.Setenv("TMPDIR", "/dev/shm"); err != nil {
		return err
	}
	defer os.Unsetenv("TMPDIR")
	t := &bencher{}
	defer t.end()
	defer func() {
		if failed, is := recover().(benchFailure); is {
			err = failed
		}
	}()
	g := peer.StartTgt(t, 1)
	unit := "iscsi://" + g.Ports[0] + "/" + peer.Target + "/1"
	prepared, err := openUnit(unit)
	if err != nil {
		return err
	}
	defer prepared.Close()
	for _, m := range []struct {
		what, how string
		block     quantity.Bytes
		depth     int
		change    func(*workload.Spec)
	}{
		{"4 KiB random reads, depth 32", "random", 4096, 32, func(*workload.Spec) {}},
		{"256 KiB reads in order, depth 8", "reads", 256 << 10, 8, func(s *workload.Spec) { s.Order = workload.Sequential }},
		{"256 KiB writes in order, depth 8", "writes", 256 << 10, 8, func(s *workload.Spec) { s.Order, s.Reads = workload.Sequential, 0 }},
	} {
		bare, err := paired(narrow,
			func() (float64, error) {
				rate, _, err := unitRate(prepared, m.block, m.depth, 1, m.change)
				return rate, err
			},
			func() (float64, error) {
				out, err := exec.Command(filepath.Join(filepath.Dir(os.Args[0]), "bare-iscsi"), unit, strconv.Itoa(int(m.block)), strconv.Itoa(m.depth), "1", m.how).Output()
				if err != nil {
					return 0, fmt.Errorf("run the bare loop over iSCSI: %w; 'make bench' builds it", err)
				}
				return strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
			},
		)
		if err != nil {
			return err
		}
		row("iSCSI to tgt in memory, one session, "+m.what+": engine against a loop on libiscsi", "1.0", "%s, %.1f k against %.1f k a second", bare, bare.ours/1e3, bare.theirs/1e3)
	}
	if err := ownTarget(prepared); err != nil {
		return err
	}
	_, few, err := unitRate(prepared, 4096, 32, 1, func(*workload.Spec) {})
	if err != nil {
		return err
	}
	more, many, err := unitRate(prepared, 4096, 32, 4, func(*workload.Spec) {})
	if err != nil {
		return err
	}
	row("iSCSI: allocations for each further operation", "0", "%.5f", max(float64(many)-float64(few), 0)/(3*more))
	return nil
}

// ownTarget holds our own target over memory against tgt, under our own initiator.
func ownTarget(tgt volume.Volume) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	file := filepath.Join(os.TempDir(), "heron-bench-array.yaml")
	if err := os.WriteFile(file, []byte("name: Bench\nmembers: {count: 1, medium: ssd, capacity: 64MiB}\nlayout: {level: concatenation}\n"), 0o600); err != nil {
		return err
	}
	defer os.Remove(file)
	command := exec.CommandContext(ctx, filepath.Join(filepath.Dir(os.Args[0]), "heron"), "array", "serve", file, "--instant", "--size", "64MiB", "--listen", "127.0.0.1:0")
	out, err := command.StdoutPipe()
	if err != nil {
		return err
	}
	if err := command.Start(); err != nil {
		return err
	}
	defer func() { cancel(); _ = command.Wait() }()
	line, err := bufio.NewReader(out).ReadString('\n')
	_, unit, found := strings.Cut(strings.TrimSpace(line), " as ")
	if err != nil || !found {
		return fmt.Errorf("serve an array: %q: %w", line, err)
	}
	own, err := openUnit(unit)
	if err != nil {
		return err
	}
	defer own.Close()
	rate := func(v volume.Volume) func() (float64, error) {
		return func() (float64, error) {
			rate, _, err := unitRate(v, 4096, 32, 1, func(*workload.Spec) {})
			return rate, err
		}
	}
	targets, err := paired(usual, rate(own), rate(tgt))
	if err != nil {
		return err
	}
	row("iSCSI, 4 KiB random reads, depth 32, our initiator: our target over memory against tgt over a file in memory", "1.2", "%.2f (%.1f k against %.1f k a second)", targets.ratio, targets.ours/1e3, targets.theirs/1e3)
	return nil
}

func openUnit(locator string) (volume.Volume, error) {
	l, err := storage.Parse(locator)
	if err != nil {
		return nil, err
	}
	b := storage.Bounds{}
	facts, err := b.Look(context.Background(), l)
	if err != nil {
		return nil, err
	}
	claim := volume.Claim{Size: facts.Size, Serial: facts.Serial}
	var identity setup.Identity
	if identity, err = b.Agree(context.Background(), l, claim); err != nil {
		return nil, err
	}
	claim.Identity = &identity
	return b.Prepare(context.Background(), l, volume.Request{Writes: true, Consent: &claim})
}

// unitRate is the rate of a load, and how many allocations were made meanwhile.
func unitRate(v volume.Volume, block quantity.Bytes, depth int, seconds quantity.Seconds, change func(*workload.Spec)) (rate float64, allocated uint64, err error) {
	s := spec(func(s *workload.Spec) {
		s.Blocks, s.Depth, s.Span, s.For = workload.Block(block), depth, peer.Size, seconds
		change(s)
	})
	opened, err := v.Use(context.Background(), s)
	if err != nil {
		return 0, 0, err
	}
	defer opened.Close()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	outcome, err := load.Run(context.Background(), load.Job{Workload: s, Volume: opened, Clock: load.NewMonotonic(), Observe: func(measure.Interval) {}})
	if err != nil {
		return 0, 0, err
	}
	runtime.ReadMemStats(&after)
	return float64(outcome.Summary.Total.Rate), after.Mallocs - before.Mallocs, outcome.Failure
}

// bencher lets peers run outside of a test.
type bencher struct{ cleanups []func() }

type benchFailure struct{ words string }

func (f benchFailure) Error() string { return f.words }

func (b *bencher) Helper()          {}
func (b *bencher) Cleanup(f func()) { b.cleanups = append(b.cleanups, f) }

func (b *bencher) Fatal(arguments ...any) { panic(benchFailure{fmt.Sprint(arguments...)}) }

func (b *bencher) Fatalf(format string, arguments ...any) {
	panic(benchFailure{fmt.Sprintf(format, arguments...)})
}

func (b *bencher) end() {
	for i := len(b.cleanups) - 1; i >= 0; i-- {
		b.cleanups[i]()
	}
}
