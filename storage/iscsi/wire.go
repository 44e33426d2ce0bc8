package iscsi

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"net"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"patientheron/protocol/iscsi"
)

const (
	// receiveSpace is how many bytes are received at a time at most, beside what goes
	// straight to where it belongs.
	receiveSpace = 128 << 10

	digestLength = 4
	mostParts    = 1024 // that the kernel takes in one call
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// errClosed is given when the other side ended the connection.
var errClosed = errors.New("the target closed the connection")

// wire is a TCP connection that PDUs go over, used by one goroutine. It never blocks.
type wire struct {
	fd                       int
	headerDigest, dataDigest bool

	in       []byte // received; what lies between from and to was not taken yet
	from, to int
	vectors  [2]unix.Iovec

	small   [][]byte     // room for headers, digests and what fills up, until it was sent
	used    int          // of small
	parts   []unix.Iovec // to be sent
	first   int          // of parts that was not sent whole
	message unix.Msghdr
}

// dial opens a connection to an address.
func dial(ctx context.Context, address string) (*wire, error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	file, err := conn.(*net.TCPConn).File() // a descriptor of its own
	if err != nil {
		return nil, err
	}
	defer file.Close()
	fd, err := unix.FcntlInt(file.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, os.NewSyscallError("dup", err)
	}
	if err := unix.SetNonblock(fd, true); err != nil {
		_ = unix.Close(fd)
		return nil, os.NewSyscallError("fcntl", err)
	}
	return &wire{fd: fd, in: make([]byte, receiveSpace)}, nil
}

func (w *wire) close() { _ = unix.Close(w.fd) }

// room is some for a header with its digest.
func (w *wire) room() []byte {
	if w.used == len(w.small) {
		const many = 32
		block := make([]byte, many*(iscsi.HeaderLength+digestLength))
		for i := range many {
			w.small = append(w.small, block[i*(iscsi.HeaderLength+digestLength):][:iscsi.HeaderLength+digestLength])
		}
	}
	w.used++
	return w.small[w.used-1]
}

// put hands a PDU over to be sent. The data stay where they are until then.
func (w *wire) put(h *iscsi.Header, data []byte) {
	h.SetDataLength(len(data))
	head := w.room()
	length := copy(head, h[:])
	if w.headerDigest {
		binary.LittleEndian.PutUint32(head[length:], crc32.Checksum(head[:length], castagnoli))
		length += digestLength
	}
	w.part(head[:length])
	if len(data) == 0 {
		return
	}
	w.part(data)
	if fill := iscsi.Padded(len(data)) - len(data); fill > 0 || w.dataDigest {
		tail := w.room()
		clear(tail)
		if w.dataDigest {
			sum := crc32.Update(crc32.Checksum(data, castagnoli), castagnoli, tail[:fill])
			binary.LittleEndian.PutUint32(tail[fill:], sum)
			fill += digestLength
		}
		w.part(tail[:fill])
	}
}

func (w *wire) part(b []byte) {
	v := unix.Iovec{Base: &b[0]}
	v.SetLen(len(b))
	w.parts = append(w.parts, v)
}

// sending reports whether something is still to be sent.
func (w *wire) sending() bool { return w.first < len(w.parts) }

// flush sends as much as the kernel takes.
func (w *wire) flush() error {
	for w.first < len(w.parts) {
		now := w.parts[w.first:min(len(w.parts), w.first+mostParts)]
		w.message = unix.Msghdr{Iov: &now[0]}
		w.message.SetIovlen(len(now))
		n, _, errno := unix.Syscall(unix.SYS_SENDMSG, uintptr(w.fd), uintptr(unsafe.Pointer(&w.message)), unix.MSG_NOSIGNAL|unix.MSG_DONTWAIT)
		switch errno {
		case 0:
		case unix.EINTR:
			continue
		case unix.EAGAIN:
			return nil
		default:
			return os.NewSyscallError("send", errno)
		}
		for sent := int(n); sent > 0; {
			v := &w.parts[w.first]
			if length := int(v.Len); sent < length {
				v.Base = (*byte)(unsafe.Add(unsafe.Pointer(v.Base), sent))
				v.SetLen(length - sent)
				break
			} else {
				sent -= length
			}
			w.first++
		}
	}
	w.parts, w.first, w.used = w.parts[:0], 0, 0
	return nil
}

// receive takes what the kernel has: first what belongs into direct, then the rest. It
// gives how much of direct was filled; all zero when there is nothing.
func (w *wire) receive(direct []byte) (filled int, any bool, err error) {
	if w.from == w.to {
		w.from, w.to = 0, 0
	} else if w.to == len(w.in) || len(w.in)-w.to < receiveSpace/4 {
		w.to = copy(w.in, w.in[w.from:w.to])
		w.from = 0
	}
	count := 0
	if len(direct) > 0 {
		w.vectors[0].Base = &direct[0]
		w.vectors[0].SetLen(len(direct))
		count = 1
	}
	if rest := w.in[w.to:]; len(rest) > 0 {
		w.vectors[count].Base = &rest[0]
		w.vectors[count].SetLen(len(rest))
		count++
	}
	for {
		n, _, errno := unix.Syscall(unix.SYS_READV, uintptr(w.fd), uintptr(unsafe.Pointer(&w.vectors[0])), uintptr(count))
		switch {
		case errno == unix.EINTR:
			continue
		case errno == unix.EAGAIN:
			return 0, false, nil
		case errno != 0:
			return 0, false, os.NewSyscallError("receive", errno)
		case n == 0:
			return 0, false, errClosed
		}
		filled = min(int(n), len(direct))
		w.to += int(n) - filled
		return filled, true, nil
	}
}

// header takes the next header when it is there whole; extra are its additional segments.
func (w *wire) header() (h *iscsi.Header, ok bool, err error) {
	if w.to-w.from < iscsi.HeaderLength {
		return nil, false, nil
	}
	h = (*iscsi.Header)(w.in[w.from:])
	length := iscsi.HeaderLength + h.Extra()
	whole := length
	if w.headerDigest {
		whole += digestLength
	}
	if w.to-w.from < whole {
		return nil, false, nil
	}
	if w.headerDigest && binary.LittleEndian.Uint32(w.in[w.from+length:]) != crc32.Checksum(w.in[w.from:w.from+length], castagnoli) {
		return nil, false, fmt.Errorf("%w: the digest of a header is wrong", iscsi.ErrProtocol)
	}
	w.from += whole
	return h, true, nil
}

// trailer is how many bytes follow data of a length: what fills them up, and their digest.
func (w *wire) trailer(length int) int {
	if length == 0 {
		return 0
	}
	n := iscsi.Padded(length) - length
	if w.dataDigest {
		n += digestLength
	}
	return n
}

// checkTrailer compares the digest of data, whose sum is known, with what follows them.
func (w *wire) checkTrailer(length int, sum uint32, trailer []byte) error {
	if !w.dataDigest || len(trailer) == 0 {
		return nil
	}
	fill := len(trailer) - digestLength
	if binary.LittleEndian.Uint32(trailer[fill:]) != crc32.Update(sum, castagnoli, trailer[:fill]) {
		return fmt.Errorf("%w: the digest of %d bytes of data is wrong", iscsi.ErrProtocol, length)
	}
	return nil
}
