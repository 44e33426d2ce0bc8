package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"patientheron/service"
	"patientheron/service/api"
)

const defaultAddress = "127.0.0.1:7437"

func (a *app) serve() *cobra.Command {
	var listen, secrets string
	var arrays, names []string
	command := &cobra.Command{
		Use: "serve", Short: "Start the service and its web console", Args: cobra.NoArgs,
		Long: `Start the service. It keeps its database, token and lock in the data folder and executes
runs: on real storage one at a time, with the host to itself; on simulated arrays in
parallel, one on each core. On a terminal it prints a sign-in link for the console.
Anyone who has it can start measurements on this host. Elsewhere it prints where the
token is.

It answers requests to the addresses and names of this host only. State other names, such
as that of a proxy, with --reached-as.

Ctrl-C stops it: a run in progress is stopped, its results so far are kept, and its files
are removed. A second Ctrl-C ends it at once; "heron leftover" lists and removes files
that stay behind then.`,
		Example: `  heron serve
  heron serve --data /srv/heron --listen 127.0.0.1:9000`,
		RunE: func(command *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(command.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			context.AfterFunc(ctx, func() {
				fmt.Fprintln(command.ErrOrStderr(), "Stopping: what a run made is removed first. A second Ctrl-C leaves it; 'heron leftover' lists and removes it later.")
				lastChance(stop)
			})
			s, err := service.Open(ctx, service.Options{
				Folder: a.data, Version: Version, Arrays: arrays, Names: names, Secrets: secrets, Log: slog.New(slog.NewTextHandler(command.ErrOrStderr(), nil)),
			})
			if err != nil {
				return err
			}
			defer s.Close()
			return s.Listen(ctx, listen, func(url string) {
				out := command.OutOrStdout()
				fmt.Fprintf(out, "Patient Heron %s serves %s from %s\n", Version, url, a.data)
				fmt.Fprintln(out, consoleAt(out, url, s))
			})
		},
	}
	command.Flags().StringVar(&listen, "listen", defaultAddress, "address to listen on; port 0 takes a free one")
	command.Flags().StringArrayVar(&arrays, "arrays", nil, "folder of array files that the service may read, beside the stored ones (repeatable)")
	command.Flags().StringArrayVar(&names, "reached-as", nil, "another name of the service, or IP:PORT of a proxy for signed requests (repeatable)")
	command.Flags().StringVar(&secrets, "secrets", os.Getenv("HERON_SECRETS"), "file with the CHAP secrets for iSCSI targets (also HERON_SECRETS; default: secrets in the data folder)")
	return command
}

// lastChance lets a second signal end the process, but not one that comes along with the
// first: when a terminal ends, several come.
func lastChance(stop func()) {
	time.Sleep(time.Second)
	signal.Ignore(syscall.SIGHUP)
	stop()
}

// consoleAt says how to reach the console. The sign-in link opens it, so it is
// for the eyes before a terminal, and never for a log.
func consoleAt(out io.Writer, url string, s *service.Service) string {
	if isTerminal(out) {
		return "Console: " + url + "/sign-in#token=" + s.Token
	}
	return fmt.Sprintf("Console: %s/sign-in (the token is in %s)", url, s.TokenFile())
}

func (a *app) contract() *cobra.Command {
	return &cobra.Command{
		Use: "contract", Short: "Print the contract of the API (OpenAPI 3.1)", Args: cobra.NoArgs,
		Example: "  heron contract > heron-openapi.json",
		RunE: func(command *cobra.Command, _ []string) error {
			text, err := api.Contract(Version)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(command.OutOrStdout(), string(text))
			return err
		},
	}
}
