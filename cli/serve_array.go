package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"patientheron/core/array"
	"patientheron/core/quantity"
	"patientheron/format/secretfile"
	"patientheron/protocol/iscsi"
	served "patientheron/served/iscsi"
	"patientheron/storage/simulated"
)

// serveArrayOptions are the flags of 'heron array serve'.
type serveArrayOptions struct {
	listen, limits    []string
	name, users, size string
	delay             quantity.Seconds
	rate              string
	block             int
	instant           bool
	counters          string
}

func (a *app) serveArray() *cobra.Command {
	var o serveArrayOptions
	var with []string
	var delay string
	command := &cobra.Command{
		Use: "serve FILE", Short: "Serve a simulated array over iSCSI, in real time", Args: cobra.ExactArgs(1),
		Long: `Serve a simulated array as a LUN over iSCSI, in real time: a command completes when the
array would have completed it, so that any initiator can be tested against storage whose
behaviour is known (docs/iscsi.md). With --instant it answers as fast as it can.

Written data are kept in memory and are gone when the command ends. The target listens on
this host only, unless --listen names another address. Anyone who reaches it may read and
write, unless --users names who may.

--link-delay and --link-rate simulate a link between target and initiator, to see on one
host how session parameters behave over a distance.

--session-limit sets the most that the target negotiates for a session key, such as
InitialR2T=No or MaxBurstLength=65536. Ctrl-C ends it.`,
		Example: `  heron array serve plain.yaml
  heron array serve plain.yaml --listen 127.0.0.1:3260 --listen 127.0.0.1:3261
  heron array serve plain.yaml --session-limit InitialR2T=No
  heron array serve plain.yaml --counters 127.0.0.1:9264
  heron array serve plain.yaml --instant --link-delay 2ms --link-rate 1Gb/s
  heron array serve plain.yaml --instant --size 1GiB --users users.yaml`,
		RunE: func(command *cobra.Command, arguments []string) error {
			ctx, stop := signal.NotifyContext(command.Context(), syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			settings, err := readWith(with)
			if err != nil {
				return err
			}
			if o.delay, err = quantity.ParseSeconds(delay); err != nil {
				return fmt.Errorf("--link-delay: %w", err)
			}
			d, err := simulated.ReadFile(arguments[0], settings...)
			if err != nil {
				return err
			}
			return o.serve(ctx, command, d, arguments[0])
		},
	}
	flags := command.Flags()
	flags.StringArrayVar(&o.listen, "listen", []string{fmt.Sprintf("127.0.0.1:%d", iscsi.Port)}, "address of a portal; port 0 takes a free one (repeatable)")
	flags.StringVar(&o.name, "name", "", "name of the target (iqn.2026-01.invalid.patient-heron: and the name of the file)")
	flags.StringVar(&o.users, "users", "", "file with the CHAP secrets of those who may log in (docs/iscsi.md); nobody else may then")
	flags.StringArrayVar(&o.limits, "session-limit", nil, "KEY=VALUE: the most that the target negotiates (repeatable)")
	flags.IntVar(&o.block, "logical-block", 512, "logical block size of the LUN in bytes: 512 or 4096")
	flags.BoolVar(&o.instant, "instant", false, "answer as fast as it can, and not as the array would")
	flags.StringVar(&o.size, "size", "", "with --instant: size of the LUN, in place of the array's")
	flags.StringVar(&delay, "link-delay", "0", "simulated one-way delay of the link, such as 2ms")
	flags.StringVar(&o.rate, "link-rate", "", "simulated rate of the link in each direction, such as 1Gb/s")
	flags.StringVar(&o.counters, "counters", "", "address to serve counters at, in the Prometheus text format, such as 127.0.0.1:9264")
	flags.StringArrayVar(&with, "set", nil, "KEY=VALUE: use another value for a key of the array file, such as members.count=10; none removes it")
	return command
}

// serve serves an array until the context ends.
func (o serveArrayOptions) serve(ctx context.Context, command *cobra.Command, d array.Description, path string) error {
	s, err := o.start(ctx, d, path, slog.New(slog.NewTextHandler(command.ErrOrStderr(), nil)))
	if err != nil {
		return err
	}
	for _, portal := range s.Portals() {
		fmt.Fprintf(command.OutOrStdout(), "Serving %s, %s, as %s\n", d.Name, quantity.Bytes(s.size), s.locator(portal))
	}
	if s.counters != nil {
		fmt.Fprintf(command.OutOrStdout(), "Counters at %s\n", s.countersAddress())
	}
	<-ctx.Done()
	return s.close()
}

// servedArray is an array that is being served.
type servedArray struct {
	*served.Server
	name string // of the target
	unit *served.Unit
	size int64

	counters net.Listener // nil where none are told
	telling  http.Server
}

// tell tells the counters at an address.
func (s *servedArray) tell(ctx context.Context, address string) (err error) {
	var config net.ListenConfig
	if s.counters, err = config.Listen(ctx, "tcp", address); err != nil {
		return fmt.Errorf("tell counters: %w", err)
	}
	pages := http.NewServeMux()
	pages.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		_ = s.WriteCounters(w) // who asked is gone
	})
	s.telling = http.Server{Handler: pages, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = s.telling.Serve(s.counters) }()
	return nil
}

