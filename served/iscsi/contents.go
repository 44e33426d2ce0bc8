package iscsi

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// contents is what a unit holds: memory that is taken as it is written, and reads as zeros
// where nothing was.
type contents []byte

// newContents gets room for so many bytes. Nothing of it is taken yet.
func newContents(size int64) (contents, error) {
	c, err := unix.Mmap(-1, 0, int(size), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE|unix.MAP_NORESERVE)
	if err != nil {
		return nil, fmt.Errorf("get room for %d bytes: %w", size, os.NewSyscallError("mmap", err))
	}
	return c, nil
}

// forget gives a range back, which reads as zeros from then on.
func (c contents) forget(offset, length int64) {
	const page = 4096
	whole, end := (offset+page-1)/page*page, (offset+length)/page*page
	if whole >= end {
		clear(c[offset : offset+length])
		return
	}
	clear(c[offset:whole])
	clear(c[end : offset+length])
	if unix.Madvise(c[whole:end], unix.MADV_DONTNEED) != nil {
		clear(c[whole:end])
	}
}

func (c contents) close() { _ = unix.Munmap(c) }
