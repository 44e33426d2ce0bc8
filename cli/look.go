package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

// ErrFailedCheck is given by a look when a check failed, so that scripts see it.
var ErrFailedCheck = errors.New("a check failed")

func (a *app) look() *cobra.Command {
	var span, address, timeout string
	var asked client.Asked
	var baseline bool
	command := &cobra.Command{
		Use: "look VOLUME", Short: "Show the layers below a volume and their limits, and check it before measuring", Args: cobra.ExactArgs(1),
		Long: `Look at a folder, a file, a block device, array:FILE, iscsi://PORTAL for its targets and
LUNs, iscsi://PORTAL/TARGET/LUN, or a registered volume: whether it can be reached, read
and written, what is on it, the layers down to the media, the limit of each hop, and what
would distort a measurement. Nothing is written and nothing is registered. With --writes
an empty test file is created in a folder and removed at once, to see whether that works.

Each check is passed, caution, failed, or could not look. The same checks run before each
measurement. A failed one stops it, unless it is overridden by name ("heron measure
--override NAME").

With --measure-members each visible member is first measured alone, by reading, and the results
replace rated figures. The volume and its members are registered for that.`,
		Example: `  heron look /srv/pool
  heron look /srv/pool --span 100GiB --writes
  heron look /mnt/share --address 192.0.2.10
  heron look iscsi://192.0.2.10
  heron look iscsi://reader@192.0.2.10/iqn.2026-01.example:store/0
  heron look /dev/sdc --timeout 20s
  heron look /srv/pool --measure-members`,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			var err error
			if span != "" {
				if asked.Span, err = quantity.ParseBytes(span); err != nil {
					return fmt.Errorf("--span: %w", err)
				}
			}
			if timeout != "" {
				if asked.Timeout, err = quantity.ParseSeconds(timeout); err != nil {
					return fmt.Errorf("--timeout: %w", err)
				}
				if asked.Timeout > 60 {
					return fmt.Errorf("--timeout: %s is too long; the limit is 1m", asked.Timeout)
				}
			}
			asked.Address = address
			locator, err := a.locator(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			if baseline {
				if err := a.baseline(ctx, c, command, arguments[0], asked); err != nil {
					return err
				}
			}
			found, err := c.Look(ctx, locator, asked)
			if err != nil {
				return err
			}
			if a.json {
				err = printJSON(command.OutOrStdout(), found)
			} else {
				printLook(command.OutOrStdout(), found)
			}
			for _, check := range found.Checks {
				if check.Result == setup.Failed {
					return errors.Join(err, fmt.Errorf("%w: %s; %s", ErrFailedCheck, check.Name, check.Next))
				}
			}
			return err
		}),
	}
	command.Flags().StringVar(&span, "span", "", "span of the planned load, to compare with caches and free space")
	command.Flags().BoolVar(&asked.Writes, "writes", false, "the planned load writes; in a folder, try to create a test file")
	command.Flags().BoolVar(&asked.Cached, "cached", false, "the planned load goes through the page cache")
	command.Flags().StringVar(&address, "address", "", "address of the storage, to probe the path MTU to")
	command.Flags().StringVar(&timeout, "timeout", "", "how long to wait for slow or distant storage, up to 1m (default 1.5s)")
	command.Flags().BoolVar(&baseline, "measure-members", false, "measure each member alone first, by reading")
	return command
}

// locator is that of a registered name, or of what was typed.
func (a *app) locator(ctx context.Context, c *client.Client, target string) (string, error) {
	volumes, err := c.Volumes(ctx)
	if err != nil {
		return "", err
	}
	for _, v := range volumes {
		if v.Name == target {
			return v.Locator, nil
		}
	}
	locator, err := absolute(target)
	if path, isArray := describedBy(locator); err == nil && isArray && !a.here && !slices.ContainsFunc(volumes, func(v resource.Volume) bool { return v.Locator == locator }) {
		// The service need not be able to read it where it is.
		return keepArray(ctx, c, path, "")
	}
	return locator, err
}

// baselinePlan reads a member alone: small at random, then large in order.
func baselinePlan(span quantity.Bytes) plan.Plan {
	small := workload.Spec{Name: "small random reads", Pattern: workload.Pattern{Blocks: workload.Block(4 * quantity.KiB), Reads: 1, Order: workload.Random, Span: span}, Pace: workload.Pace{Depth: 32, Workers: 1}, Ending: workload.Ending{For: 3, WarmUp: 1, Interval: 0.25}}
	large := small
	large.Name, large.Blocks, large.Order, large.Depth = "large sequential reads", workload.Block(256*quantity.KiB), workload.Sequential, 16
	return plan.Plan{Name: "Member alone", Why: "What does this member do alone?", Stages: []plan.Stage{{Name: small.Name, Load: small}, {Name: large.Name, Load: large}}}
}