func (s *servedArray) countersAddress() string {
	return fmt.Sprintf("http://%s/metrics", s.counters.Addr())
}

// locator is that of the array's unit over a portal.
func (s *servedArray) locator(portal string) string {
	return fmt.Sprintf("iscsi://%s/%s/0", portal, s.name)
}

func (s *servedArray) close() error {
	err := s.Close()
	if s.counters != nil {
		err = errors.Join(err, s.telling.Close())
	}
	s.unit.Close()
	return err
}

// start begins to serve an array that was read from a path.
func (o serveArrayOptions) start(ctx context.Context, d array.Description, path string, log *slog.Logger) (*servedArray, error) {
	options := served.Options{Alias: d.Name, Name: o.name, Wishes: iscsi.Wishes{}, Log: log}
	if options.Name == "" {
		base := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
		options.Name = "iqn.2026-01.invalid.patient-heron:" + plainName(base)
	}
	var err error
	if options.Link, err = o.link(); err != nil {
		return nil, err
	}
	if err := o.limit(options.Wishes); err != nil {
		return nil, err
	}
	if err := o.admit(&options); err != nil {
		return nil, err
	}
	disk, err := o.disk(d)
	if err != nil {
		return nil, err
	}
	turns := slices.ContainsFunc(d.Members, func(g array.Group) bool { return g.Medium == array.HardDisk })
	unit, err := served.NewUnit(disk, int64(o.block), path, d.Name, !turns)
	if err != nil {
		disk.Close()
		return nil, err
	}
	options.Units = map[uint16]*served.Unit{0: unit}
	server, err := served.Listen(ctx, options, o.listen...)
	if err != nil {
		unit.Close()
		return nil, err
	}
	s := &servedArray{Server: server, name: options.Name, unit: unit, size: disk.Size()}
	if o.counters != "" {
		if err := s.tell(ctx, o.counters); err != nil {
			return nil, errors.Join(err, s.close())
		}
	}
	return s, nil
}

// limit reads what the target agrees to at most.
func (o serveArrayOptions) limit(wishes iscsi.Wishes) error {
	for _, limit := range o.limits {
		key, value, found := strings.Cut(limit, "=")
		if !found {
			return fmt.Errorf("--session-limit %s: write it as KEY=VALUE, such as InitialR2T=No", limit)
		}
		k, err := iscsi.KeyNamed(key)
		if err != nil {
			return fmt.Errorf("--session-limit: %w", err)
		}
		wishes[k.Name] = value
	}
	return nil
}

// admit reads who may log in.
func (o serveArrayOptions) admit(options *served.Options) error {
	if o.users == "" {
		return nil
	}
	secrets, err := secretfile.Read(o.users)
	if err != nil {
		return err
	}
	if len(secrets) == 0 {
		return fmt.Errorf("--users %s: nobody is in it; write users and their secrets there (docs/iscsi.md)", o.users)
	}
	for _, s := range secrets {
		options.Users = append(options.Users, iscsi.Proof{Name: s.User, Secret: s.Secret})
		if s.TargetUser != "" {
			options.Own = iscsi.Proof{Name: s.TargetUser, Secret: s.TargetSecret}
		}
	}
	return nil
}

// link is what stands between the target and who connects to it.
func (o serveArrayOptions) link() (l served.Link, err error) {
	l.Delay = o.delay
	if o.rate != "" {
		if l.Rate, err = quantity.ParseByteRate(o.rate); err != nil {
			return l, fmt.Errorf("--link-rate: %w", err)
		}
	}
	return l, nil
}

// disk is the array in real time, or what answers at once.
func (o serveArrayOptions) disk(d array.Description) (served.Disk, error) {
	if !o.instant {
		if o.size != "" {
			return nil, fmt.Errorf("--size is for --instant; an array has the size that its file gives it")
		}
		return served.NewPaced(d)
	}
	size := d.Size()
	if o.size != "" {
		var err error
		if size, err = quantity.ParseBytes(o.size); err != nil {
			return nil, fmt.Errorf("--size: %w", err)
		}
	}
	return served.Instant(size), nil
}

// plainName leaves what names of targets can have.
func plainName(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '.' {
			return r
		}
		return '-'
	}, strings.ToLower(text))
}
