// Package iscsi serves units over iSCSI (RFC 7143), such as a simulated array in real
// time, so that hosts and our own initiator can be tried against storage whose behaviour is
// known.
//
// Each connection has a thread of its own that drives it without blocking; operations are
// done by the unit's disk, at once or when a simulated array would have done them. Server
// is the main type, Unit what it serves.
package iscsi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"sync"

	"patientheron/core/wall"
	"patientheron/protocol/iscsi"
	"patientheron/protocol/iscsi/wire"
)

// Options say what is served and how.
type Options struct {
	Name   string // of the target
	Alias  string
	Units  map[uint16]*Unit // by their number
	Wishes iscsi.Wishes     // what it agrees to at most; usual where nothing is said
	Users  []iscsi.Proof    // who may log in; none for anybody
	Own    iscsi.Proof      // what it proves itself by when it is asked to
	Link   Link             // between its portals and who connects to them
	Log    *slog.Logger
}

// usual are the values that a target agrees to for keys of which its options say nothing:
// large ones, so that it is not what limits.
var usual = iscsi.Wishes{
	iscsi.SegmentLength: "262144", iscsi.InitialR2T: "No", iscsi.ImmediateData: "Yes", iscsi.MaxBurst: "16776192", iscsi.FirstBurst: "262144",
	iscsi.OutstandingR2T: "8", iscsi.HeaderDigest: "None,CRC32C", iscsi.DataDigest: "None,CRC32C",
}

// mostConnections is how many a server has at a time.
const mostConnections = 1024

// Server is a target with its portals.
type Server struct {
	options   Options
	listeners []net.Listener
	over      sync.WaitGroup

	mutex    sync.Mutex
	closed   bool
	all      map[*connection]bool
	handle   uint16
	sessions int // that were logged in
}

// Listen begins to serve at addresses such as 127.0.0.1:3260.
func Listen(ctx context.Context, o Options, addresses ...string) (*Server, error) {
	if !iscsi.ValidName(o.Name) {
		return nil, fmt.Errorf("%q is not the name of a target, which begins with iqn., eui. or naa. and has small letters", o.Name)
	}
	if err := o.Link.Check(); err != nil {
		return nil, err
	}
	agreed := maps.Clone(usual)
	if o.Wishes[iscsi.MaxBurst] != "" && o.Wishes[iscsi.FirstBurst] == "" {
		delete(agreed, iscsi.FirstBurst) // no more than that
	}
	maps.Copy(agreed, o.Wishes)
	if err := agreed.Check(); err != nil {
		return nil, err
	}
	o.Wishes = agreed
	s := &Server{options: o, all: map[*connection]bool{}}
	var config net.ListenConfig
	for _, address := range addresses {
		l, err := config.Listen(ctx, "tcp", address)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("listen on a portal: %w", err), s.Close())
		}
		s.listeners = append(s.listeners, l)
	}
	for _, l := range s.listeners {
		s.over.Go(func() { s.accept(ctx, l) })
	}
	return s, nil
}

// Portals are the addresses that are listened on.
func (s *Server) Portals() (portals []string) {
	for _, l := range s.listeners {
		portals = append(portals, l.Addr().String())
	}
	return portals
}

func (s *Server) accept(ctx context.Context, l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return // it was closed
		}
		local, remote := conn.LocalAddr().String(), conn.RemoteAddr().String()
		if !s.options.Link.none() {
			if conn, err = s.options.Link.through(ctx, conn, &s.over); err != nil {
				continue
			}
		}
		w, err := wire.From(conn)
		_ = conn.Close() // the wire has a descriptor of its own
		if err != nil {
			continue
		}
		s.serve(w, local, remote)
	}
}

func (s *Server) serve(w *wire.Wire, local, remote string) {
	c, err := newConnection(s, w, local)
	if err != nil {
		w.Close()
		return
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.closed || len(s.all) >= mostConnections {
		c.close()
		return
	}
	s.all[c] = true
	s.over.Go(func() {
		err := wall.Do(c.run)
		s.mutex.Lock()
		delete(s.all, c)
		alone := !c.sharesInitiator()
		s.mutex.Unlock()
		if c.initiator != "" && alone {
			for _, u := range s.options.Units {
				u.left(c.initiator)
			}
		}
		c.close()
		if err != nil && s.options.Log != nil {
			s.options.Log.Info("a connection ended", "from", remote, "initiator", c.initiator, "because", err)
		}
	})
}

// sharesInitiator reports whether the initiator has another connection.
func (c *connection) sharesInitiator() bool {
	for other := range c.server.all {
		if other != c && other.initiator == c.initiator {
			return true
		}
	}
	return false
}

// loggedIn takes a connection that is logged in. One of the same session is ended: this one
// takes its place (RFC 7143, 6.3.5).
func (s *Server) loggedIn(c *connection, a *iscsi.Accept) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for other := range s.all {
		if other != c && other.initiator == a.Initiator && other.target == a.Target && other.isid == a.Session && a.Target != "" {
			other.stop()
		}
	}
	c.initiator, c.target, c.isid = a.Initiator, a.Target, a.Session
	c.number = s.sessions
	s.sessions++
}

func (s *Server) nextHandle() uint16 {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.handle++; s.handle == 0 {
		s.handle++
	}
	return s.handle
}

// admission says how a target may be logged in to; "" is for discovery.
func (s *Server) admission(target string) (iscsi.Admission, bool) {
	o := s.options
	return iscsi.Admission{Wishes: o.Wishes, Users: o.Users, Own: o.Own, Alias: o.Alias}, target == "" || target == o.Name
}

// targets answers SendTargets, over a portal with an address.
func (s *Server) targets(name, local string) iscsi.Text {
	if name != "All" && name != "" && name != s.options.Name {
		return nil
	}
	t := iscsi.Text{{Key: "TargetName", Value: s.options.Name}}
	for _, l := range s.listeners {
		at := l.Addr().(*net.TCPAddr)
		address := at.String()
		if at.IP.IsUnspecified() { // of those of this host the one that was asked is reached
			host, _, _ := net.SplitHostPort(local)
			address = net.JoinHostPort(host, fmt.Sprint(at.Port))
		}
		t = append(t, iscsi.Pair{Key: "TargetAddress", Value: address + ",1"})
	}
	return t
}

// numbers are those of the units, in order.
func (s *Server) numbers() (all []uint16) {
	for n := range s.options.Units {
		all = append(all, n)
	}
	slices.SortFunc(all, cmp.Compare[uint16])
	return all
}

// Close ends all connections. The units stay.
func (s *Server) Close() error {
	var errs []error
	for _, l := range s.listeners {
		errs = append(errs, l.Close())
	}
	s.mutex.Lock()
	s.closed = true
	for c := range s.all {
		c.stop()
	}
	s.mutex.Unlock()
	s.over.Wait()
	return errors.Join(errs...)
}
