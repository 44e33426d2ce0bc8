// Package cli is the command line: it parses, calls the client and prints.
//
// It holds no arithmetic. Every command works on a service over its API; with
// --here that service lives inside this process for as long as the command
// runs. Root makes the command tree.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"

	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/host"
	"patientheron/resource"
	"patientheron/service"
)

// Version is set when a release is built.
var Version = "0.1.0-dev"

// app is what all commands share.
type app struct {
	url   string
	token string
	data  string
	here  bool
	json  bool
}

// Run carries out the command line of this process, and gives the error that it
// ends with, also of writing what it had to say.
func Run(ctx context.Context, arguments []string) error {
	// Within a control group memory is freed earlier, before the group's limit
	// ends the process. GOMEMLIMIT overrides that.
	if limit := host.MemoryLimit(); limit > 0 && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(int64(limit) / 10 * 8)
	}
	out, trouble := &screen{out: os.Stdout}, &screen{out: os.Stderr}
	root := Root()
	root.SetArgs(arguments)
	root.SetOut(out)
	root.SetErr(trouble)
	err := root.ExecuteContext(ctx)
	if err == nil && out.err != nil {
		err = fmt.Errorf("write what this command has to say: %w", out.err)
	}
	if err != nil {
		fmt.Fprintln(trouble, "heron:", err)
	}
	return err
}

// Root makes the command tree.
func Root() *cobra.Command {
	a := &app{}
	root := &cobra.Command{
		Use:   "heron",
		Short: "Benchmark storage, and know which results to trust",
		Long: `Patient Heron benchmarks storage: folders of any mounted file system, files, block
devices, iSCSI LUNs and simulated arrays. It says which results are not reliable, and
compares setups. A service does the work ("heron serve"); the other commands are its
clients. With --here a command works without a service.`,
		Example: `  heron serve                                    # start the service
  heron look /srv/pool                           # the layers below a folder, and their limits
  heron measure /srv/pool --reads 70% --for 60s  # measure its storage
  heron compare 12 14                            # is run 14 better than run 12?`,
		SilenceUsage: true, SilenceErrors: true,
	}
	flags := root.PersistentFlags()
	flags.StringVar(&a.url, "service", os.Getenv("HERON_SERVICE"), "address of the service, such as http://127.0.0.1:7437 (also HERON_SERVICE)")
	flags.StringVar(&a.token, "token", "", "token of the service (also HERON_TOKEN; read from the data folder for a service of this user on this host)")
	flags.StringVar(&a.data, "data", defaultData(), "data folder of the service (also HERON_DATA)")
	flags.BoolVar(&a.here, "here", false, "work in this process, without a running service; results are kept in the data folder")
	flags.BoolVar(&a.json, "json", false, "print JSON, as the API returns it")
	root.SetUsageFunc(func(command *cobra.Command) error { return printUsage(command.OutOrStderr(), command) })
	root.SetFlagErrorFunc(wrongFlag)
	defer strict(root)
	root.AddCommand(a.serve(), a.demo(), a.measure(), a.tune(), a.need(), a.twin(), a.efficiency(), a.choose(), a.look(), a.setup(), a.volume(), a.leftover(), a.run(), a.compare(), a.comparison(), a.preset(), a.plan(), a.array(), a.files(), a.contract(), a.version())
	return root
}

// strict makes groups of commands refuse words that are none of their commands, and commands
// say what they take.
func strict(command *cobra.Command) {
	counted(command)
	if command.HasSubCommands() && command.RunE == nil && command.Run == nil {
		command.Args = cobra.ArbitraryArgs
		command.RunE = func(command *cobra.Command, arguments []string) error {
			if len(arguments) == 0 {
				return command.Help()
			}
			hint := ""
			if near := nearest(command, arguments[0]); near != "" {
				hint = fmt.Sprintf(" Did you mean '%s'?", near)
			}
			return fmt.Errorf("'%s' has no command %q; '%s --help' shows what it has.%s", command.CommandPath(), arguments[0], command.CommandPath(), hint)
		}
	}
	for _, below := range command.Commands() {
		strict(below)
	}
}

func defaultData() string {
	if folder := os.Getenv("HERON_DATA"); folder != "" {
		return folder
	}
	if folder := os.Getenv("XDG_DATA_HOME"); folder != "" {
		return filepath.Join(folder, "patient-heron")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "patient-heron"
	}
	return filepath.Join(home, ".local", "share", "patient-heron")
}

// with calls work with a client: of the service named, of the one found for
// the data folder, or of one in this process.
func (a *app) with(work func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error) func(*cobra.Command, []string) error {
	return func(command *cobra.Command, arguments []string) error {
		ctx := command.Context()
		c, done, err := a.client(ctx)
		if err != nil {
			return err
		}
		c.Unreadable = func(r resource.Unreadable) {
			fmt.Fprintf(command.ErrOrStderr(), "%s %d is kept and cannot be read: %s\n", r.Kind, r.ID, r.Reason)
		}
		return errors.Join(work(ctx, c, command, arguments), done())
	}
}

func (a *app) client(ctx context.Context) (c *client.Client, done func() error, err error) {
	if a.here {
		s, err := service.Open(ctx, service.Options{
			Folder: a.data, Version: Version, Alone: true, Secrets: os.Getenv("HERON_SECRETS"),
			Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})),
		})
		if err != nil {
			return nil, nil, err
		}
		// The service outlives an interrupt, so that what was measured until
		// then can still be asked for.
		serving, stop := context.WithCancel(context.WithoutCancel(ctx))
		return s.Client(serving), func() error { stop(); return s.Close() }, nil
	}
	token := a.token
	if token == "" {
		token = os.Getenv("HERON_TOKEN")
	}
	url, found, foundHere := a.url, a.url == "", ""
	if url == "" || token == "" {
		foundURL, foundToken, err := service.Find(a.data)
		switch {
		case err == nil && url == "":
			url = foundURL
		case err != nil && url == "":
			return nil, nil, err
		case err != nil:
			return nil, nil, fmt.Errorf("no token is given for %s; name it with --token or HERON_TOKEN", url)
		}
		if token == "" {
			token, foundHere = foundToken, foundToken
		}
	}
	if found && token == foundHere {
		if own, err := service.Own(a.data); err == nil {
			return own, func() error { return nil }, nil
		}
	}
	c = client.New(url, token, nil)
	if err := c.MakeSure(ctx, found); err != nil {
		return nil, nil, err
	}
	return c, func() error { return nil }, nil
}

// print writes value as the API gives it.
func printJSON(w io.Writer, value any) error {
	encoder := json.NewEncoder(exactly(w))
	encoder.SetIndent("", "  ")
	return encoder.Encode(value)
}

// number reads the number of a run or volume.
func number(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not the number of a %s; 'heron %s list' shows them", text, what, what)
	}
	return n, nil
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: cobra.NoArgs,
		Example: "  heron version\n  heron version --json",
		RunE: func(command *cobra.Command, _ []string) error {
			if a.json {
				return printJSON(command.OutOrStdout(), map[string]string{"product": "Patient Heron", "version": Version})
			}
			fmt.Fprintln(command.OutOrStdout(), "Patient Heron", Version)
			return nil
		},
	}
}
