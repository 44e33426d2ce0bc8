package e2e

import (
	"os"
	"testing"
)

// TestOthersMayBegin goes on when the tests that want the machine to themselves, which come one
// at a time, are over, and tells it to who waits for that.
func TestOthersMayBegin(t *testing.T) {
	t.Parallel()
	if path := os.Getenv("HERON_ALONE_OVER"); path != "" {
		if err := os.WriteFile(path, nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
