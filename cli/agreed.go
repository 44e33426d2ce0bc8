package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/measure"
	"patientheron/resource"
)

func (a *app) session() *cobra.Command {
	var only int
	command := a.runCommand("session RUN", "Show the session parameters that host and target negotiated", "  heron run session 17\n  heron run session 17 --only 1",
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			detail, err := c.Run(ctx, id)
			if err != nil {
				return err
			}
			if printAgreed(command.OutOrStdout(), detail, only) == 0 {
				return fmt.Errorf("run %d used no session; only iSCSI volumes have them (docs/iscsi.md)", id)
			}
			return nil
		})
	command.Flags().IntVar(&only, "only", 0, "show the measurement of this number alone")
	command.Long = `Show the negotiation of every session key: what this host offered or declared, what the
target answered or declared, the value in effect, and which side refused the wish of the
other. Measurements with the same values are shown together.`
	return command
}

// printAgreed prints what was agreed on, measurements of the same together, and gives how
// many there are that went over sessions.
func printAgreed(w io.Writer, detail resource.RunDetail, only int) (shown int) {
	var before []measure.Session
	for _, m := range detail.Measurements {
		if m.Summary == nil || len(m.Summary.Sessions) == 0 || only > 0 && m.Position != only {
			continue
		}
		shown++
		if shown > 1 && slices.EqualFunc(before, m.Summary.Sessions, sameSession) {
			continue
		}
		before = m.Summary.Sessions
		fmt.Fprintf(w, "From measurement %d on, %s, repeat %d of %d\n", m.Position, m.Title(), m.Repeat, m.Repeats)
		for left := before; len(left) > 0; {
			var same, others []measure.Session
			for _, s := range left {
				if slices.Equal(s.Keys, left[0].Keys) {
					same = append(same, s)
				} else {
					others = append(others, s)
				}
			}
			left = others
			fmt.Fprintf(w, "%s\n", sessionsInWords(same))
			t := newTable(w, 99, "key", "offered", "answered", "in effect", "reduced by")
			for _, k := range same[0].Keys {
				t.AppendRow(table.Row{k.Key, k.Offered, k.Answered, k.InEffect, k.Cut})
			}
			t.Render()
		}
	}
	return shown
}

func sameSession(a, b measure.Session) bool {
	return a.Over == b.Over && a.Count == b.Count && slices.Equal(a.Keys, b.Keys)
}

// sessionsInWords says how many sessions there were, and over which portals.
func sessionsInWords(sessions []measure.Session) string {
	var words []string
	for _, s := range sessions {
		noun := "session"
		if s.Count > 1 {
			noun += "s"
		}
		words = append(words, fmt.Sprintf("%d %s with %s", s.Count, noun, s.Over))
	}
	return strings.Join(words, " and ")
}
