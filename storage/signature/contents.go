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
	places := setup.Places(id.Size)
	at := make([]int64, len(places))
	for i, place := range places {
		at[i] = int64(place)
	}
	pieces, err := readAll(storage, at, setup.PlaceLength)
	if err != nil {
		return err
	}
	for _, piece := range pieces {
		sum := sha256.Sum256(piece)
		id.Between = append(id.Between, sum[:setup.PlaceDigest]...)
	}
	return nil
}

// Several is storage that reads at many places as quickly as at a few: what answers over a
// distance is asked for all at once.
type Several interface {
	// ReadAll fills each piece from its place.
	ReadAll(pieces [][]byte, at []int64) error
}

// readAll reads pieces of a length at places.
func readAll(storage io.ReaderAt, at []int64, length int) ([][]byte, error) {
	whole := make([]byte, len(at)*length)
	pieces := make([][]byte, len(at))
	for i := range pieces {
		pieces[i] = whole[i*length : (i+1)*length]
	}
	if several, is := storage.(Several); is {
		return pieces, several.ReadAll(pieces, at)
	}
	for i, piece := range pieces {
		if _, err := storage.ReadAt(piece, at[i]); err != nil {
			return nil, fmt.Errorf("read %d bytes at %d: %w", length, at[i], err)
		}
	}
	return pieces, nil
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
