package host

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// share describes a mounted share and the way to its server.
func (w *walk) share(m mount) setup.Layer {
	protocol := "nfs"
	if m.kind == "cifs" || m.kind == "smb3" {
		protocol = "smb"
	}
	w.know("transport.protocol", protocol)
	w.know("transport.options", m.options)
	layer := setup.Layer{Kind: "network", Name: m.source, Words: protocol + " share " + m.source, Below: []setup.Layer{}}
	for option := range strings.SplitSeq(m.options, ",") {
		name, value, _ := strings.Cut(option, "=")
		switch name {
		case "addr":
			w.know("transport.address", value)
			w.link(value)
			layer.Words += " at " + value
		case "nconnect":
			if n, err := strconv.Atoi(value); err == nil {
				w.know("transport.connections", n)
			}
		}
	}
	return layer
}

// Link tells of the interface that leads to an address: rate, MTU, driver and
// how many lines it bundles.
func (e *Explorer) Link(ctx context.Context, address string) (setup.Setup, []string) {
	w := e.walk(ctx)
	w.link(address)
	return w.facts, w.seen.Troubles
}

func (w *walk) link(address string) {
	to, err := netip.ParseAddr(address)
	if err != nil {
		w.trouble("the way to %q: it is not an address", address)
		return
	}
	if w.isOurs(to) { // nothing leaves this host: there is no line, and no size of packets to mind
		w.know("link[0].interface", "lo")
		return
	}
	name, err := w.route(to)
	if err != nil {
		w.trouble("the way to %s: %v", address, err)
		return
	}
	folder := filepath.Join(w.sys, "class/net", name)
	w.know("link[0].interface", name)
	if mtu, ok := w.number(w.ctx, folder, "mtu"); ok {
		w.know("link[0].mtuHere", mtu)
	}
	if driver, err := ask(w.ctx, w.limit, folder, "driver", func() (string, error) { return os.Readlink(filepath.Join(folder, "device/driver")) }); err == nil {
		w.know("link[0].driver", filepath.Base(driver))
	}
	lines, _ := w.text(w.ctx, folder, "bonding/slaves")
	if members := strings.Fields(lines); len(members) > 0 {
		mode, _ := w.text(w.ctx, folder, "bonding/mode")
		w.know("link[0].count", len(members))
		if len(members) > 1 {
			w.know("link[0].combined", "hashed bundle")
		}
		w.know("tuning.bond-mode", mode)
		folder = filepath.Join(w.sys, "class/net", members[0])
	}
	// Megabits; -1 where there is no line, as on a virtual interface.
	if rate, ok := w.number(w.ctx, folder, "speed"); ok && rate > 0 {
		w.know("link[0].rate", quantity.ByteRate(float64(rate)*1e6/8))
	} else {
		w.trouble("the line rate of %s is not told", name)
	}
}

// isOurs reports whether an address is one of this host's own.
func (w *walk) isOurs(to netip.Addr) bool {
	if to.IsLoopback() {
		return true
	}
	ours, err := w.addresses()
	return err == nil && slices.ContainsFunc(ours, func(a net.Addr) bool {
		prefix, err := netip.ParsePrefix(a.String())
		return err == nil && prefix.Addr().Unmap() == to.Unmap()
	})
}

// route finds the interface that leads to an address, from the kernel's table
// (proc_net_route(5)): the longest prefix wins.
func (w *walk) route(to netip.Addr) (string, error) {
	text, err := w.text(w.ctx, w.proc, "net/route")
	if err != nil {
		return "", err
	}
	best, name := -1, ""
	for line := range strings.Lines(text) {
		fields := strings.Fields(line)
		if len(fields) < 8 || !to.Is4() {
			continue
		}
		destination, err1 := strconv.ParseUint(fields[1], 16, 32)
		mask, err2 := strconv.ParseUint(fields[7], 16, 32)
		if err1 != nil || err2 != nil {
			continue
		}
		bytes := to.As4()
		// The table has addresses in the host's order of a network number.
		if uint64(binary.LittleEndian.Uint32(bytes[:]))&mask != destination {
			continue
		}
		if length := ones(mask); length > best {
			best, name = length, fields[0]
		}
	}
	if name == "" {
		return "", errors.New("no route leads there")
	}
	return name, nil
}

func ones(mask uint64) (n int) {
	for ; mask != 0; mask >>= 1 {
		n += int(mask & 1)
	}
	return n
}

