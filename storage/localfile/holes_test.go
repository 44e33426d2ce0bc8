package localfile

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// What was never written of a file is told to the block, of any span; what was written since is
// told as well.
func TestHolesOfAFile(t *testing.T) {
	const block, blocks = 64 << 10, 64
	r := rand.New(rand.NewPCG(1, 1))
	path := filepath.Join(t.TempDir(), "sparse")
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	if err := file.Truncate(block * blocks); err != nil {
		t.Fatal(err)
	}
	var written [blocks]bool
	v := &Volume{file: file, path: path, size: block * blocks}
	for range 40 {
		n := r.IntN(blocks)
		if _, err := file.WriteAt(make([]byte, block), int64(n)*block); err != nil { // zeros are data as well
			t.Fatal(err)
		}
		written[n] = true
		from := r.IntN(blocks)
		to := from + 1 + r.IntN(blocks-from)
		holes := 0
		for _, is := range written[from:to] {
			if !is {
				holes++
			}
		}
		spec := workload.Default()
		spec.Offset, spec.Span = quantity.Bytes(from*block), quantity.Bytes((to-from)*block)
		if share, err := v.Unwritten(t.Context(), spec.Completed()); err != nil || share != quantity.Share(float64(holes)/float64(to-from)) {
			t.Fatalf("blocks %d to %d: %v (%v), and %d are holes", from, to, share, err, holes)
		}
	}
	spec := workload.Default()
	whole, _ := v.Unwritten(t.Context(), spec)
	if bytes := unwrittenOf(path, "file", block*blocks); quantity.Share(float64(bytes)/(block*blocks)) != whole || whole == 0 {
		t.Errorf("%v of it and %v", bytes, whole)
	}
	if bytes := unwrittenOf(filepath.Join(t.TempDir(), "none"), "file", 1); bytes != 0 {
		t.Errorf("%v of a file that is not there", bytes)
	}
}
