// Package service is the long-running service: it owns a data folder, carries
// out runs and answers the API and the console.
//
// Open takes a data folder and holds it until Close; Listen serves it on the
// network, Client serves it inside this process. One process at a time uses a
// data folder.
package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/client"
	"patientheron/console"
	"patientheron/service/access"
	"patientheron/service/api"
	"patientheron/service/aside"
	"patientheron/service/leftover"
	"patientheron/service/room"
	"patientheron/service/runner"
	"patientheron/service/store"
	"patientheron/storage"
)

// ErrInUse is given when another process uses the data folder.
var ErrInUse = errors.New("the data folder is in use")

// Names within the data folder.
const (
	databaseFile = "heron.sqlite"
	tokenFile    = "token"
	lockFile     = "lock"
	reserveFile  = "reserve" // room for the end of a run when there is no other
	arrayFolder  = "arrays"  // array files that were handed over
	secretsFile  = "secrets" // what users log in to targets with
	// AddressFile holds the address of the service that listens, so that the
	// command line finds it.
	AddressFile = "address"
	socketFile  = "socket" // over which this user's programs on this host reach it
)

// Service is an open data folder with everything that works on it.
type Service struct {
	Token string

	folder  string
	lock    *os.File
	log     *slog.Logger
	store   *store.Store
	aside   *aside.Keeper
	runner  *runner.Runner
	handler http.Handler
}

// Options say how a service works.
type Options struct {
	Folder  string // its data folder
	Version string
	Log     *slog.Logger
	Arrays  []string // folders whose array files it reads, beside its own
	Names   []string // by which it is reached, beside this host's own
	Secrets string   // file of what users log in to targets with; "" for that in the data folder
	// Alone is a service for the one command it lives in: it reads the array
	// files that its user may read, and carries out no runs but those asked of
	// it.
	Alone bool
}

// Open takes the data folder, making it when it does not exist, and begins
// with the runs that are queued there. It gives ErrInUse when another process
// has it.
func Open(ctx context.Context, o Options) (*Service, error) {
	if err := makePrivate(o.Folder, o.Log); err != nil {
		return nil, err
	}
	folder, err := filepath.Abs(o.Folder)
	if err != nil {
		return nil, fmt.Errorf("find the data folder: %w", err)
	}
	lock, err := lockFolder(folder)
	if err != nil {
		return nil, err
	}
	s := &Service{folder: folder, lock: lock, log: o.Log}
	if err := s.open(ctx, o); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Service) open(ctx context.Context, o Options) (err error) {
	if s.Token, err = readToken(s.folder); err != nil {
		return err
	}
	if s.store, err = store.Open(ctx, filepath.Join(s.folder, databaseFile)); err != nil {
		return err
	}
	own := filepath.Join(s.folder, arrayFolder)
	bounds := storage.Bounds{Kept: []string{s.folder}, Shelf: own, Arrays: append([]string{own}, o.Arrays...)}
	if o.Alone {
		bounds.Arrays = []string{"/"}
	}
	bounds.Secrets = cmp.Or(o.Secrets, filepath.Join(s.folder, secretsFile))
	left := leftover.New(s.store)
	bounds.Traces = left
	if files, err := left.List(ctx); err != nil {
		return err
	} else if len(files) > 0 {
		o.Log.Warn("test files were left behind when an earlier service ended; 'heron leftover' lists and removes them", "files", len(files), "first", files[0].Path)
	}
	if s.runner, err = runner.Start(ctx, runner.Options{
		Store: s.store, Bounds: bounds, Room: room.Hold(filepath.Join(s.folder, reserveFile)), Log: o.Log, Version: o.Version, Alone: o.Alone,
	}); err != nil {
		return err
	}
	s.aside = aside.New(func() bool { return s.runner.Measuring() > 0 })
	s.handler = (&api.Service{
		Store: s.store, Runner: s.runner, Bounds: bounds, Leftovers: left, Aside: s.aside, Token: s.Token, Names: o.Names, Version: o.Version,
		Console: console.Files(), Log: o.Log, Started: time.Now().UTC(),
	}).Handler()
	return nil
}

// TokenFile is where the service's token is.
func (s *Service) TokenFile() string { return filepath.Join(s.folder, tokenFile) }

// Close stops the run under way, records that, and gives the data folder
// back.
func (s *Service) Close() error {
	var errs []error
	if s.aside != nil {
		s.aside.Close()
	}
	if s.runner != nil {
		s.runner.Close()
	}
	if s.store != nil {
		errs = append(errs, s.store.Close())
	}
	return errors.Join(append(errs, s.lock.Close())...)
}

// Listen serves on the given address until ctx ends. Ready is called with the
// address once connections are taken.
func (s *Service) Listen(ctx context.Context, address string, ready func(url string)) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; choose another with --listen", address, err)
	}
	url := "http://" + listener.Addr().String()
	known := filepath.Join(s.folder, AddressFile)
	if err := os.WriteFile(known, []byte(url+"\n"), 0o600); err != nil {
		listener.Close()
		return fmt.Errorf("note the address of the service: %w", err)
	}
	defer os.Remove(known)
	if stop, err := s.serveOwn(ctx); err != nil {
		s.log.Warn("programs of this host reach the service over its address alone", "because", err)
	} else {
		defer stop()
	}
	ready(url)
	return s.serve(ctx, &access.Strangers{Listener: listener, Most: mostStrangers}, false)
}

