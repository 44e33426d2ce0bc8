package iscsi

import (
	"context"
	"errors"
	"net"
	"slices"
	"sync"
	"time"

	"patientheron/core/quantity"
)

// Link is what stands between the portals of a target and who connects to them, simulated:
// what is sent arrives a delay later, either way, and no faster than a rate.
type Link struct {
	Delay quantity.Seconds  // each way
	Rate  quantity.ByteRate // each way; 0 for as fast as it can
}

// The limits of a link.
const (
	mostDelay quantity.Seconds = 10
	// piece is read and sent on at a time, and held is how much of that a link takes in
	// before it lets the sender wait.
	piece = 64 << 10
	held  = 1024
)

// Check reports a link that cannot be.
func (l Link) Check() error {
	if !(l.Delay >= 0 && l.Delay <= mostDelay) {
		return errors.New("a link delays by nothing up to ten seconds")
	}
	if !(l.Rate >= 0) || l.Rate > 0 && l.Rate < 1000 {
		return errors.New("a link carries at least a kilobyte a second")
	}
	return nil
}

// none reports a link that does nothing.
func (l Link) none() bool { return l == Link{} }

// through gives a connection whose other end is that of conn, over the link. Over counts
// what carries it on.
func (l Link) through(ctx context.Context, conn net.Conn, over *sync.WaitGroup) (net.Conn, error) {
	near, far, err := pair(ctx)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	for _, way := range [][2]*net.TCPConn{{conn.(*net.TCPConn), far}, {far, conn.(*net.TCPConn)}} {
		over.Go(func() { l.carry(way[0], way[1]) })
	}
	return near, nil
}

// pair are two ends of a connection within this host.
func pair(ctx context.Context) (near, far *net.TCPConn, err error) {
	var config net.ListenConfig
	listener, err := config.Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	defer listener.Close()
	var dialer net.Dialer
	dialed, err := dialer.DialContext(ctx, "tcp", listener.Addr().String())
	if err != nil {
		return nil, nil, err
	}
	for {
		accepted, err := listener.Accept()
		if err != nil {
			return nil, nil, errors.Join(err, dialed.Close())
		}
		if accepted.RemoteAddr().String() == dialed.LocalAddr().String() {
			return dialed.(*net.TCPConn), accepted.(*net.TCPConn), nil
		}
		_ = accepted.Close() // somebody else
	}
}

// carry sends what comes from one end on to the other, later, until either is closed. Then
// both are, when what came before has been passed on: a session has no use for half a
// connection.
func (l Link) carry(from, to *net.TCPConn) {
	type sent struct {
		data []byte
		due  time.Time
		err  error
	}
	under, gone := make(chan sent, held), make(chan struct{})
	var reading sync.WaitGroup
	reading.Go(func() {
		defer close(under)
		free := time.Now() // when the link has carried what was sent before
		buffer := make([]byte, piece)
		for {
			n, err := from.Read(buffer)
			now := time.Now()
			if free.Before(now) {
				free = now
			}
			if l.Rate > 0 {
				free = free.Add(quantity.Seconds(float64(n) / float64(l.Rate)).Duration())
			}
			select {
			case under <- sent{slices.Clone(buffer[:n]), free.Add(l.Delay.Duration()), err}:
			case <-gone:
				return
			}
			if err != nil {
				return
			}
		}
	})
	for s := range under {
		time.Sleep(time.Until(s.due))
		_, failed := to.Write(s.data)
		if failed == nil && s.err == nil {
			continue
		}
		_ = from.Close()
		_ = to.Close()
		break
	}
	close(gone)
	reading.Wait()
}