// baseline measures each member of a volume alone and tells the volume's setup
// what it did.
func (a *app) baseline(ctx context.Context, c *client.Client, command *cobra.Command, target string, asked client.Asked) error {
	volume, err := a.findVolume(ctx, c, target)
	if err != nil {
		return err
	}
	found, err := c.Look(ctx, volume.Locator, asked)
	if err != nil {
		return err
	}
	members := bottom(found.Chain)
	if len(members) == 0 {
		return fmt.Errorf("this host can see no members of %s; tell their rates with 'heron setup tell'", target)
	}
	told := resource.ToldSetup{}
	for number, device := range members {
		member, err := a.findVolume(ctx, c, "/dev/"+device)
		if err != nil {
			return err
		}
		size := quantity.GiB
		if member.Facts != nil {
			size = min(size, member.Facts.Size)
		}
		run, err := c.StartRun(ctx, resource.NewRun{Name: "Member alone: " + device, VolumeID: member.ID, Plan: baselinePlan(size)})
		if err != nil {
			return err
		}
		fmt.Fprintf(command.ErrOrStderr(), "Run %d: %s alone (%d of %d)\n", run.ID, device, number+1, len(members))
		view := newLiveView(command.ErrOrStderr(), a.json)
		view.brief = true
		err = c.Watch(ctx, run.ID, client.Watcher{Run: view.run, Measurement: view.measurement, Point: view.point})
		view.end()
		if err != nil {
			return err
		}
		detail, err := c.Run(ctx, run.ID)
		if err != nil {
			return err
		}
		if err := ending(detail); err != nil {
			return err
		}
		told.Facts = slowest(told.Facts, detail)
	}
	_, err = c.TellSetup(ctx, volume.ID, told)
	return err
}

// slowest keeps, of members measured alone, the rates of the slowest: a layout
// waits for it.
func slowest(facts []resource.ToldFact, d resource.RunDetail) []resource.ToldFact {
	for _, m := range d.Measurements {
		key, rate := "media[0].randomReadRate", strconv.FormatFloat(float64(m.Summary.Total.Rate), 'f', 0, 64)
		if m.Stage == 2 {
			key, rate = "media[0].readRate", strconv.FormatFloat(float64(m.Summary.Total.Throughput), 'f', 0, 64)+"B/s"
		}
		known := false
		for i, f := range facts {
			if f.Key != key {
				continue
			}
			known = true
			before, _ := strconv.ParseFloat(strings.TrimSuffix(f.Value, "B/s"), 64)
			if now, _ := strconv.ParseFloat(strings.TrimSuffix(rate, "B/s"), 64); now < before {
				facts[i].Value = rate
			}
		}
		if !known {
			facts = append(facts, resource.ToldFact{Key: key, Value: rate, Measured: true})
		}
	}
	return facts
}

// bottom lists the lowest devices that a layout spreads over: loop devices
// count as members, whatever their files are on.
func bottom(layers []setup.Layer) (names []string) {
	for _, l := range layers {
		switch {
		case l.Kind == "disk" || l.Kind == "loop" || l.Kind == "memory" && strings.HasPrefix(l.Name, "zram"):
			names = append(names, l.Name)
		default:
			names = append(names, bottom(l.Below)...)
		}
	}
	return names
}

func printLook(w io.Writer, l resource.Look) {
	fmt.Fprintf(w, "%s (%s), looked at in %s\n", l.Locator, l.Kind, l.Took)
	printLayers(w, l.Chain, 1)
	fmt.Fprintln(w)
	t := newTable(w, 5, "check", "result", "")
	for _, c := range l.Checks {
		t.AppendRow(table.Row{"  " + c.Name, c.Result, wrapped(strings.TrimSpace(c.Sentence+" "+c.Next), 66)})
	}
	t.Render()
	if len(l.Setup.Facts) > 0 {
		fmt.Fprintln(w)
		printFacts(w, l.Setup)
	}
	if l.Setup.Count("media")+l.Setup.Count("link") > 0 {
		printCeilings(w, l.Setup)
	}
}

func printLayers(w io.Writer, layers []setup.Layer, depth int) {
	for _, l := range layers {
		name := l.Kind
		if strings.HasPrefix(l.Name, l.Kind) {
			name = l.Name
		} else {
			name += " " + l.Name
		}
		fmt.Fprintf(w, "%s└ %s: %s", strings.Repeat("  ", depth), name, l.Words)
		if l.Trouble != "" {
			fmt.Fprintf(w, " (could not look: %s)", l.Trouble)
		}
		fmt.Fprintln(w)
		printLayers(w, l.Below, depth+1)
	}
}

func printFacts(w io.Writer, s setup.Setup) {
	t := newTable(w, 5, "part", "fact", "value", "source")
	for _, f := range s.Facts {
		name := f.Key
		if field, err := setup.Lookup(f.Key); err == nil {
			name = field.Label
		}
		t.AppendRow(table.Row{"  " + setup.Part(f.Key), name, wrapped(f.Value, 48), f.Origin})
	}
	t.Render()
}

// wrapped breaks a text into lines of at most so many characters.
func wrapped(text string, width int) string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		for len([]rune(word)) > width {
			runes := []rune(word)
			lines, word = append(lines, strings.TrimSpace(line+" "+string(runes[:width]))), string(runes[width:])
			line = ""
		}
		if line != "" && len([]rune(line))+1+len([]rune(word)) > width {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimSpace(line + " " + word)
	}
	return strings.Join(append(lines, line), "\n")
}
