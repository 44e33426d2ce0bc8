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
		Long: `Start the service. It keeps its database, its token and its lock in the data
folder and carries out runs: on real storage one at a time, with the host to itself; on
simulated arrays beside each other, one a core. On a terminal the
console's sign-in link is printed; whoever has it can start measurements on this
host. Elsewhere it says where the token is.

It answers to this host's addresses and names alone; other names by which it is
reached, through a proxy for example, are stated with --reached-as.

Ctrl-C ends it: a run under way is stopped, what it measured is kept, and files that
it made are removed, which is shown where it takes long. A second Ctrl-C ends it at
once; "heron leftover" lists and removes later what stays then.`,
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
	command.Flags().StringVar(&listen, "listen", defaultAddress, "address to listen on; the port 0 takes a free one")
	command.Flags().StringArrayVar(&arrays, "arrays", nil, "folder whose array files the service reads, beside those handed over (may be given several times)")
	command.Flags().StringArrayVar(&names, "reached-as", nil, "another name by which the service is reached, or IP:PORT of a proxy that signed requests come through (may be given several times)")
	command.Flags().StringVar(&secrets, "secrets", os.Getenv("HERON_SECRETS"), "file of what users log in to iSCSI targets with (also HERON_SECRETS; secrets in the data folder where none is named)")
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
