// Package wire carries PDUs over a TCP connection, for both sides: their digests, what
// fills them up, and data that go straight to where they belong. A Wire is used by one
// goroutine and never blocks; whoever has one waits on its descriptor.
package wire

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

	"patientheron/core/mistake"
	"patientheron/protocol/iscsi"
)

const (
	// receiveSpace is how many bytes are received at a time at most, beside what goes
	// straight to where it belongs.
	receiveSpace = 128 << 10

	// directFrom is the length from which on what is missing of data is received where it
	// belongs; less is copied there, which costs less than another call of the kernel.
	directFrom = 16 << 10

	// aheadOfLarge is how much is received beyond such data.
	aheadOfLarge = 512
	// mostAwaited is for how much is waited at a time at most.
	mostAwaited = 128 << 10

	digestLength = 4
	mostParts    = 1024 // that the kernel takes in one call
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// ErrClosed is given when the other side ended the connection.
var ErrClosed = errors.New("the other side closed the connection")

// Taker takes what arrives on a wire.
type Taker interface {
	// Place says where the data of a PDU go whose header arrived: exactly as many bytes as
	// the header says.
	Place(*iscsi.Header) ([]byte, error)
	// Take takes a PDU that is there whole.
	Take(h *iscsi.Header, data []byte) error
}

// Wire is a TCP connection that PDUs go over.
type Wire struct {
	HeaderDigest, DataDigest bool // whether they are sent and expected

	Sent, Received int64 // bytes so far

	fd       int
	in       []byte // received; what lies between from and to was not taken yet
	from, to int
	vectors  [2]unix.Iovec

	head   iscsi.Header // of the PDU that is being received
	inData bool
	data   []byte // where its data go
	got    int
	sum    uint32
	lowest int  // bytes that rouse
	large  bool // the last PDU had much data, and the next one may have

	small   [][]byte     // room for headers, digests and what fills up, until it was sent
	used    int          // of small
	parts   []unix.Iovec // to be sent
	first   int          // of parts that was not sent whole
	message unix.Msghdr
}

// Dial opens a connection to an address.
func Dial(ctx context.Context, address string) (*Wire, error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, mistake.Unreached(address, err)
	}
	defer conn.Close()
	return From(conn)
}

// From takes over a connection, which the caller closes: the wire has a descriptor of its
// own.
func From(conn net.Conn) (*Wire, error) {
	tcp, is := conn.(*net.TCPConn)
	if !is {
		return nil, fmt.Errorf("a connection of type %T, and not of TCP", conn)
	}
	file, err := tcp.File()
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
	return &Wire{fd: fd, lowest: 1, in: make([]byte, receiveSpace)}, nil
}

// Over is a wire over bytes that were received already, for tests.
func Over(received []byte) *Wire { return &Wire{fd: -1, in: received, to: len(received)} }

// Descriptor is what can be waited on.
func (w *Wire) Descriptor() int { return w.fd }

// Close ends the connection.
func (w *Wire) Close() { _ = unix.Close(w.fd) }

