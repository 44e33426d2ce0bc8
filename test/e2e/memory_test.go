package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"patientheron/core/judge"
)

// A load through the memory of a simulated host is measured at what memory gives, and that
// is said; one that is far larger than it is measured at what the array gives, and nothing
// is said.
func TestThroughASimulatedHostsMemory(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "held.yaml")
	ok(t, os.WriteFile(path, []byte("name: Held\nmembers: {count: 4, medium: ssd, capacity: 400GB}\nlayout: {level: raid10}\nlimits: {throughput: 100MB/s}\n"), 0o644))
	for size, remembered := range map[string]bool{"64MiB": false, "1GiB": true} {
		out, said, err := s.cli("measure", "array:"+path, "--cached", "--order", "sequential", "--block", "1MiB", "--span", "512MiB", "--warm-up", "6s", "--for", "10s", "--sweep", "pageCache.size="+size)
		if err != nil || !strings.Contains(out, "page cache hit rate") {
			t.Fatalf("%v: %s%s", err, out, said)
		}
		page, err := s.Runs(t.Context(), 0, 1)
		ok(t, err)
		m := s.finished(page.Runs[0].ID).Measurements[0]
		rate := float64(m.Summary.Total.Throughput)
		found := slices.ContainsFunc(m.Findings, func(f judge.Finding) bool { return f.Kind == "host-memory-answered" && f.Weight == judge.Unreliable })
		if found != remembered || remembered != (rate > 1e9) || !remembered && rate > 102e6 {
			t.Errorf("512 MiB through %s: %.0f MB/s, %+v", size, rate/1e6, m.Findings)
		}
	}
	for wrong, says := range map[string]string{"size=1KiB": "a multiple of", "dirty=200%": "above 100%", "background=50%": "no more than the first", "sizes=1GiB": "has no key"} {
		if _, said, err := s.cli("measure", "array:"+path, "--cached", "--sweep", "pageCache."+wrong); err == nil || !strings.Contains(said, says) {
			t.Errorf("%s: %v: %s", wrong, err, said)
		}
	}
}