// echoTime is how long an answer to one echo is waited for.
const echoTime = 150 * time.Millisecond

// ProbeMTU finds the largest packet that reaches an address without being
// split: ICMP echoes with don't-fragment set (RFC 792, RFC 791, and ip(7) for
// IP_PMTUDISC_PROBE, which sends at the size of the interface whatever the
// kernel remembers). It needs the right to open a raw or a ping socket.
func ProbeMTU(ctx context.Context, address string, mtu int) setup.Probe {
	p := setup.Probe{Address: address, MTU: mtu}
	to, err := netip.ParseAddr(address)
	if err != nil || !to.Is4() {
		p.Trouble = "only an IPv4 address can be probed"
		return p
	}
	// From the outside in: mostly the full size passes, or the usual one.
	sizes := []int{mtu}
	for _, usual := range []int{9000, 4000, 1500, 1400, 576} {
		if usual < mtu {
			sizes = append(sizes, usual)
		}
	}
	for _, size := range sizes {
		for range 2 { // one may be lost
			if ctx.Err() != nil {
				p.Trouble = fmt.Sprintf("the look had no time left to try packets of %d bytes", size)
				return p
			}
			answered, err := echo(to, size)
			if err != nil {
				p.Trouble = err.Error()
				return p
			}
			if answered {
				p.Largest = size
				return p
			}
		}
	}
	return p
}

// echo sends one echo in a packet of the given size and waits for its answer.
func echo(to netip.Addr, size int) (bool, error) {
	kind := unix.SOCK_RAW
	socket, err := unix.Socket(unix.AF_INET, kind|unix.SOCK_CLOEXEC, unix.IPPROTO_ICMP)
	if err != nil {
		kind = unix.SOCK_DGRAM
		if socket, err = unix.Socket(unix.AF_INET, kind|unix.SOCK_CLOEXEC, unix.IPPROTO_ICMP); err != nil {
			return false, fmt.Errorf("open a socket for echoes: %w; run the service as root or allow it in net.ipv4.ping_group_range", err)
		}
	}
	defer unix.Close(socket)
	if err := unix.SetsockoptInt(socket, unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_PROBE); err != nil {
		return false, fmt.Errorf("forbid splitting: %w", err)
	}
	if err := unix.Connect(socket, &unix.SockaddrInet4{Addr: to.As4()}); err != nil {
		return false, fmt.Errorf("the way to %s: %w", to, err)
	}
	const ipHeader, echoHeader = 20, 8
	packet := make([]byte, max(size-ipHeader, echoHeader))
	packet[0] = 8 // echo request
	binary.BigEndian.PutUint16(packet[4:], uint16(os.Getpid()))
	binary.BigEndian.PutUint16(packet[6:], uint16(size))
	binary.BigEndian.PutUint16(packet[2:], checksum(packet))
	if _, err := unix.Write(socket, packet); err != nil {
		if errors.Is(err, unix.EMSGSIZE) {
			return false, nil // not even this end sends it whole
		}
		return false, fmt.Errorf("send to %s: %w", to, err)
	}
	deadline := time.Now().Add(echoTime)
	answer := make([]byte, size+64)
	for time.Now().Before(deadline) {
		left := time.Until(deadline)
		limit := unix.NsecToTimeval(max(left, time.Millisecond).Nanoseconds())
		if err := unix.SetsockoptTimeval(socket, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &limit); err != nil {
			return false, err
		}
		n, err := unix.Read(socket, answer)
		if err != nil {
			continue // nothing yet, or an error that is about an earlier packet
		}
		body := answer[:n]
		if kind == unix.SOCK_RAW && n > ipHeader {
			body = answer[int(answer[0]&0xf)*4 : n]
		}
		if len(body) >= echoHeader && body[0] == 0 && binary.BigEndian.Uint16(body[6:]) == uint16(size) {
			return true, nil
		}
	}
	return false, nil
}

// checksum is the Internet checksum (RFC 1071).
func checksum(packet []byte) uint16 {
	sum := uint32(0)
	for i := 0; i+1 < len(packet); i += 2 {
		sum += uint32(binary.BigEndian.Uint16(packet[i:]))
	}
	if len(packet)%2 == 1 {
		sum += uint32(packet[len(packet)-1]) << 8
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return ^uint16(sum)
}