// room is some for a header with its digest.
func (w *Wire) room() []byte {
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

// Put hands a PDU over to be sent. The data stay where they are until then.
func (w *Wire) Put(h *iscsi.Header, data []byte) {
	h.SetDataLength(len(data))
	head := w.room()
	length := copy(head, h[:])
	if w.HeaderDigest {
		binary.LittleEndian.PutUint32(head[length:], crc32.Checksum(head[:length], castagnoli))
		length += digestLength
	}
	w.part(head[:length])
	if len(data) == 0 {
		return
	}
	w.part(data)
	if fill := iscsi.Padded(len(data)) - len(data); fill > 0 || w.DataDigest {
		tail := w.room()
		clear(tail)
		if w.DataDigest {
			sum := crc32.Update(crc32.Checksum(data, castagnoli), castagnoli, tail[:fill])
			binary.LittleEndian.PutUint32(tail[fill:], sum)
			fill += digestLength
		}
		w.part(tail[:fill])
	}
}

func (w *Wire) part(b []byte) {
	v := unix.Iovec{Base: &b[0]}
	v.SetLen(len(b))
	w.parts = append(w.parts, v)
}

// Sending reports whether something is still to be sent.
func (w *Wire) Sending() bool { return w.first < len(w.parts) }

// Flush sends as much as the kernel takes. Neither this nor receiving ever waits, so that the
// runtime need not be told of the calls.
func (w *Wire) Flush() error {
	for w.first < len(w.parts) {
		now := w.parts[w.first:min(len(w.parts), w.first+mostParts)]
		w.message = unix.Msghdr{Iov: &now[0]}
		w.message.SetIovlen(len(now))
		n, _, errno := unix.RawSyscall(unix.SYS_SENDMSG, uintptr(w.fd), uintptr(unsafe.Pointer(&w.message)), unix.MSG_NOSIGNAL|unix.MSG_DONTWAIT)
		switch errno {
		case 0:
		case unix.EINTR:
			continue
		case unix.EAGAIN:
			return nil
		default:
			return os.NewSyscallError("send", errno)
		}
		w.Sent += int64(n)
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
func (w *Wire) receive(direct []byte) (filled int, any bool, err error) {
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
	rest := w.in[w.to:]
	if w.large { // only the header that comes next, so that its data can go straight, too
		rest = rest[:min(len(rest), aheadOfLarge)]
	}
	if len(rest) > 0 {
		w.vectors[count].Base = &rest[0]
		w.vectors[count].SetLen(len(rest))
		count++
	}
	for {
		n, _, errno := unix.RawSyscall(unix.SYS_READV, uintptr(w.fd), uintptr(unsafe.Pointer(&w.vectors[0])), uintptr(count))
		switch {
		case errno == unix.EINTR:
			continue
		case errno == unix.EAGAIN:
			return 0, false, nil
		case errno != 0:
			return 0, false, os.NewSyscallError("receive", errno)
		case n == 0:
			return 0, false, ErrClosed
		}
		w.Received += int64(n)
		filled = min(int(n), len(direct))
		w.to += int(n) - filled
		return filled, true, nil
	}
}

// header takes the next header when it is there whole; extra are its additional segments.
func (w *Wire) header() (h *iscsi.Header, ok bool, err error) {
	if w.to-w.from < iscsi.HeaderLength {
		return nil, false, nil
	}
	h = (*iscsi.Header)(w.in[w.from:])
	length := iscsi.HeaderLength + h.Extra()
	whole := length
	if w.HeaderDigest {
		whole += digestLength
	}
	if w.to-w.from < whole {
		return nil, false, nil
	}
	if w.HeaderDigest && binary.LittleEndian.Uint32(w.in[w.from+length:]) != crc32.Checksum(w.in[w.from:w.from+length], castagnoli) {
		return nil, false, fmt.Errorf("%w: the digest of a header is wrong", iscsi.ErrProtocol)
	}
	w.from += whole
	return h, true, nil
}

// trailer is how many bytes follow data of a length: what fills them up, and their digest.
func (w *Wire) trailer(length int) int {
	if length == 0 {
		return 0
	}
	n := iscsi.Padded(length) - length
	if w.DataDigest {
		n += digestLength
	}
	return n
}

// checkTrailer compares the digest of data, whose sum is known, with what follows them.
func (w *Wire) checkTrailer(length int, sum uint32, trailer []byte) error {
	if !w.DataDigest || len(trailer) == 0 {
		return nil
	}
	fill := len(trailer) - digestLength
	if binary.LittleEndian.Uint32(trailer[fill:]) != crc32.Update(sum, castagnoli, trailer[:fill]) {
		return fmt.Errorf("%w: the digest of %d bytes of data is wrong", iscsi.ErrProtocol, length)
	}
	return nil
}

// Fill receives once, and reports whether something came.
func (w *Wire) Fill() (any bool, err error) {
	var direct []byte
	if w.inData && len(w.data)-w.got >= directFrom && w.from == w.to {
		direct = w.data[w.got:]
	}
	filled, any, err := w.receive(direct)
	if filled > 0 {
		w.count(direct[:filled])
	}
	return any, err
}

func (w *Wire) count(arrived []byte) {
	if w.DataDigest {
		w.sum = crc32.Update(w.sum, castagnoli, arrived)
	}
	w.got += len(arrived)
}

// rouseAt says how many bytes have to be there for whoever waits on the descriptor to be
// roused: while much is missing a few are not worth it.
func (w *Wire) rouseAt(bytes int) error {
	if bytes < directFrom {
		bytes = 1
	}
	if bytes == w.lowest || w.fd < 0 {
		return nil
	}
	w.lowest = bytes
	return os.NewSyscallError("setsockopt", unix.SetsockoptInt(w.fd, unix.SOL_SOCKET, unix.SO_RCVLOWAT, bytes))
}

// Deliver hands over each PDU that was received whole.
func (w *Wire) Deliver(to Taker) error {
	for {
		if !w.inData {
			h, ok, err := w.header()
			if err != nil {
				return err
			}
			if !ok {
				return w.rouseAt(1)
			}
			w.head, w.got, w.sum, w.inData = *h, 0, 0, true
			w.large = h.DataLength() >= directFrom
			if w.data, err = to.Place(&w.head); err != nil {
				return err
			}
		}
		if w.got < len(w.data) {
			n := copy(w.data[w.got:], w.in[w.from:w.to])
			w.count(w.data[w.got : w.got+n])
			if w.from += n; w.got < len(w.data) {
				return w.rouseAt(min(len(w.data)-w.got, mostAwaited))
			}
		}
		trailer := w.trailer(len(w.data))
		if w.to-w.from < trailer {
			return w.rouseAt(1)
		}
		if err := w.checkTrailer(len(w.data), w.sum, w.in[w.from:w.from+trailer]); err != nil {
			return err
		}
		w.from += trailer
		w.inData = false
		if err := to.Take(&w.head, w.data); err != nil {
			return err
		}
	}
}

// Unsent is a wire over what was put on this one and not sent yet, for tests.
func (w *Wire) Unsent() *Wire {
	var all []byte
	for _, v := range w.parts[w.first:] {
		all = append(all, unsafe.Slice(v.Base, v.Len)...)
	}
	return Over(all)
}
