package signature

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"patientheron/core/setup"
)

// Digest adds to an identity the digests of the storage's first and last MiB and of the
// places between (setup.Places).
func Digest(storage io.ReaderAt, id *setup.Identity) (err error) {
	size := int64(id.Size)
	if id.Head, err = digest(storage, 0, min(setup.EndLength, size)); err != nil {
		return err
	}
	if id.Tail, err = digest(storage, max(size-setup.EndLength, 0), min(setup.EndLength, size)); err != nil {
		return err
	}
	piece := make([]byte, setup.PlaceLength)
	for _, at := range setup.Places(id.Size) {
		if _, err := storage.ReadAt(piece, int64(at)); err != nil {
			return fmt.Errorf("read %d bytes at %d: %w", len(piece), at, err)
		}
		sum := sha256.Sum256(piece)
		id.Between = append(id.Between, sum[:setup.PlaceDigest]...)
	}
	return nil
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
