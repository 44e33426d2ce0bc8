package workload_test

import (
	"errors"
	"math"
	"reflect"
	"strings"
	"testing"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	_ "patientheron/core/workload/kinds"
)

func spec(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span = 64 * quantity.MiB
	if change != nil {
		change(&s)
	}
	return s
}

func TestValidateNamesTheField(t *testing.T) {
	for field, change := range map[string]func(*workload.Spec){
		"depth":    func(s *workload.Spec) { s.Depth = 0 },
		"workers":  func(s *workload.Spec) { s.Workers = -1 },
		"block":    func(s *workload.Spec) { s.Blocks = workload.Block(0) },
		"reads":    func(s *workload.Spec) { s.Reads = quantity.Share(math.NaN()) },
		"order":    func(s *workload.Spec) { s.Order = "backwards" },
		"span":     func(s *workload.Spec) { s.Span = 512 },
		"for":      func(s *workload.Spec) { s.For = 0 },
		"skew":     func(s *workload.Spec) { s.Order = workload.Skewed },
		"hot":      func(s *workload.Spec) { s.Order, s.HotAccesses = workload.Skewed, 0.8 },
		"stride":   func(s *workload.Spec) { s.Order = workload.Strided; s.Stride = 512 },
		"streams":  func(s *workload.Spec) { s.Streams = 2 },
		"rate":     func(s *workload.Spec) { s.Rate, s.ByteRate = 1, 1 },
		"think":    func(s *workload.Spec) { s.Rate, s.Think = 1, 1 },
		"arrivals": func(s *workload.Spec) { s.Arrivals = workload.Poisson },
		"interval": func(s *workload.Spec) { s.Interval = 0.01 },
		"trims":    func(s *workload.Spec) { s.Trims = 0.95 },
		"zeroes":   func(s *workload.Spec) { s.Zeroes = 1.5 },
		"copies":   func(s *workload.Spec) { s.Trims, s.Zeroes, s.Copies = 0.5, 0.3, 0.3 },
		"margin":   func(s *workload.Spec) { s.Margin = 1 },
		"seed":     func(s *workload.Spec) { s.Seed = 1 << 60 },
		"align":    func(s *workload.Spec) { s.Align = quantity.TiB },
	} {
		var wrong *mistake.Error
		if err := spec(change).Validate(); !errors.As(err, &wrong) || wrong.Field != field || !errors.Is(err, workload.ErrInvalid) {
			t.Errorf("%s: got %v", field, err)
		}
	}
	if err := workload.Default().Validate(); err != nil {
		t.Error(err)
	}
}

func TestEveryFieldCanBeSetByText(t *testing.T) {
	values := map[string]string{
		"block": "4KiB:3,64KiB:1", "reads": "70%", "trims": "5%", "zeroes": "5%", "copies": "20%", "swaps": "2%", "order": "sequential", "skew": "0.99", "hot": "80%/20%", "streams": "4",
		"stride": "1MiB", "depth": "32", "workers": "4", "span": "10GiB", "offset": "1MiB", "align": "4KiB",
		"compressible": "50%", "duplicate": "10%", "think": "5ms", "rate": "5k", "byteRate": "250MB/s",
		"arrivals": "poisson", "syncEvery": "8", "cached": "true", "for": "60s", "amount": "1GiB", "warmUp": "2s",
		"interval": "100ms", "steady": "true", "margin": "2%", "onError": "continue", "seed": "7",
		"files": "1000 x 64KiB + 3 x 1GiB", "task": "fetch:3,save:1", "passes": "3", "atOnce": "4", "piece": "64KiB",
		"visit": "by-class", "flush": "each", "treeSeed": "5", "from": "/srv/films",
		"feeds": "12", "feedRate": "25MB/s", "frames": "hd1080/20@25", "feedPiece": "256KiB", "buffer": "500ms",
		"stores": "3", "requests": "get:8,put:2", "value": "100B..2KiB", "key": "16B", "keySkew": "0.99", "clients": "8", "log": "each-put",
		"memtable": "4MiB", "levelRatio": "4", "compactAt": "2", "falsePositives": "5%", "scan": "50", "zone": "64MiB",
	}
	for _, field := range workload.Fields() {
		before, after := workload.Default(), workload.Default()
		if err := field.Set(&after, values[field.Name]); err != nil {
			t.Errorf("%s: %v", field.Name, err)
		}
		if reflect.DeepEqual(before, after) {
			t.Errorf("%s = %s changed nothing", field.Name, values[field.Name])
		}
		again := workload.Default()
		if err := field.Set(&again, field.Get(after)); err != nil || !reflect.DeepEqual(again, after) {
			t.Errorf("%s = %s is written as %q and reads back as %+v (%v)", field.Name, values[field.Name], field.Get(after), again, err)
		}
		if err := field.Set(&after, "plenty"); err == nil && field.Name != "order" && field.Name != "arrivals" && field.Name != "onError" {
			t.Errorf("%s accepted %q", field.Name, "plenty")
		}
	}
	if _, err := workload.Lookup("colour"); !errors.Is(err, workload.ErrInvalid) {
		t.Errorf("unknown field: %v", err)
	}
	blocks, _ := workload.ParseBlocks("4KiB:3,64KiB:1")
	if got := workload.FormatBlocks(blocks); got != "4KiB:3,64KiB:1" {
		t.Errorf("mix printed as %s", got)
	}
}

func TestScatterVisitsEveryPlaceOnce(t *testing.T) {
	for _, count := range []uint64{1, 2, 10, 997, 4096} {
		z, seen := workload.NewZipf(1, count), map[uint64]bool{}
		for rank := range count {
			seen[z.Scatter(rank)] = true
		}
		if len(seen) != int(count) {
			t.Errorf("%d places: only %d are reached", count, len(seen))
		}
	}
}

func TestArrivals(t *testing.T) {
	const n = 100_000
	for _, arrivals := range []workload.Arrivals{workload.Constant, workload.Poisson} {
		s := spec(func(s *workload.Spec) { s.Rate, s.Arrivals, s.Workers = 5000, arrivals, 2 })
		schedule := workload.NewSchedule(s, 1)
		gaps, squares, last := 0.0, 0.0, schedule.Peek()
		for range n {
			schedule.Advance()
			gap := float64(schedule.Peek() - last)
			last = schedule.Peek()
			gaps, squares = gaps+gap, squares+gap*gap
		}
		mean := gaps / n
		variation := math.Sqrt(squares/n-mean*mean) / mean
		wanted := map[workload.Arrivals]float64{workload.Constant: 0, workload.Poisson: 1}[arrivals]
		// Exponential gaps have a coefficient of variation of one.
		if math.Abs(mean-400_000)/400_000 > 0.015 || math.Abs(variation-wanted) > 0.02 {
			t.Errorf("%s: mean gap %.0f ns (want 400000), variation %.3f (want %g)", arrivals, mean, variation, wanted)
		}
	}
	if workload.NewSchedule(workload.Default(), 0) != nil {
		t.Error("a closed loop has a schedule")
	}
}

// Of two mistakes the same is told each time.
func TestMistakesAreToldInAFixedOrder(t *testing.T) {
	s := workload.Default()
	s.Zeroes, s.Copies, s.Swaps, s.Compressible, s.Duplicate = 2, 3, 4, 5, 6
	first := s.Validate()
	for range 200 {
		if again := s.Validate(); again == nil || again.Error() != first.Error() || !strings.Contains(again.Error(), "zeroes: 2") {
			t.Fatalf("%v, and then %v", first, again)
		}
	}
}
