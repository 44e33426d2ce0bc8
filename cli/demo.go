package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/demo"
	"patientheron/resource"
	"patientheron/service"
	"patientheron/storage/simulated"
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
			return runDemo(ctx, command, listen, exit)
		},
	}
	command.Flags().StringVar(&listen, "listen", defaultAddress, "address to listen on; the port 0 takes a free one")
	command.Flags().BoolVar(&exit, "exit", false, "end when everything is measured")
	return command
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
			err := measureDemo(serving, client.New(url, s.Token, nil), command, folder)
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

// measureDemo registers the volumes of the scenario, makes its runs and prints
// what they came to.
func measureDemo(ctx context.Context, c *client.Client, command *cobra.Command, folder string) error {
	day, err := demo.Day()
	if err != nil {
		return err
	}
	var details []resource.RunDetail
	measure := func(name, locator string, p plan.Plan) error {
		detail, err := demoRun(ctx, c, command, name, locator, p)
		details = append(details, detail)
		return err
	}
	setups := filepath.Join(folder, "arrays")
	if err := os.Mkdir(setups, 0o700); err != nil {
		return err
	}
	for _, setup := range demo.Setups {
		path, err := demo.WriteSetup(setups, setup)
		if err != nil {
			return err
		}
		if err := measure(setup, "array:"+path, day); err != nil {
			return err
		}
	}
	for _, real := range []struct{ volume, locator, plan string }{
		{"station-disk", filepath.Join(folder, "storage"), "first-look"},
		{"nothing", "null:1TiB", "own-cost"},
	} {
		p, err := demo.Plan(real.plan)
		if err != nil {
			return err
		}
		if err := measure(real.volume, real.locator, p); err != nil {
			return err
		}
	}
	again, err := demoRun(ctx, c, command, demo.Setups[0], "", day)
	if err != nil {
		return err
	}
	details = append(details, again)
	files, err := demo.Plan(demo.Files)
	if err != nil {
		return err
	}
	ofFiles, err := demoOn(ctx, c, command, demo.FilesOn, files, demo.OfFiles)
	if err != nil {
		return err
	}
	sweep, err := demo.Plan(demo.Sweep)
	if err != nil {
		return err
	}
	if _, err := demoRun(ctx, c, command, demo.Setups[0], "", sweep); err != nil {
		return err
	}
	racing, err := demoRace(ctx, c, command)
	if err != nil {
		return err
	}
	catalogue, err := demo.Plan(demo.Catalogue)
	if err != nil {
		return err
	}
	ofCatalogue, err := demoOn(ctx, c, command, demo.CatalogueOn, catalogue, demo.Cataloguing)
	if err != nil {
		return err
	}
	if err := demoTuning(ctx, c, command, filepath.Join(setups, demo.MainlandSetup+".yaml")); err != nil {
		return err
	}
	if err := demoNeeds(ctx, c, command); err != nil {
		return err
	}
	if err := demoTwin(ctx, c, command, setups); err != nil {
		return err
	}
	printDemo(command.OutOrStdout(), details)
	return keepComparisons(ctx, c, slices.Concat(ofFiles, racing, ofCatalogue, details))
}

