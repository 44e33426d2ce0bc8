// Command bench measures what the load engine itself costs, as ratios within
// one run, and prints a table for docs/performance.md. It needs root, for a
// compressed memory device (zram) of its own.
//
//	make bench
package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/array"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/host"
	"patientheron/storage/localfile"
	"patientheron/storage/null"
	"patientheron/storage/simulated"
	"patientheron/storage/volume"
)

// parts are what can be measured by itself.
var parts = map[string][]func() error{
	"memory":    {reportMemory}, // of this process, for whoever started it
	"keeping":   {keeping},
	"files":     {smallFiles},
	"iscsi":     {overISCSI},
	"simulated": {simulatedArrays},
	"choosing":  {choosing},
	"fitting":   {fitting},
	"judging":   {judging, comparing, deciding, choosing, fitting},
}

func main() {
	switch {
	case len(os.Args) == 1:
		fail(bench())
		return
	case len(os.Args) == 3 && os.Args[1] == "profile":
		fail(profile(os.Args[2]))
		return
	}
	part, is := parts[os.Args[1]]
	if !is {
		fail(fmt.Errorf("there is no part %q; leave it out for all, or name one of %s", os.Args[1], strings.Join(slices.Sorted(maps.Keys(parts)), ", ")))
	}
	for _, measure := range part {
		fail(measure())
	}
}

