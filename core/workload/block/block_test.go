package block

import (
	"cmp"
	"errors"
	"math"
	"slices"
	"strings"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func spec(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span = 64 * quantity.MiB
	if change != nil {
		change(&s)
	}
	return s
}

func generate(t *testing.T, s workload.Spec, worker, count int) []workload.Access {
	t.Helper()
	g, err := NewGenerator(s, worker)
	if err != nil {
		t.Fatal(err)
	}
	accesses := make([]workload.Access, count)
	for i := range accesses {
		g.Next(&accesses[i])
	}
	return accesses
}

// The number of reads among n draws with probability p is binomial; four
// standard deviations leave a false alarm once in 16,000.
func TestReadShareIsBinomial(t *testing.T) {
	const n = 200_000
	for _, p := range []quantity.Share{0, 0.01, 0.3, 0.7, 1} {
		reads := 0
		for _, a := range generate(t, spec(func(s *workload.Spec) { s.Reads = p }), 0, n) {
			if a.Class == measure.Read {
				reads++
			}
		}
		mean, deviation := n*float64(p), math.Sqrt(n*float64(p)*(1-float64(p)))
		if math.Abs(float64(reads)-mean) > 4*deviation {
			t.Errorf("read share %v: %d of %d reads, expected %.0f ± %.0f", p, reads, n, mean, 4*deviation)
		}
	}
}

func TestBlockMixFollowsItsWeights(t *testing.T) {
	const n = 100_000
	counts := map[int]int{}
	for _, a := range generate(t, spec(func(s *workload.Spec) {
		s.Blocks = []workload.BlockShare{{Size: 4096, Weight: 5}, {Size: 8192, Weight: 3}, {Size: 65536, Weight: 2}}
	}), 0, n) {
		counts[a.Length]++
		if a.Offset%int64(a.Length) != 0 || a.Offset+int64(a.Length) > int64(64*quantity.MiB) {
			t.Fatalf("%+v is misaligned or outside the span", a)
		}
	}
	for length, share := range map[int]float64{4096: 0.5, 8192: 0.3, 65536: 0.2} {
		if deviation := math.Sqrt(n * share * (1 - share)); math.Abs(float64(counts[length])-n*share) > 4*deviation {
			t.Errorf("%d bytes: %d of %d, expected %.0f", length, counts[length], n, n*share)
		}
	}
}

// Pearson's chi-squared over 256 cells; 255 degrees of freedom exceed 350
// less than once in 10,000 times.
func TestUniformOrderIsUniform(t *testing.T) {
	const n, cells = 256_000, 256
	counts := make([]float64, cells)
	s := spec(func(s *workload.Spec) { s.Offset = quantity.MiB })
	for _, a := range generate(t, s, 0, n) {
		counts[(a.Offset-int64(s.Offset))*cells/int64(s.Span)]++
	}
	chi := 0.0
	for _, c := range counts {
		chi += (c - n/cells) * (c - n/cells) / (n / cells)
	}
	if chi > 350 {
		t.Errorf("chi-squared %.0f over %d cells", chi, cells)
	}
}

// Zipf's law: P(rank k) = k^-s / H(n, s), summed exactly.
func TestZipfAgainstTheory(t *testing.T) {
	const places, n = 1000, 400_000
	for _, exponent := range []float64{0.5, 0.99, 1, 1.5} {
		counts := map[int64]int{}
		for _, a := range generate(t, spec(func(s *workload.Spec) {
			s.Order, s.Skew, s.Span = workload.Skewed, exponent, places*4*quantity.KiB
		}), 0, n) {
			counts[a.Offset]++
		}
		var ranked []int
		for _, c := range counts {
			ranked = append(ranked, c)
		}
		slices.SortFunc(ranked, func(a, b int) int { return b - a })
		harmonic := 0.0
		for k := 1.0; k <= places; k++ {
			harmonic += math.Pow(k, -exponent)
		}
		seen, expected := 0.0, 0.0
		for k := range 100 {
			seen += float64(ranked[k])
			expected += math.Pow(float64(k+1), -exponent) / harmonic * n
			if k == 0 || k == 9 || k == 99 {
				if math.Abs(seen-expected)/expected > 0.02 {
					t.Errorf("exponent %g: the %d hottest got %.0f accesses, theory says %.0f", exponent, k+1, seen, expected)
				}
			}
		}
	}
}

func TestHotRegionGetsItsShare(t *testing.T) {
	const n = 100_000
	hot := 0
	s := spec(func(s *workload.Spec) { s.Order, s.HotAccesses, s.HotSpan = workload.Skewed, 0.8, 0.2 })
	for _, a := range generate(t, s, 0, n) {
		if a.Offset < int64(s.Span)/5 {
			hot++
		}
	}
	if math.Abs(float64(hot)-0.8*n) > 4*math.Sqrt(n*0.8*0.2) {
		t.Errorf("%d of %d accesses hit the hot fifth, expected 80 %%", hot, n)
	}
}

// Brute force: walk each region by hand and compare.
func TestSequentialStreamsAgainstBruteForce(t *testing.T) {
	s := spec(func(s *workload.Spec) {
		s.Order, s.Streams, s.Workers, s.Span, s.Blocks = workload.Sequential, 3, 2, 96*quantity.KiB, workload.Block(4*quantity.KiB)
	})
	for _, descending := range []bool{false, true} {
		if descending {
			s.Order = workload.Descending
		}
		for worker := range 2 {
			got := generate(t, s, worker, 40)
			for i, a := range got {
				region, step := int64(worker*3+i%3)*16384, int64(i/3%4)*4096
				want := region + step
				if descending {
					want = region + 16384 - 4096 - step
				}
				if a.Offset != want {
					t.Fatalf("%s worker %d access %d at %d, want %d", s.Order, worker, i, a.Offset, want)
				}
			}
		}
	}
}

// Whatever the mix of sizes and the alignment, an operation in order starts at a
// multiple of it, also after the end of its region, and stays within the region.
func TestSequentialKeepsToItsAlignment(t *testing.T) {
	for _, blocks := range []string{"6000", "4KiB:1,12KiB:1", "8KiB:1,12KiB:2,4KiB:1", "512:1,3000:1"} {
		mix, err := workload.ParseBlocks(blocks)
		if err != nil {
			t.Fatal(err)
		}
		for _, align := range []quantity.Bytes{0, 4096} {
			for _, order := range []workload.Order{workload.Sequential, workload.Descending} {
				s := spec(func(s *workload.Spec) {
					s.Order, s.Streams, s.Workers, s.Span, s.Blocks, s.Align = order, 3, 2, 1001*quantity.KiB, mix, align
				})
				for _, a := range generate(t, s, 1, 1000) {
					step := int64(cmp.Or(align, quantity.Bytes(a.Length)))
					if a.Offset%step != 0 || a.Offset < int64(s.Span)/4 || a.Offset+int64(a.Length) > int64(s.Span) {
						t.Fatalf("%s, align %s, %s: %d bytes at %d", blocks, align, order, a.Length, a.Offset)
					}
				}
			}
		}
	}
}

func TestStrideAgainstBruteForce(t *testing.T) {
	s := spec(func(s *workload.Spec) { s.Order, s.Stride, s.Span = workload.Strided, 12*quantity.KiB, 64*quantity.KiB })
	for i, a := range generate(t, s, 0, 30) {
		// Starts at 0, 12, 24, 36, 48, 60 KiB fit a 4 KiB block into 64 KiB.
		if want := int64(i%6) * 12288; a.Offset != want {
			t.Fatalf("access %d at %d, want %d", i, a.Offset, want)
		}
	}
}

func TestSameSeedSameOperations(t *testing.T) {
	for _, order := range []workload.Order{workload.Random, workload.Skewed, workload.Sequential, workload.Descending} {
		s := spec(func(s *workload.Spec) {
			s.Order, s.Reads, s.Workers = order, 0.5, 2
			if order == workload.Skewed {
				s.Skew = 0.9
			}
		})
		if !slices.Equal(generate(t, s, 1, 1000), generate(t, s, 1, 1000)) {
			t.Errorf("%s: the same seed gave other operations", order)
		}
		if slices.Equal(generate(t, s, 0, 1000), generate(t, s, 1, 1000)) {
			t.Errorf("%s: two workers issue the same operations", order)
		}
	}
}

func TestTooManyStreamsAreRefused(t *testing.T) {
	s := spec(func(s *workload.Spec) { s.Order, s.Streams, s.Span = workload.Sequential, 100, 64*quantity.KiB })
	if _, err := NewGenerator(s, 0); !errors.Is(err, workload.ErrInvalid) {
		t.Errorf("got %v", err)
	}
}

// Trims take their share of all operations, and reads theirs of what is left; a load
// without trims issues what it did before there were any.
func TestTrimsTakeTheirShare(t *testing.T) {
	counted := func(trims quantity.Share) (classes [measure.Classes]int, accesses []workload.Access) {
		s := workload.Default()
		s.Reads, s.Trims = 0.7, trims
		g, err := NewGenerator(s, 0)
		if err != nil {
			t.Fatal(err)
		}
		for range 100_000 {
			var a workload.Access
			g.Next(&a)
			classes[a.Class]++
			accesses = append(accesses, a)
		}
		return classes, accesses
	}
	classes, _ := counted(0.2)
	// Three standard deviations of 100 000 draws are at most 475.
	for class, want := range map[measure.Class]int{measure.Trim: 20_000, measure.Read: 56_000, measure.Write: 24_000} {
		if got := classes[class]; got < want-475 || got > want+475 {
			t.Errorf("%d %s, want about %d", got, class, want)
		}
	}
	if classes, accesses := counted(0); classes[measure.Trim] != 0 || accesses[3].Length != 4096 {
		t.Errorf("without trims: %v", classes)
	}
	s := workload.Default()
	s.Trims = 0.1
	if _, writes := s.Reach(); !writes || !slices.Contains(s.Classes(), measure.Trim) || slices.Contains(s.Classes(), measure.Write) {
		t.Errorf("a load of reads and trims writes: %v, and issues %v", writes, s.Classes())
	}
}

// What the storage does by itself takes its share of all operations; a copy is of another
// place of the span, and has nothing in common with it.
func TestWhatTheStorageDoesByItself(t *testing.T) {
	counted := func(change func(*workload.Spec)) (classes [measure.Classes]int) {
		t.Helper()
		s := spec(func(s *workload.Spec) { s.Reads, s.Offset, s.Span = 0.5, 1<<20, 1<<20; change(s) })
		g, err := NewGenerator(s, 0)
		if err != nil {
			t.Fatal(err)
		}
		for range 50_000 {
			var a workload.Access
			g.Next(&a)
			classes[a.Class]++
			length := int64(a.Length)
			places := []int64{a.Offset}
			if a.Class == measure.Copy {
				places = append(places, a.Source)
			}
			for _, at := range places {
				if at < int64(s.Offset) || at+length > int64(s.Offset+s.Span) {
					t.Fatalf("%+v is outside the span", a)
				}
			}
			if a.Class == measure.Copy && a.Source+length > a.Offset && a.Offset+length > a.Source {
				t.Fatalf("%+v copies to itself", a)
			}
		}
		return classes
	}
	classes := counted(func(s *workload.Spec) { s.Trims, s.Zeroes, s.Copies = 0.1, 0.2, 0.3 })
	for class, want := range map[measure.Class]int{measure.Trim: 5000, measure.Zero: 10_000, measure.Copy: 15_000, measure.Read: 10_000, measure.Write: 10_000} {
		if got := classes[class]; got < want-350 || got > want+350 { // three deviations are at most 308
			t.Errorf("%d %s, want about %d", got, class, want)
		}
	}
	for _, align := range []quantity.Bytes{0, 512, 24 * quantity.KiB, 64 * quantity.KiB} {
		if classes := counted(func(s *workload.Spec) {
			s.Copies, s.Blocks, s.Span, s.Align = 1, workload.Block(64*quantity.KiB), 256*quantity.KiB, align
		}); classes[measure.Copy] != 50_000 {
			t.Errorf("only copies, in a span of four blocks: %v", classes)
		}
	}
	if classes := counted(func(s *workload.Spec) { s.Zeroes, s.Order = 1, workload.Sequential }); classes[measure.Zero] != 50_000 {
		t.Errorf("only zeroes: %v", classes)
	}
	s := spec(func(s *workload.Spec) { s.Copies = 1 })
	if _, writes := s.Reach(); !writes || !slices.Equal(s.Classes(), []measure.Class{measure.Copy}) || s.Written() != 1 {
		t.Errorf("copies write: %v, and are %v, %s of them written", writes, s.Classes(), s.Written())
	}
	for _, c := range []struct {
		trims, zeroes, copies quantity.Share
		says                  string
	}{{0, 0, 1, ", copies, "}, {0, 1, 0, ", zeroes, "}, {0, 0, 0.25, ", 25 % copies, "}, {0, 0.5, 0.5, ", 50 % zeroes, 50 % copies, "}} {
		s := spec(func(s *workload.Spec) { s.Trims, s.Zeroes, s.Copies = c.trims, c.zeroes, c.copies })
		if words := s.Describe(); !strings.Contains(words, c.says) {
			t.Errorf("%+v is described as %q", c, words)
		}
	}
}
