package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"syscall"

	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/service"
)

func (a *app) demo() *cobra.Command {
	var listen string
	var exit bool
	command := &cobra.Command{
		Use: "demo", Short: "Start a service with the demo scenario", Args: cobra.NoArgs,
		Long: `Start a service in a fresh folder with the scenario of Sedgewater Field Station:
the setups that its keeper of machines has to choose from, as simulated arrays
that are really computed, and beside them a folder of this machine and the null
volume, really measured. The console's sign-in link is printed, and the service
stays up. Ctrl-C ends it and removes the folder.`,
		Example: `  heron demo
  heron demo --exit     # measure, print a summary and end`,
		RunE: func(command *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(command.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			if !command.Flags().Changed("listen") {
				listen = nextFree(listen, command.ErrOrStderr())
			}
			return runDemo(ctx, command, listen, exit)
		},
	}
	command.Flags().StringVar(&listen, "listen", defaultAddress, "address to listen on; the port 0 takes a free one. Without it the next free port is taken where this one is in use")
	command.Flags().BoolVar(&exit, "exit", false, "end when everything is measured")
	return command
}

// mostTaken is how many ports after one that is taken are tried.
const mostTaken = 20

// nextFree is an address, or the one with the next port that nobody listens on, which it says.
func nextFree(address string, log io.Writer) string {
	host, port, err := net.SplitHostPort(address)
	first, numeric := strconv.Atoi(port)
	if err != nil || numeric != nil {
		return address
	}
	for at := first; at <= first+mostTaken; at++ {
		next := net.JoinHostPort(host, strconv.Itoa(at))
		listener, err := net.Listen("tcp", next)
		if errors.Is(err, syscall.EADDRINUSE) {
			continue
		}
		if err == nil {
			listener.Close()
		}
		if at != first {
			fmt.Fprintf(log, "Port %d is taken; the demo listens on %d.\n", first, at)
		}
		return next
	}
	return address
}

// runDemo serves the demo from a folder that lives as long as this call.
func runDemo(ctx context.Context, command *cobra.Command, listen string, exit bool) (err error) {
	folder, err := os.MkdirTemp(".", "sedgewater-demo-")
	if err != nil {
		return fmt.Errorf("make a folder for the demo: %w; run it where you may write", err)
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	storage := filepath.Join(folder, "storage")
	if err := os.Mkdir(storage, 0o700); err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(command.ErrOrStderr(), &slog.HandlerOptions{Level: slog.LevelWarn}))
	s, err := service.Open(ctx, service.Options{Folder: filepath.Join(folder, "data"), Version: Version, Arrays: []string{filepath.Join(folder, "arrays")}, Log: log})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	serving, end := context.WithCancel(ctx)
	defer end()
	measured := make(chan error, 1)
	err = s.Listen(serving, listen, func(url string) {
		out := command.OutOrStdout()
		fmt.Fprintf(out, "The demo of Patient Heron %s is at %s\n%s\n\n", Version, url, consoleAt(out, url, s))
		go func() {
			err := measureDemo(serving, client.New(url, s.Token, nil), out, command.ErrOrStderr(), folder, !exit)
			if err == nil && !exit {
				fmt.Fprintf(out, "\nThe service stays up at %s\nCtrl-C ends it and removes %s.\n", url, folder)
			}
			measured <- err
			if err != nil || exit {
				end()
			}
		}()
	})
	select {
	case failed := <-measured:
		if !errors.Is(failed, context.Canceled) {
			err = errors.Join(err, failed)
		}
	default: // ended before all was measured
	}
	return err
}