func fail(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func bench() error {
	fmt.Printf("%s, %d cores, %s\n\n", runtime.Version(), runtime.NumCPU(), kernel())
	fmt.Println("| what | figure | goal |")
	fmt.Println("|---|---|---|")
	for _, part := range []func() error{nullVolume, allocations, intervals, simulatedArrays, againstBareLoop, smallFiles, overISCSI, memory, keeping, judging, comparing, deciding, choosing, fitting, looking} {
		if err := part(); err != nil {
			return err
		}
	}
	return nil
}

func row(what, goal, figure string, arguments ...any) {
	fmt.Printf("| %s | %s | %s |\n", what, fmt.Sprintf(figure, arguments...), goal)
}

func kernel() string {
	var name unix.Utsname
	if unix.Uname(&name) != nil {
		return "unknown kernel"
	}
	return "Linux " + unix.ByteSliceToString(name.Release[:])
}

// spec is a second of random reads.
func spec(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Depth, s.For, s.WarmUp = 32, 1, 0.2
	if change != nil {
		change(&s)
	}
	return s
}

// rate measures a load and gives its rate.
func rate(v load.Volume, s workload.Spec, sampler *host.Sampler) (float64, error) {
	job := load.Job{Workload: s, Volume: v, Clock: load.NewMonotonic(), Observe: func(measure.Interval) {}}
	if sampler != nil {
		job.Beside = sampler.Sample
	}
	outcome, err := load.Run(context.Background(), job)
	if err != nil {
		return 0, err
	}
	return float64(outcome.Summary.Total.Rate), outcome.Failure
}

// usual is how many pairs tell a ratio.
const usual = 5

// narrow is how many pairs tell a ratio that is near the bound that it is held against.
var narrow = 41

// against is what two things that were measured in pairs did.
type against struct {
	ours, theirs, ratio float64 // medians
	low, high           float64 // of the interval that holds the true median of ratios 19 times in 20
}

func (a against) String() string { return fmt.Sprintf("%.3f (%.3f to %.3f)", a.ratio, a.low, a.high) }

// paired measures two things side by side in so many pairs, either of them first in every
// other one, so that a machine that becomes slower is neither's loss.
func paired(pairs int, ours, theirs func() (float64, error)) (against, error) {
	var as, bs, ratios []float64
	for i := range pairs {
		var x, y float64
		var err, other error
		if i%2 == 0 {
			x, err = ours()
			y, other = theirs()
		} else {
			y, other = theirs()
			x, err = ours()
		}
		if err := errors.Join(err, other); err != nil {
			return against{}, err
		}
		as, bs, ratios = append(as, x), append(bs, y), append(ratios, x/y)
	}
	slices.Sort(ratios)
	low := medianRank(pairs)
	return against{median(as), median(bs), median(ratios), ratios[low], ratios[pairs-1-low]}, nil
}

// medianRank is how many of so many values in order can be left out at either end, so that
// the rest still spans the true median 19 times in 20: each value is as likely above it as
// below.
func medianRank(values int) int {
	below, chance := 0.0, math.Pow(0.5, float64(values))
	for k := range values {
		if below += chance; below > 0.025 {
			return max(k-1, 0)
		}
		chance *= float64(values-k) / float64(k+1)
	}
	return 0
}

func median(values []float64) float64 {
	slices.Sort(values)
	return values[len(values)/2]
}

var nothing = null.Volume{Size: quantity.TiB}

func nullVolume() error {
	one := func(change func(*workload.Spec)) func() (float64, error) {
		return func() (float64, error) { return rate(nothing, spec(change), host.NewSampler()) }
	}
	two, err := paired(usual, one(func(s *workload.Spec) { s.Workers = 2 }), one(nil))
	if err != nil {
		return err
	}
	row("null volume, 4 KiB reads, depth 32, one worker", "1.5 million a second a core", "%.1f million a second", two.theirs/1e6)
	row("the same with two workers, against one", "", "%.1f million a second, × %.2f", two.ours/1e6, two.ratio)
	mixed, err := paired(usual, one(func(s *workload.Spec) { s.Reads = 0.7 }), one(func(s *workload.Spec) { s.Depth = 1 }))
	if err != nil {
		return err
	}
	row("null volume, 70 % reads, depth 32", "", "%.1f million a second", mixed.ours/1e6)
	row("null volume, depth 1: our own time per operation", "under 1000 ns", "%.0f ns", 1e9/mixed.theirs)
	return nil
}

func allocations() error {
	var before, after runtime.MemStats
	short, long := spec(func(s *workload.Spec) { s.For = 0.2 }), spec(func(s *workload.Spec) { s.For = 2.2 })
	counts := make([]float64, 2)
	operations := make([]float64, 2)
	for i, s := range []workload.Spec{short, long} {
		runtime.ReadMemStats(&before)
		r, err := rate(nothing, s, nil)
		if err != nil {
			return err
		}
		runtime.ReadMemStats(&after)
		counts[i], operations[i] = float64(after.Mallocs-before.Mallocs), r*float64(s.For)
	}
	row("allocations per further operation", "0", "%.7f (%.0f allocations in %.0f million operations)",
		(counts[1]-counts[0])/(operations[1]-operations[0]), counts[1]-counts[0], (operations[1]-operations[0])/1e6)
	return nil
}

func intervals() error {
	every := func(length quantity.Seconds) func() (float64, error) {
		return func() (float64, error) {
			return rate(nothing, spec(func(s *workload.Spec) { s.Interval, s.For = length, 2 }), host.NewSampler())
		}
	}
	series, err := paired(usual, every(0.1), every(2))
	if err != nil {
		return err
	}
	row("null volume, series every 100 ms against every 2 s", "", "× %s of the rate", series)
	return nil
}

// simulatedArrays measures how many operations a second are simulated on one
// core, the engine recording everything, and how the cost grows.
func simulatedArrays() error {
	group := func(count int, medium array.Medium) []array.Group {
		return []array.Group{{Count: count, Medium: medium, Capacity: 500 * quantity.GiB}}
	}
	cache := []array.Cache{{Name: "SSD cache", Size: 10_000_000 * 4 * quantity.KiB, Block: 4 * quantity.KiB, Mode: array.ReadOnly, Devices: 2}}
	for _, c := range []struct {
		what, goal string
		d          array.Description
		span       quantity.Bytes
		depth      int
	}{
		{"simulated: mirror stripe of eight SSDs, 4 KiB reads", "2 million a second", array.Description{Members: group(8, array.Flash), Layout: array.Layout{Level: array.MirrorStripe}}, 100 * quantity.GiB, 64},
		{"simulated: eight disks that order by position", "0.5 million a second", array.Description{Members: group(8, array.HardDisk), Layout: array.Layout{Level: array.Stripe}}, 0, 256},
		{"simulated: SSD cache of 10 million blocks, filled and hit", "1 million a second", array.Description{Members: group(4, array.LowLatency), Layout: array.Layout{Level: array.Stripe}, Caches: cache}, 30 * quantity.GiB, 64},
	} {
		v, err := simulated.New(c.d)
		if err != nil {
			return err
		}
		s := spec(func(s *workload.Spec) {
			s.Span, s.Depth, s.WarmUp, s.For, s.Amount = c.span, c.depth, 0, 0, 3_000_000*4*quantity.KiB
		})
		if c.d.Caches != nil { // the first pass fills the cache
			first := s
			first.Order, first.Amount = workload.Sequential, c.span
			if _, err := timed(v, first); err != nil {
				return err
			}
		}
		var seconds []float64
		for range 5 {
			took, err := timed(v, s)
			if err != nil {
				return err
			}
			seconds = append(seconds, took)
		}
		slices.Sort(seconds)
		row(c.what, c.goal, "%.2f million a second (best of five %.2f)", 3/median(seconds), 3/seconds[0])
	}
	return errors.Join(growth(), manyWorkers())
}

// manyWorkers compares a thousand workers with one operation each with one that has all.
func manyWorkers() error {
	v, err := simulated.New(array.Description{Members: []array.Group{{Count: 8, Medium: array.Flash, Capacity: 100 * quantity.GiB}}, Layout: array.Layout{Level: array.MirrorStripe}})
	if err != nil {
		return err
	}
	with := func(workers int) func() (float64, error) {
		return func() (float64, error) {
			return timed(v, spec(func(s *workload.Spec) {
				s.Workers, s.Depth, s.WarmUp, s.For, s.Amount = workers, 1000/workers, 0, 0, 2e6*4*quantity.KiB
			}))
		}
	}
	workers, err := paired(usual, with(1000), with(1))
	if err != nil {
		return err
	}
	row("simulated: 1,000 workers × depth 1 against 1 × 1,000", "× 1.5", "× %.2f of the time (%.2f and %.2f s for two million operations)", workers.ratio, workers.ours, workers.theirs)
	return nil
}

// growth measures one, ten and a hundred times the operations.
func growth() error {
	v, err := simulated.New(array.Description{Members: []array.Group{{Count: 8, Medium: array.Flash, Capacity: 100 * quantity.GiB}}, Layout: array.Layout{Level: array.MirrorStripe}})
	if err != nil {
		return err
	}
	var each []float64
	for _, count := range []float64{3e5, 3e6, 3e7} {
		took, err := timed(v, spec(func(s *workload.Spec) {
			s.Depth, s.WarmUp, s.For, s.Amount = 64, 0, 0, quantity.Bytes(count)*4*quantity.KiB
		}))
		if err != nil {
			return err
		}
		each = append(each, took/count*1e9)
	}
	row("simulated: time for each of 0.3, 3 and 30 million operations", "", "%.0f, %.0f and %.0f ns", each[0], each[1], each[2])
	return nil
}

// timed measures a load in virtual time and gives the real seconds it took.
func timed(v *simulated.Volume, s workload.Spec) (float64, error) {
	used, err := v.Use(context.Background(), s)
	if err != nil {
		return 0, err
	}
	start := time.Now()
	_, err = rate(used, s, nil)
	return time.Since(start).Seconds(), err
}

// againstBareLoop compares the engine, recording everything, with a loop that
// only submits and collects.
func againstBareLoop() error {
	const size = 1 << 30
	device, remove, err := zram(size)
	if err != nil {
		return err
	}
	defer remove()
	s := spec(func(s *workload.Spec) { s.Span, s.For = size, 2 })
	sampler := host.NewSampler(strings.TrimPrefix(device, "/dev/"))
	engine := func(change func(*workload.Spec)) func() (float64, error) {
		return func() (float64, error) {
			s := s
			if change != nil {
				change(&s)
			}
			return onDevice(device, s, sampler)
		}
	}
	bare, err := paired(usual, engine(nil), func() (float64, error) { return bareLoop(device, size, s.Depth) })
	if err != nil {
		return err
	}
	row("zram, 4 KiB random reads, depth 32, uncached: engine against a bare io_uring loop in C", "0.95", "%s, %.0f k against %.0f k a second", bare, bare.ours/1e3, bare.theirs/1e3)
	two, err := paired(usual, engine(func(s *workload.Spec) { s.Workers = 2 }), engine(nil))
	if err != nil {
		return err
	}
	crowded, err := paired(usual, engine(func(s *workload.Spec) { s.Workers, s.Depth = 16, 1 }), engine(func(s *workload.Spec) { s.Workers, s.Depth = 2, 8 }))
	if err != nil {
		return err
	}
	row("zram, 16 workers × depth 1 against 2 × 8", "", "× %.2f (%.0f k against %.0f k a second)", crowded.ratio, crowded.ours/1e3, crowded.theirs/1e3)
	row("zram, two workers against one", "", "× %.2f (%.0f k against %.0f k a second)", two.ratio, two.ours/1e3, two.theirs/1e3)
	return nil
}

func onDevice(device string, s workload.Spec, sampler *host.Sampler) (float64, error) {
	prepared, err := localfile.Opener{}.Prepare(context.Background(), volume.Locator{Kind: "device", Name: device}, volume.Request{})
	if err != nil {
		return 0, err
	}
	defer prepared.Close()
	v, err := prepared.Use(context.Background(), s)
	if err != nil {
		return 0, err
	}
	defer v.Close()
	return rate(v, s, sampler)
}

// bareLoop runs the loop in C beside this program, for as long as the engine
// measures.
func bareLoop(device string, size int64, depth int) (float64, error) {
	out, err := exec.Command(filepath.Join(filepath.Dir(os.Args[0]), "bare"), device, strconv.FormatInt(size, 10), strconv.Itoa(depth), "2").Output()
	if err != nil {
		return 0, fmt.Errorf("run the bare loop: %w; 'make bench' builds it", err)
	}
	return strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
}

// zram makes a compressed memory device full of data that hardly compresses.
func zram(size int64) (device string, remove func(), err error) {
	number, err := os.ReadFile("/sys/class/zram-control/hot_add")
	if err != nil {
		return "", nil, fmt.Errorf("make a zram device: %w; run as root on a kernel that has zram", err)
	}
	name := "zram" + strings.TrimSpace(string(number))
	remove = func() {
		_ = os.WriteFile("/sys/block/"+name+"/reset", []byte("1"), 0o200)
		_ = os.WriteFile("/sys/class/zram-control/hot_remove", number, 0o200)
	}
	if err := os.WriteFile("/sys/block/"+name+"/disksize", []byte(strconv.FormatInt(size, 10)), 0o200); err != nil {
		remove()
		return "", nil, fmt.Errorf("size a zram device: %w", err)
	}
	device = "/dev/" + name
	file, err := os.OpenFile(device, os.O_WRONLY, 0)
	if err != nil {
		remove()
		return "", nil, err
	}
	defer file.Close()
	content := workload.NewContent(workload.Default(), 0)
	for chunk, at := make([]byte, 1<<20), int64(0); at < size; at += int64(len(chunk)) {
		content.Fill(chunk)
		if _, err := file.WriteAt(chunk, at); err != nil {
			remove()
			return "", nil, err
		}
	}
	return device, remove, file.Sync()
}

// memory asks a process of its own how much it needs beside the buffers.
func memory() error {
	out, err := exec.Command(os.Args[0], "memory").Output()
	if err != nil {
		return fmt.Errorf("measure memory: %w", err)
	}
	row("memory beside the buffers, 8 workers × depth 64 × 128 KiB", "at most 40 MiB", "%s", strings.TrimSpace(string(out)))
	return nil
}

func reportMemory() error {
	s := spec(func(s *workload.Spec) { s.Workers, s.Depth, s.Blocks = 8, 64, workload.Block(128*quantity.KiB) })
	folder, err := os.MkdirTemp(".", "bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	prepared, err := localfile.Opener{}.Prepare(context.Background(), volume.Locator{Kind: "folder", Name: folder}, volume.Request{Size: s.Span, Content: s})
	if err != nil {
		return err
	}
	defer prepared.Close()
	v, err := prepared.Use(context.Background(), s)
	if err != nil {
		return err
	}
	defer v.Close()
	if _, err := rate(v, s, host.NewSampler()); err != nil {
		return err
	}
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return err
	}
	_, after, _ := strings.Cut(string(status), "VmHWM:")
	peak, err := strconv.ParseInt(strings.Fields(after)[0], 10, 64)
	if err != nil {
		return err
	}
	buffers := quantity.Bytes(s.Workers*s.Depth) * s.LargestBlock()
	fmt.Println(quantity.Bytes(peak)*quantity.KiB - buffers)
	return nil
}
