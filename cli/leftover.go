package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
)

// leftover lists and removes test files that were left behind.
func (a *app) leftover() *cobra.Command {
	command := &cobra.Command{
		Use: "leftover", Short: "List and remove test files that were left behind",
		Long: `In a folder the heron uses a test file without a name, which disappears with the process,
however that ends. Some file systems, such as overlays, do not support that: there the
file has a name until the run ends. If the service is killed during such a run, the file
stays, and is listed here.`,
		Example: "  heron leftover list\n  heron leftover remove 3\n  heron leftover remove --all",
	}
	list := &cobra.Command{
		Use: "list", Short: "List leftover test files", Args: cobra.NoArgs, Example: "  heron leftover list",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, _ []string) error {
			files, err := c.Leftovers(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), files)
			}
			if len(files) == 0 {
				fmt.Fprintln(command.OutOrStdout(), "There are no leftover test files.")
				return nil
			}
			t := newTable(command.OutOrStdout(), 3, "no.", "test file", "size", "made", "trouble")
			for _, f := range files {
				t.AppendRow(table.Row{f.ID, f.Path, f.Size, f.Created.Local().Format("2006-01-02 15:04"), f.Trouble})
			}
			t.Render()
			return nil
		}),
	}
	var all bool
	remove := &cobra.Command{
		Use: "remove [NUMBER...]", Short: "Remove leftover test files", Example: "  heron leftover remove 3\n  heron leftover remove --all",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			if all == (len(arguments) > 0) {
				return errors.New("name numbers of 'heron leftover list', or --all")
			}
			files, err := c.Leftovers(ctx)
			if err != nil {
				return err
			}
			wanted := map[int64]bool{}
			for _, text := range arguments {
				id, err := number(text, "leftover")
				if err != nil {
					return err
				}
				wanted[id] = true
			}
			for _, f := range files {
				if !all && !wanted[f.ID] {
					continue
				}
				delete(wanted, f.ID)
				if err := c.RemoveLeftover(ctx, f.ID); err != nil {
					return err
				}
				fmt.Fprintf(command.OutOrStdout(), "%s is removed.\n", f.Path)
			}
			for id := range wanted {
				return fmt.Errorf("there is no leftover with number %d; 'heron leftover list' shows them", id)
			}
			return nil
		}),
	}
	remove.Flags().BoolVar(&all, "all", false, "remove all of them")
	command.AddCommand(list, remove)
	return command
}
