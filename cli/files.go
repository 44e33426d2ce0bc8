package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/core/fileset"
	"patientheron/core/quantity"
	"patientheron/format/filesetfile"
)

func (a *app) files() *cobra.Command {
	command := &cobra.Command{
		Use: "files", Short: "Describe trees of files, and explain what such a description comes to",
		Long: `A file set is the shape of a tree of files: classes with numbers, sizes, content and
folders, in a file that a person can read and change (docs/files.md). The same file
and seed give the same files everywhere.`,
		Example: "  heron files describe /srv/photographs --to archive.yaml\n  heron files explain photographs.yaml",
	}
	command.AddCommand(a.filesDescribe(), a.filesExplain())
	return command
}

func (a *app) filesDescribe() *cobra.Command {
	var to string
	command := &cobra.Command{
		Use: "describe FOLDER", Short: "Look at a folder, and write a file set of its shape", Args: cobra.ExactArgs(1),
		Long: `Look at a folder and write a file set of its shape: how many files there are, how large
and how deep, by the endings of their names, and how far they can be compressed, found
by reading a piece of up to 32 files of each kind. No name but the endings and nothing
of their contents is kept, and nothing is written to the folder. Links are not
followed, and other file systems are not gone into.`,
		Example: "  heron files describe /srv/photographs\n  heron files describe /srv/photographs --to archive.yaml",
		RunE: func(command *cobra.Command, arguments []string) error {
			ctx, stop := signal.NotifyContext(command.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			d, err := describeFolder(ctx, command, arguments[0], a.json)
			if err != nil {
				return fmt.Errorf("describe %s: %w", arguments[0], err)
			}
			err = writeNew(command, to, func(w io.Writer) error {
				if a.json {
					return printJSON(w, d)
				}
				_, err := w.Write(filesetfile.Write(d.Set))
				return err
			})
			if err == nil && !a.json {
				fmt.Fprintln(command.ErrOrStderr(), describedWords(d))
			}
			return err
		},
	}
	command.Flags().StringVar(&to, "to", "", "new file to write to (default: standard output)")
	return command
}

// describeFolder looks at a folder, and tells how far it is when that takes long.
func describeFolder(ctx context.Context, command *cobra.Command, folder string, quiet bool) (fileset.Described, error) {
	info, err := os.Stat(folder)
	switch {
	case err != nil:
		return fileset.Described{}, err
	case !info.IsDir():
		return fileset.Described{}, errors.New("it is no folder")
	}
	look := fileset.Look{Elsewhere: func(e fs.DirEntry) bool {
		there, err := e.Info()
		return err == nil && deviceOf(there) != deviceOf(info)
	}}
	last, shown := time.Now(), false
	terminal := isTerminal(command.ErrOrStderr())
	if !quiet {
		look.Progress = func(files int64, bytes quantity.Bytes) {
			if time.Since(last) < 2*time.Second {
				return
			}
			last, shown = time.Now(), true
			end := "\n"
			if terminal {
				end = "\x1b[K\r"
			}
			fmt.Fprintf(command.ErrOrStderr(), "%d files, %s in all so far%s", files, bytes, end)
		}
	}
	d, err := interruptible(ctx, func() (fileset.Described, error) { return fileset.Describe(ctx, os.DirFS(folder), look) })
	if shown && terminal {
		fmt.Fprint(command.ErrOrStderr(), "\x1b[K")
	}
	return d, err
}

// interruptible gives up waiting for work when ctx ends: a file system whose server is gone
// may never answer.
func interruptible[T any](ctx context.Context, work func() (T, error)) (T, error) {
	type answer struct {
		value T
		err   error
	}
	answers := make(chan answer, 1)
	go func() {
		value, err := work()
		answers <- answer{value, err}
	}()
	select {
	case a := <-answers:
		return a.value, a.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}

// deviceOf is the file system that something is on.
func deviceOf(info fs.FileInfo) uint64 {
	if stat, is := info.Sys().(*syscall.Stat_t); is {
		return stat.Dev
	}
	return 0
}

func describedWords(d fileset.Described) string {
	text := fmt.Sprintf("%d files, %s in all, in %d folders; %s of them were read.", d.Files, d.Bytes, d.Folders, d.Sampled)
	for _, left := range []struct {
		count int64
		words string
	}{
		{d.Unreadable, "could not be looked at, or were gone when it came to them"}, {d.Special, "are links, devices and the like"}, {d.Elsewhere, "are folders of other file systems"},
	} {
		if left.count > 0 {
			text += fmt.Sprintf(" Left out: %d that %s.", left.count, left.words)
		}
	}
	return text
}

// explained is what a file set comes to.
type explained struct {
	Name    string           `json:"name,omitempty"`
	Files   int64            `json:"files"`
	Bytes   quantity.Bytes   `json:"bytes"`
	Folders int64            `json:"folders"`
	Classes []explainedClass `json:"classes"`
}

type explainedClass struct {
	Name    string         `json:"name"`
	Files   int64          `json:"files"`
	Bytes   quantity.Bytes `json:"bytes"`
	Mean    quantity.Bytes `json:"meanBytes"`
	Median  quantity.Bytes `json:"medianBytes"`
	Largest quantity.Bytes `json:"largestTenthBytes"` // a tenth of the files are larger
	First   string         `json:"first,omitempty"`
}

func (a *app) filesExplain() *cobra.Command {
	var seed uint64
	command := &cobra.Command{
		Use: "explain FILE", Short: "Say what a file set comes to: files, sizes and folders, class by class", Args: cobra.ExactArgs(1),
		Long:    "Read a file set, report its first mistake with its line and column, or say what it\ncomes to. FILE - is standard input.",
		Example: "  heron files explain photographs.yaml\n  heron files describe /srv/photographs | heron files explain -",
		RunE: func(command *cobra.Command, arguments []string) error {
			text, err := readText(arguments[0], command.InOrStdin())
			if err != nil {
				return err
			}
			set, err := filesetfile.Read(text)
			if err != nil {
				return fmt.Errorf("%s: %w", arguments[0], err)
			}
			files, err := fileset.New(set, seed)
			if err != nil {
				return fmt.Errorf("%s: %w", arguments[0], err)
			}
			e := explainFiles(set, files)
			if a.json {
				return printJSON(command.OutOrStdout(), e)
			}
			printFiles(command.OutOrStdout(), e)
			return nil
		},
	}
	command.Flags().Uint64Var(&seed, "seed", 1, "seed of the random file sizes")
	return command
}

func explainFiles(set fileset.Set, files *fileset.Files) explained {
	e := explained{Name: set.Name, Files: files.Len(), Bytes: files.Bytes()}
	files.Folders(func([]byte) bool { e.Folders++; return true })
	first := int64(0)
	for i, c := range set.Classes {
		count, bytes := files.Of(i)
		k := explainedClass{Name: c.Name, Files: count, Bytes: bytes, Median: c.Size.At(0.5), Largest: c.Size.At(0.9)}
		if count > 0 {
			k.Mean, k.First = bytes/quantity.Bytes(count), string(files.Path(nil, first))
		}
		first += count
		e.Classes = append(e.Classes, k)
	}
	return e
}

func printFiles(w io.Writer, e explained) {
	if e.Name != "" {
		fmt.Fprintln(w, e.Name)
	}
	fmt.Fprintf(w, "%d files, %s in all, in %d folders\n\n", e.Files, e.Bytes, e.Folders)
	t := newTable(w, 2, "class", "files", "together", "mean", "half are smaller than", "a tenth are larger than")
	for _, c := range e.Classes {
		t.AppendRow(table.Row{"  " + c.Name, c.Files, c.Bytes, c.Mean, c.Median, c.Largest})
	}
	t.Render()
	fmt.Fprintln(w)
	for _, c := range e.Classes {
		if c.First != "" {
			fmt.Fprintf(w, "The first of %s: %s\n", c.Name, c.First)
		}
	}
}