// mostStrangers is how many connections there are at most over which nobody has shown yet
// that he may call.
const mostStrangers = 128

// serveOwn serves this user's programs on this host, over a socket in the data folder, until
// stop is called.
func (s *Service) serveOwn(ctx context.Context) (stop func(), err error) {
	path := filepath.Join(s.folder, socketFile)
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) { // of a service that was killed
		return nil, err
	}
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	own, end := context.WithCancel(ctx)
	over := make(chan struct{})
	go func() {
		defer close(over)
		_ = s.serve(own, access.OwnPeers{UnixListener: listener}, true)
	}()
	return func() { end(); <-over }, nil
}

// serve serves until ctx ends. Private is set where nobody else can connect.
func (s *Service) serve(ctx context.Context, listener net.Listener, private bool) error {
	// Watchers end with ctx, so that closing need not wait for them.
	server := &http.Server{
		Handler: s.handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, ConnContext: access.Over,
		BaseContext: func(net.Listener) context.Context {
			if private {
				return access.Private(ctx)
			}
			return ctx
		},
	}
	done := make(chan error, 1)
	go func() { done <- server.Serve(listener) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		soon, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		if err := server.Shutdown(soon); err != nil {
			return server.Close()
		}
		return nil
	}
}

// Client serves the API inside this process, on no network, until ctx ends.
func (s *Service) Client(ctx context.Context) *client.Client {
	pipe := newPipe()
	go func() { _ = s.serve(ctx, pipe, true) }()
	return client.Over("this process", pipe.dial)
}

// lockFolder makes sure that one process uses the folder. The lock goes with
// the process, however that ends.
func lockFolder(folder string) (*os.File, error) {
	path := filepath.Join(folder, lockFile)
	lock, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the data folder: %w; name another with --data", err)
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("%w: another heron works on %s; use that service (leave out --here), or name another folder with --data", ErrInUse, folder)
	}
	return lock, nil
}

// locked reports whether a service works on the folder.
func locked(folder string) bool {
	lock, err := os.Open(filepath.Join(folder, lockFile))
	if err != nil {
		return false
	}
	defer lock.Close()
	return errors.Is(unix.Flock(int(lock.Fd()), unix.LOCK_SH|unix.LOCK_NB), unix.EWOULDBLOCK)
}

// readToken reads the service's token, making one at the first start.
func readToken(folder string) (string, error) {
	path := filepath.Join(folder, tokenFile)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		token := rand.Text()
		return token, os.WriteFile(path, []byte(token+"\n"), 0o600)
	}
	if err != nil {
		return "", fmt.Errorf("read the token: %w", err)
	}
	token := strings.TrimSpace(string(text))
	if len(token) < 16 {
		return "", fmt.Errorf("the token in %s is shorter than 16 characters; write a longer one, or remove the file to have one made", path)
	}
	return token, nil
}

// Find tells the address and the token of the service that works on a data
// folder.
func Find(folder string) (url, token string, err error) {
	address, err := os.ReadFile(filepath.Join(folder, AddressFile))
	// An address that a killed service left behind may be another program's by
	// now; the lock went with the service.
	if errors.Is(err, fs.ErrNotExist) || err == nil && !locked(folder) {
		return "", "", fmt.Errorf("no service works on the data folder %s; start one with 'heron serve', name another with --service, or add --here to work without one", folder)
	}
	if err != nil {
		return "", "", fmt.Errorf("find the service: %w", err)
	}
	token, err = readToken(folder)
	return strings.TrimSpace(string(address)), token, err
}

// Own gives a client of the service that works on a data folder of this user's, over its
// socket; the error is about there being none.
func Own(folder string) (*client.Client, error) {
	if !locked(folder) {
		return nil, ErrInUse
	}
	path, err := filepath.Abs(filepath.Join(folder, socketFile))
	if err != nil {
		return nil, err
	}
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", path)
	}
	conn, err := dial(context.Background(), "", "")
	if err != nil {
		return nil, err
	}
	return client.Over(path, dial), conn.Close()
}

// pipe is a listener whose connections never leave the process.
type pipe struct {
	connections chan net.Conn
	closed      chan struct{}
}

func newPipe() *pipe { return &pipe{make(chan net.Conn), make(chan struct{})} }

func (p *pipe) dial(ctx context.Context, _, _ string) (net.Conn, error) {
	here, there := net.Pipe()
	select {
	case p.connections <- there:
		return here, nil
	case <-p.closed:
		return nil, net.ErrClosed
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (p *pipe) Accept() (net.Conn, error) {
	select {
	case c := <-p.connections:
		return c, nil
	case <-p.closed:
		return nil, net.ErrClosed
	}
}

func (p *pipe) Close() error   { close(p.closed); return nil }
func (p *pipe) Addr() net.Addr { return pipeAddress{} }

type pipeAddress struct{}

func (pipeAddress) Network() string { return "pipe" }
func (pipeAddress) String() string  { return "in this process" }
