package signature

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
)

// ends is how much at the start and at the end tells whether storage was written since.
const ends = 1 << 20

// Digests are those of the first and the last MiB of storage of a size.
func Digests(storage io.ReaderAt, size int64) (head, tail string, err error) {
	if head, err = digest(storage, 0, min(ends, size)); err != nil {
		return "", "", err
	}
	tail, err = digest(storage, max(size-ends, 0), min(ends, size))
	return head, tail, err
}

func digest(storage io.ReaderAt, offset, length int64) (string, error) {
	hash := sha256.New()
	if _, err := io.Copy(hash, io.NewSectionReader(storage, offset, length)); err != nil {
		return "", fmt.Errorf("read %d bytes at %d: %w", length, offset, err)
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}

// Recognised names what storage holds: what is recognised, or that something unknown is
// there; none when it is empty.
func Recognised(storage io.ReaderAt, size int64) ([]string, error) {
	holds, err := Find(storage, size)
	if err != nil || len(holds) > 0 {
		return holds, err
	}
	something, err := Content(storage, size)
	if err == nil && something {
		holds = []string{Unknown}
	}
	return holds, err
}