// demoNeeds measures what an afternoon needs at once, and keeps the station's need sheets.
func demoNeeds(ctx context.Context, c *client.Client, command *cobra.Command) error {
	for _, name := range []string{demo.DayNeed, demo.AfternoonNeed} {
		sheet, err := demo.Need(name)
		if err != nil {
			return err
		}
		if _, err := c.KeepNeed(ctx, sheet); err != nil {
			return fmt.Errorf("keep the need %s: %w", name, err)
		}
		if name != demo.AfternoonNeed {
			continue
		}
		for _, setup := range demo.AtOnceOn {
			v, err := registered(ctx, c, setup)
			if err != nil {
				return err
			}
			for _, degraded := range []bool{false, true} {
				const repeats = 3
				needed, err := c.Needed(ctx, v.ID, resource.NewNeeded{Text: sheet, Repeats: repeats, Degraded: degraded})
				if err != nil {
					return err
				}
				if _, err := demoRun(ctx, c, command, setup, "", needed.Plan); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// demoTwin gets to know a unit that is not what it was sold as, fits a twin to it, and foretells
// what more disks will bring, which is then measured.
func demoTwin(ctx context.Context, c *client.Client, command *cobra.Command, setups string) error {
	paths := map[string]string{}
	for _, setup := range []string{demo.TwinOf, demo.TwinThen} {
		path, err := demo.WriteSetup(setups, setup)
		if err != nil {
			return err
		}
		paths[setup] = "array:" + path
	}
	known, err := demo.Plan(demo.TwinPlan)
	if err != nil {
		return err
	}
	foretold, err := demo.Plan(demo.TwinForetold)
	if err != nil {
		return err
	}
	guess, err := demo.Setup(demo.TwinGuess)
	if err != nil {
		return err
	}
	measured, err := demoRun(ctx, c, command, demo.TwinOf, paths[demo.TwinOf], known)
	if err != nil {
		return err
	}
	fmt.Fprintf(command.ErrOrStderr(), "Fit 1: %s\n", demo.Twin)
	fit, err := c.FitTwin(ctx, resource.NewTwin{Name: demo.Twin, VolumeID: measured.VolumeID, Guess: string(guess), Free: demo.TwinFree})
	if err != nil {
		return err
	}
	twin, err := followFit(ctx, c, newProgressView(command.ErrOrStderr(), false), fit)
	if err != nil {
		return err
	}
	then, err := c.AddVolume(ctx, resource.NewVolume{Name: demo.TwinThen, Locator: paths[demo.TwinThen]})
	if err != nil {
		return err
	}
	asked := resource.NewPrediction{Changes: []plan.Setting{demo.TwinChange}, VolumeID: then.ID, Plan: foretold}
	if _, err := c.Predict(ctx, twin.ID, asked); err != nil {
		return err
	}
	_, err = demoRun(ctx, c, command, demo.TwinThen, "", foretold)
	return err
}

// demoTuning serves a setup over iSCSI, a delay away, for as long as ctx lasts, and finds
// out which keys of its sessions matter.
func demoTuning(ctx context.Context, c *client.Client, command *cobra.Command, path string) error {
	p, err := demo.Plan(demo.Mainland)
	if err != nil {
		return err
	}
	d, err := simulated.ReadFile(path)
	if err != nil {
		return err
	}
	options := serveArrayOptions{listen: []string{"127.0.0.1:0"}, name: "iqn.2026-01.example.sedgewater:mainland", block: 512, delay: quantity.Seconds(demo.MainlandDelay), counters: "127.0.0.1:0"}
	served, err := options.start(ctx, d, path, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { _ = served.close() })
	locator := served.locator(served.Portals()[0]) + demo.MainlandKeys
	look, err := c.Look(ctx, locator, client.Asked{})
	if err != nil {
		return err
	}
	if look.Facts == nil {
		return errors.New("the unit on the mainland does not answer")
	}
	consent := &resource.ConsentToWrite{Size: look.Facts.Size, Serial: look.Facts.Serial}
	v, err := c.AddVolume(ctx, resource.NewVolume{Name: "mainland", Locator: locator, Consent: consent})
	if err != nil {
		return err
	}
	counters := resource.ToldFact{Key: "counters.address", Value: served.countersAddress()}
	if _, err := c.TellSetup(ctx, v.ID, resource.ToldSetup{Facts: []resource.ToldFact{counters}}); err != nil {
		return err
	}
	_, err = demoRun(ctx, c, command, "mainland", "", p)
	return err
}

// demoOn carries a plan out on setups that are registered, one after the other, and names
// each run for what is compared.
func demoOn(ctx context.Context, c *client.Client, command *cobra.Command, setups []string, p plan.Plan, name func(string) string) (details []resource.RunDetail, err error) {
	for _, setup := range setups {
		detail, err := demoRun(ctx, c, command, setup, "", p)
		if err != nil {
			return nil, err
		}
		detail.Volume.Name = name(setup)
		details = append(details, detail)
	}
	return details, nil
}

// demoRace lets setups race each other.
func demoRace(ctx context.Context, c *client.Client, command *cobra.Command) (details []resource.RunDetail, err error) {
	p, err := demo.Plan(demo.Race)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, setup := range demo.RaceOn {
		v, err := registered(ctx, c, setup)
		if err != nil {
			return nil, err
		}
		ids = append(ids, v.ID)
	}
	run, err := c.StartRun(ctx, resource.NewRun{VolumeID: ids[0], Beside: ids[1:], Plan: p})
	if err != nil {
		return nil, err
	}
	runs, err := jointOf(ctx, c, run)
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(command.ErrOrStderr(), "Runs %d to %d: %s on %s\n", runs[0].ID, runs[len(runs)-1].ID, run.Name, strings.Join(demo.RaceOn, ", "))
	view := newLiveView(command.ErrOrStderr(), false)
	view.brief = true
	if err := watchAll(ctx, c, view, runs); err != nil {
		return nil, err
	}
	for _, r := range runs {
		detail, err := c.Run(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		if err := ending(detail); err != nil {
			return nil, err
		}
		detail.Volume.Name = demo.Racing(detail.Volume.Name)
		details = append(details, detail)
	}
	return details, nil
}

// keepComparisons asks the station's questions of the runs.
func keepComparisons(ctx context.Context, c *client.Client, details []resource.RunDetail) error {
	runs := map[string]int64{demo.Again: details[len(details)-1].ID}
	for _, d := range details[:len(details)-1] {
		runs[d.Volume.Name] = d.ID
	}
	group := func(name string) resource.Group { return resource.Group{Name: name, Runs: []int64{runs[name]}} }
	for _, question := range demo.Comparisons {
		n := resource.NewComparison{Name: question.Name, Baseline: group(question.Baseline), Keep: true}
		for _, candidate := range question.Candidates {
			n.Candidates = append(n.Candidates, group(candidate))
		}
		if _, err := c.Compare(ctx, n); err != nil {
			return fmt.Errorf("compare: %w", err)
		}
	}
	return nil
}

// demoRun registers a volume, unless its locator is empty and it is registered,
// and measures it.
func demoRun(ctx context.Context, c *client.Client, command *cobra.Command, name, locator string, p plan.Plan) (detail resource.RunDetail, err error) {
	var volume resource.Volume
	if locator == "" {
		volume, err = registered(ctx, c, name)
	} else {
		volume, err = c.AddVolume(ctx, resource.NewVolume{Name: name, Locator: locator})
	}
	if err != nil {
		return detail, err
	}
	run, err := c.StartRun(ctx, resource.NewRun{VolumeID: volume.ID, Plan: p})
	if err != nil {
		return detail, err
	}
	fmt.Fprintf(command.ErrOrStderr(), "Run %d: %s on %s\n", run.ID, run.Name, name)
	view := newLiveView(command.ErrOrStderr(), false)
	view.brief = true
	err = c.Watch(ctx, run.ID, client.Watcher{Run: view.run, Measurement: view.measurement, Point: view.point})
	view.end()
	if err != nil {
		return detail, err
	}
	if detail, err = c.Run(ctx, run.ID); err != nil {
		return detail, err
	}
	return detail, ending(detail)
}

// registered finds a volume by its name.
func registered(ctx context.Context, c *client.Client, name string) (resource.Volume, error) {
	volumes, err := c.Volumes(ctx)
	if err != nil {
		return resource.Volume{}, err
	}
	if v, found := among(volumes, name); found {
		return v, nil
	}
	return resource.Volume{}, fmt.Errorf("no volume is called %q; 'heron volume list' shows them", name)
}

// printDemo prints one line a measurement.
func printDemo(w io.Writer, details []resource.RunDetail) {
	t := newTable(w, 5, "run", "volume", "measurement", "repeat", "IOPS", "MB/s", "p50 ms", "p99 ms")
	for _, d := range details {
		for _, m := range d.Measurements {
			total, title := m.Summary.Total, m.Title()
			if m.Unreliable("total") {
				title += " (?)"
			}
			t.AppendRow(table.Row{
				d.ID, d.Volume.Name, title, m.Repeat, withoutUnit(total.Rate), quantity.Digits(float64(total.Throughput) / 1e6),
				quantity.Digits(float64(total.Latency.P50) * 1e3), quantity.Digits(float64(total.Latency.P99) * 1e3),
			})
		}
	}
	t.Render()
}
