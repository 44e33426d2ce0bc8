package access

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

type privateKey struct{}

// Private marks what comes over a connection that nobody but the service's own user can make:
// within its process, or over a socket whose other side the kernel tells.
func Private(ctx context.Context) context.Context { return context.WithValue(ctx, privateKey{}, true) }

// IsPrivate reports what Private marked.
func IsPrivate(ctx context.Context) bool { return ctx.Value(privateKey{}) != nil }

// OwnPeers is a listener on a Unix socket that takes connections of this user, and of root.
type OwnPeers struct{ *net.UnixListener }

// Accept gives the next connection of this user or of root; others are closed.
func (l OwnPeers) Accept() (net.Conn, error) {
	for {
		conn, err := l.AcceptUnix()
		if err != nil {
			return nil, err
		}
		if uid, err := PeerOf(conn); err == nil && (uid == os.Geteuid() || uid == 0) {
			return conn, nil
		}
		conn.Close()
	}
}

// PeerOf is the user on the other side of a Unix socket, as the kernel tells (SO_PEERCRED,
// unix(7)).
func PeerOf(conn *net.UnixConn) (uid int, err error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var peer *unix.Ucred
	var failed error
	if err := raw.Control(func(fd uintptr) { peer, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) }); err != nil {
		return 0, err
	}
	if failed != nil {
		return 0, failed
	}
	return int(peer.Uid), nil
}

// Nonces remembers what was signed lately, so that each signed request is taken once. Its
// zero value is ready.
type Nonces struct {
	mu          sync.Mutex
	now, before map[string]bool
	since       time.Time
}

// New reports whether a nonce was not seen within some time, and remembers it.
func (n *Nonces) New(nonce string, at time.Time, within time.Duration) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.now == nil || at.Sub(n.since) > 2*within {
		n.before, n.now, n.since = n.now, map[string]bool{}, at
	}
	if n.now[nonce] || n.before[nonce] {
		return false
	}
	n.now[nonce] = true
	return true
}

// OurAddress reports whether an address that a client is connected to is that at which the
// service took its call, or one of those by which it is reached.
func OurAddress(given string, local net.Addr, reached []string) bool {
	theirs, err := netip.ParseAddrPort(given)
	if err != nil {
		return false
	}
	for _, name := range reached {
		if at, err := netip.ParseAddrPort(name); err == nil && plain(at) == plain(theirs) {
			return true
		}
	}
	if local == nil {
		return false
	}
	ours, err := netip.ParseAddrPort(local.String())
	return err == nil && plain(ours) == plain(theirs)
}

// plain leaves out what does not tell addresses apart.
func plain(a netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(a.Addr().Unmap().WithZone(""), a.Port())
}

// place is where a connection comes from: an address, or a user of this host.
func place(remote string) string {
	at, err := netip.ParseAddrPort(remote)
	if err != nil {
		return remote
	}
	if at = plain(at); at.Addr().IsLoopback() {
		if uid := userOf(at); uid != "" {
			return "user " + uid + " of this host"
		}
	}
	return at.Addr().String()
}

// userOf is who has a socket of this host, by its local address (/proc/net/tcp, proc(5)).
func userOf(at netip.AddrPort) string {
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		text, err := os.ReadFile(table)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			// Fields: number local remote state queues timer retransmits uid …
			fields := strings.Fields(line)
			if len(fields) > 7 && readAddress(fields[1]) == at {
				return fields[7]
			}
		}
	}
	return ""
}

// readAddress reads an address of /proc/net/tcp: words of the host's byte order, in
// hexadecimal, and the port.
func readAddress(text string) (at netip.AddrPort) {
	words, port, _ := strings.Cut(text, ":")
	b, err := hex.DecodeString(words)
	var number uint16
	if _, scanned := fmt.Sscanf(port, "%x", &number); err != nil || scanned != nil || len(b)%4 != 0 {
		return at
	}
	for word := range slices.Chunk(b, 4) {
		binary.NativeEndian.PutUint32(word, binary.BigEndian.Uint32(word))
	}
	address, ok := netip.AddrFromSlice(b)
	if !ok {
		return at
	}
	return plain(netip.AddrPortFrom(address, number))
}
