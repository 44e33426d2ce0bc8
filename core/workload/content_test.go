package workload_test

import (
	"fmt"
	"math"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	_ "patientheron/core/workload/kinds"
)

// written is what a worker writes in blocks of a size, one after the other
// through one buffer, as a queue of depth one does.
func written(s workload.Spec, worker, block, total int) []byte {
	content, buffer := workload.NewContent(s, worker), make([]byte, block)
	var all []byte
	for len(all) < total {
		content.Fill(buffer)
		all = append(all, buffer...)
	}
	return all
}

// removed is the share of data that a compressor removes which works on records
// of a size, each by itself, and keeps those that do not shrink as they are.
func removed(t *testing.T, name string, data []byte, record int) float64 {
	t.Helper()
	encoder, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	defer encoder.Close()
	var lz lz4.Compressor
	packed, left := make([]byte, lz4.CompressBlockBound(record)), 0
	for at := 0; at < len(data); at += record {
		one, n := data[at:at+record], 0
		if name == "zstd" {
			n = len(encoder.EncodeAll(one, nil))
		} else if n, err = lz.CompressBlock(one, packed); err != nil {
			t.Fatal(err)
		}
		if n == 0 || n > record {
			n = record
		}
		left += n
	}
	return 1 - float64(left)/float64(len(data))
}

// What is written shrinks by the promised share for lz4 and zstd, whatever the
// size of the writes and of the records that a compressor works on.
func TestCompressibilityAgainstLZ4AndZstd(t *testing.T) {
	for _, share := range []quantity.Share{0, 0.25, 0.5, 0.75} {
		s := spec(func(s *workload.Spec) { s.Compressible = share })
		for _, block := range []int{512, 1024, 4096, 16384, 65536, 131072, 1 << 20} {
			data := written(s, 0, block, 1<<20)
			for _, name := range []string{"lz4", "zstd"} {
				for _, record := range []int{512, 4096, 16384, 131072} {
					got := removed(t, name, data, record)
					if math.Abs(got-float64(share)) > 0.03 {
						t.Errorf("compressible %s, blocks of %d, records of %d: %s removed %.1f %%", share, block, record, name, got*100)
					}
				}
			}
		}
	}
}

// Nothing is written twice: not within a worker, not by two workers, not by two
// seeds, and not by who filled the test file, at any offset that a finder of
// duplicates works with.
func TestNothingIsWrittenTwice(t *testing.T) {
	const grains = 1 << 14
	for _, share := range []quantity.Share{0, 0.5, 0.9, 1} {
		seen := map[string]string{}
		for seed := range uint64(3) {
			for worker := -1; worker < 2; worker++ {
				who := fmt.Sprintf("seed %d worker %d", seed+1, worker)
				s := spec(func(s *workload.Spec) { s.Compressible, s.Seed = share, seed+1 })
				data := written(s, worker, 4096, grains*512)
				for at := 0; at < len(data); at += 512 {
					key := string(data[at : at+512])
					if before, twice := seen[key]; twice {
						t.Fatalf("compressible %s: %s wrote at %d what %s had written", share, who, at, before)
					}
					seen[key] = who
				}
			}
		}
	}
	// Also not shifted by some words, as sequences of neighbouring seeds were.
	words := map[[8]byte]bool{}
	for seed := range uint64(8) {
		data := written(spec(func(s *workload.Spec) { s.Seed = seed + 1 }), 0, 4096, 1<<16)
		for at := 0; at < len(data); at += 8 {
			word := [8]byte(data[at:])
			if words[word] {
				t.Fatalf("seed %d writes a word that another seed wrote", seed+1)
			}
			words[word] = true
		}
	}
}

func TestDuplicates(t *testing.T) {
	const pages = 20_000
	for _, share := range []quantity.Share{0, 0.3, 1} {
		content := workload.NewContent(spec(func(s *workload.Spec) { s.Duplicate = share }), 0)
		buffer, seen, repeated := make([]byte, workload.PageSize), map[[workload.PageSize]byte]bool{}, 0
		for range pages {
			content.Fill(buffer)
			if page := [workload.PageSize]byte(buffer); seen[page] {
				repeated++
			} else {
				seen[page] = true
			}
		}
		// Of the common pages the first of each is no repetition.
		expected := float64(share)*pages - 16*math.Ceil(float64(share))
		if math.Abs(float64(repeated)-expected) > 4*math.Sqrt(pages*0.25)*math.Ceil(float64(share)) {
			t.Errorf("duplicate %s: %d of %d pages repeat, expected %.0f", share, repeated, pages, expected)
		}
	}
}

func BenchmarkContent(b *testing.B) {
	content, buffer := workload.NewContent(workload.Default(), 0), make([]byte, 64<<10)
	b.SetBytes(int64(len(buffer)))
	for b.Loop() {
		content.Fill(buffer)
	}
}
