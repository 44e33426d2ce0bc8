package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/measure"
	"patientheron/resource"
)

// zoneRows is how many moments of a measurement are printed at most.
const zoneRows = 24

// fillings draw how full a zone is: empty, in between, and full.
var fillings = []rune("·▁▂▃▄▅▆▇▇█")

func (a *app) zones() *cobra.Command {
	var only int
	command := a.runCommand("zones RUN", "Show how full the zones of zoned media were over time", "  heron run zones 25\n  heron run zones 25 --only 1",
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			detail, err := c.Run(ctx, id)
			if err != nil {
				return err
			}
			shown := 0
			for _, m := range detail.Measurements {
				if only > 0 && m.Position != only {
					continue
				}
				series, err := c.Series(ctx, m.ID)
				if err != nil {
					return err
				}
				if printZones(command.OutOrStdout(), m, series.Intervals) {
					shown++
				}
			}
			if shown == 0 {
				return fmt.Errorf("run %d shows no zones: simulated arrays have a map of them whose members have a zone (docs/arrays.md), once something was written there", id)
			}
			return nil
		})
	command.Flags().IntVar(&only, "only", 0, "show the measurement of this number alone")
	command.Long = `Show how full the zones of a zoned simulated array were over time. Each character is a
zone, or several adjacent ones if there are many: · empty, █ full. "heron run export"
has all samples.`
	return command
}

// printZones draws the map of zones over time, and reports whether there is one.
func printZones(w io.Writer, m resource.Measurement, series []measure.Interval) bool {
	var moments []measure.Interval
	for _, i := range series {
		if i.Zones != "" {
			moments = append(moments, i)
		}
	}
	if len(moments) == 0 {
		return false
	}
	fmt.Fprintf(w, "%d  %s, repeat %d of %d\n", m.Position, m.Title(), m.Repeat, m.Repeats)
	step := max((len(moments)+zoneRows-1)/zoneRows, 1)
	for n := 0; n < len(moments); n += step {
		var b strings.Builder
		for _, digit := range moments[n].Zones {
			b.WriteRune(fillings[digit-'0'])
		}
		fmt.Fprintf(w, "  %8s ▕%s▏\n", moments[n].Start+moments[n].Length, b.String())
	}
	return true
}
