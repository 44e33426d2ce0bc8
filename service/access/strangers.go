package access

import (
	"context"
	"net"
	"sync"
)

// Strangers is a listener that keeps no more than so many connections open over which nobody
// has shown yet that he may call: when one more comes, the one that has been there longest is
// closed. So nobody can shut others out by holding connections.
type Strangers struct {
	net.Listener
	Most int

	mu  sync.Mutex
	all []*stranger // the one that has been there longest first
}

// stranger is a connection over which nobody has shown that he may call.
type stranger struct {
	net.Conn
	of *Strangers
}

// Accept gives the next connection.
func (l *Strangers) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	s := &stranger{conn, l}
	l.mu.Lock()
	l.all = append(l.all, s)
	var oldest *stranger
	if len(l.all) > l.Most {
		oldest, l.all = l.all[0], l.all[1:]
	}
	l.mu.Unlock()
	if oldest != nil {
		_ = oldest.Conn.Close()
	}
	return s, nil
}

// forget counts a connection no longer.
func (l *Strangers) forget(s *stranger) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i, other := range l.all {
		if other == s {
			l.all = append(l.all[:i], l.all[i+1:]...)
			return
		}
	}
}

// Close ends the connection.
func (s *stranger) Close() error {
	s.of.forget(s)
	return s.Conn.Close()
}

type connectionKey struct{}

// Over notes in a context which connection its calls come over; it is the ConnContext of a
// server.
func Over(ctx context.Context, conn net.Conn) context.Context {
	return context.WithValue(ctx, connectionKey{}, conn)
}

// Known tells that whoever calls over the connection of a context may do so.
func Known(ctx context.Context) {
	if s, is := ctx.Value(connectionKey{}).(*stranger); is {
		s.of.forget(s)
	}
}
