package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/sync/errgroup"

	"patientheron/client"
	"patientheron/core/fileset"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/format/arrayfile"
	"patientheron/format/filesetfile"
	"patientheron/format/planfile"
	"patientheron/resource"
)

// loadFlags adds a flag for every field of a workload.
func loadFlags(flags *pflag.FlagSet, spec *workload.Spec) {
	for _, field := range workload.Fields() {
		f := &fieldValue{field: field, spec: spec}
		added := flags.VarPF(f, field.Flag, "", field.Usage)
		inGroup(flags, field.Group(), field.Flag)
		if field.Bool {
			added.NoOptDefVal = "true"
		}
	}
}

// fieldValue lets a flag set a field of a workload.
type fieldValue struct {
	field workload.Field
	spec  *workload.Spec
	text  string
}

func (f *fieldValue) String() string { return f.text }

func (f *fieldValue) Type() string {
	if f.field.Bool {
		return "bool"
	}
	return "value"
}

func (f *fieldValue) Set(text string) error {
	if f.field.Name == "from" { // from here, as volumes are named
		folder, err := filepath.Abs(text)
		if err != nil {
			return err
		}
		text = folder
	}
	f.text = text
	if f.field.Name != "files" {
		return f.field.Set(f.spec, text)
	}
	set, err := readFileSet(text)
	if err == nil {
		files.Use(f.spec, set)
	}
	return err
}

// readFileSet reads the text of a set of files, or the file that describes one.
func readFileSet(text string) (fileset.Set, error) {
	set, wrong := files.ParseSet(text)
	if wrong == nil {
		return set, nil
	}
	content, err := readText(text, nil)
	if errors.Is(err, fs.ErrNotExist) {
		return set, fmt.Errorf("%w; and there is no file of that name", wrong)
	}
	if err == nil {
		set, err = filesetfile.Read(content)
	}
	return set, err
}

type measureOptions struct {
	spec    workload.Spec
	name    string
	repeats int
	pause   string
	quiet   string
	preset  string
	file    string
	pace    string
	over    []string
	sweep   []string
	fit     string
	detach  bool
	race    bool
}

func (a *app) measure() *cobra.Command {
	o := &measureOptions{spec: workload.Default()}
	command := &cobra.Command{
		Use: "measure VOLUME...", Short: "Measure a volume, or several together, and show it live", Args: cobra.RangeArgs(1, plan.MostBeside),
		Long: `Measure a volume: a folder, a file, a block device, array:FILE, null:SIZE,
iscsi://PORTAL/TARGET/LUN (docs/iscsi.md), or the name of a registered volume. A new path
is registered. Without flags: 4 KiB random reads at depth 8, one worker, a span of 1 GiB,
for ten seconds. Ctrl-C stops the run; its results so far are kept.

In a folder, a test file of the span is created, filled with data, and removed at the end.
An existing file or device is only read, unless it was registered with consent to
overwrite it ("heron volume add --help").

Several volumes are measured alternately, back and forth, so that drift affects all of
them alike. With --race each measurement starts on all of them at once. Each volume gets a
run of its own. The runs are compared in pairs, with the first volume as the baseline.

--files: the load works on files. They are created in a folder below the measured one and
removed at the end. Tasks: put (copy up), fetch (copy down), save (rewrite as editors do),
ask (read attributes), browse (list folders and read attributes), remove.

--feeds: streams with deadlines, each at a rate of its own. Pieces that miss their deadline
and stalls are counted. --fit searches for the largest number of streams without misses.

--stores: key-value stores (log-structured merge trees) that put, get and scan entries,
with a write-ahead log, compaction and Bloom filters.

--preset, --plan: run a plan; load flags override that field in all its stages.

--sweep: measure at each value of a field; 1..64 stands for 1, 2, 4, … 64. On a simulated
array any key of its file can be swept (docs/arrays.md): each point uses a new array, and
"none" removes a key or a part.`,
		Example: `  heron measure /srv/pool --block 4KiB --reads 70% --depth 32 --workers 4 --span 10GiB --for 60s
  heron measure /srv/pool --block 1MiB --order sequential --reads 0% --amount 4GiB --for 0
  heron measure /srv/pool --preset ledger --span 4GiB
  heron measure /srv/pool --plan my-plan.yaml
  heron measure /srv/pool --sweep depth=1..64 --sweep block=4KiB,64KiB --for 5s
  heron measure /srv/pool --files "2000 x 64KiB" --task put --passes 1 --workers 4
  heron measure /srv/pool --files photographs.yaml --task fetch:3,save:1 --for 60s
  heron measure /srv/pool --feeds 12 --frames hd1080/20@25 --span 40GiB --for 60s
  heron measure /srv/pool --feed-rate 6MB/s --fit feeds=1..400 --repeats 3 --span 40GiB --for 60s
  heron measure /srv/pool --stores 1 --requests put:1,get:1 --span 20GiB --for 120s
  heron measure /srv/old /srv/new --block 64KiB --for 20s --repeats 5
  heron measure /srv/old /srv/new --files "2000 x 64KiB" --task put --passes 1 --race
  heron measure "iscsi://192.0.2.10/iqn.2026-01.example:store/0?ImmediateData=No" --span 10GiB
  heron measure null:1TiB --here --json`,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			return a.startMeasuring(ctx, c, command, arguments, o)
		}),
	}
	o.flags(command)
	return command
}

// flags adds the flags of a measurement to a command.
func (o *measureOptions) flags(command *cobra.Command) {
	flags := command.Flags()
	flags.SortFlags = false
	loadFlags(flags, &o.spec)
	flags.StringVar(&o.preset, "preset", "", "run a preset (heron preset list)")
	flags.StringVar(&o.file, "plan", "", "run a plan file (- for standard input)")
	flags.StringArrayVar(&o.sweep, "sweep", nil, "measure at each value of a field or of a key of an array file, such as depth=1..64 or members.count=4,6,8; several sweeps are combined")
	flags.StringVar(&o.fit, "fit", "", "search for the largest value of a field at which all streams keep their rate, such as feeds=1..400")
	flags.BoolVar(&o.race, "race", false, "start each measurement on all volumes at once, instead of alternating")
	flags.StringVar(&o.name, "name", "", "name of the run")
	flags.IntVar(&o.repeats, "repeats", 1, "number of repeats")
	flags.StringVar(&o.pause, "pause", "0", "wait this long before each measurement")
	flags.StringVar(&o.quiet, "quiet", "0", "wait until the device is idle, at most this long")
	flags.StringVar(&o.pace, "pace", "", "simulate at 1x or 20x real time, to watch it (default: as fast as possible)")
	flags.StringSliceVar(&o.over, "override", nil, "measure although this check failed, such as room; recorded with the run")
	flags.BoolVar(&o.detach, "detach", false, "start the run and return at once")
	inGroup(flags, planFlags, "preset", "plan", "sweep", "fit", "race", "name", "repeats")
	inGroup(flags, waitFlags, "pause", "quiet", "pace", "override", "detach")
}

func (a *app) startMeasuring(ctx context.Context, c *client.Client, command *cobra.Command, targets []string, o *measureOptions) error {
	p, err := o.plan(command)
	if err != nil {
		return err
	}
	if o.race && len(targets) < 2 {
		return errors.New("--race needs two volumes or more; name another, or leave it out")
	}
	if a.here && o.detach {
		return errors.New("--here works only as long as this command runs; leave out --detach")
	}
	pace, err := readPace(o.pace)
	if err != nil {
		return err
	}
	var ids []int64
	for _, target := range targets {
		volume, err := a.findVolume(ctx, c, target)
		if err != nil {
			return err
		}
		ids = append(ids, volume.ID)
	}
	run, err := c.StartRun(ctx, resource.NewRun{Name: o.name, VolumeID: ids[0], Beside: ids[1:], Plan: p, Pace: pace, Override: o.over})
	if err != nil {
		return err
	}
	if !a.json && run.Estimate.Measurements*len(ids) > 1 {
		printEstimate(command.ErrOrStderr(), run.Estimate, len(ids), p.Beside)
	}
	if o.detach {
		if a.json {
			return printJSON(command.OutOrStdout(), run)
		}
		fmt.Fprintf(command.OutOrStdout(), "Run %d is %s; watch it with 'heron run watch %d'.\n", run.ID, run.Status, run.ID)
		return nil
	}
	return a.follow(ctx, c, command, run, true)
}

// readPace reads "20x" or "20"; nothing is as fast as it can.
func readPace(text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	pace, err := strconv.ParseFloat(strings.TrimSuffix(text, "x"), 64)
	if err != nil || !(pace > 0 && pace <= 1e6) {
		return 0, fmt.Errorf("--pace %q is not understood; write it like 1x or 20x", text)
	}
	return pace, nil
}

// readFit reads a search such as "feeds=1..400"; nil for none.
func readFit(text string) (*plan.Fit, error) {
	if text == "" {
		return nil, nil
	}
	field, values, found := strings.Cut(text, "=")
	from, to, isRange := strings.Cut(values, "..")
	f := plan.Fit{Field: strings.TrimSpace(field)}
	var wrong error
	for _, part := range []struct {
		text  string
		place *int
	}{{from, &f.From}, {to, &f.To}} {
		value, err := strconv.Atoi(strings.TrimSpace(part.text))
		*part.place, wrong = value, errors.Join(wrong, err)
	}
	if !found || !isRange || wrong != nil {
		return nil, fmt.Errorf("--fit %q is not understood; write it like feeds=1..400", text)
	}
	return &f, nil
}

// readSweeps reads axes such as "depth=1..64". Values of a key of an array file may hold
// commas within brackets.
func readSweeps(texts []string) (axes []plan.Axis, err error) {
	for _, text := range texts {
		field, values, found := strings.Cut(text, "=")
		if field = strings.TrimSpace(field); !found || field == "" {
			return nil, fmt.Errorf("--sweep %q is not understood; write it like depth=1..64 or members.count=4,6,8", text)
		}
		if plan.OfArray(field) { // keys of a session are known where they are spoken
			if err := arrayfile.CheckKey(field); err != nil {
				return nil, fmt.Errorf("--sweep: %w", err)
			}
		}
		axes = append(axes, plan.Axis{Field: field, Values: splitOutside(values)})
	}
	return axes, nil
}

// splitOutside splits a text at the commas that stand in no brackets.
func splitOutside(text string) (parts []string) {
	depth, begin := 0, 0
	for i, r := range text {
		switch r {
		case '[', '{':
			depth++
		case ']', '}':
			depth--
		case ',':
			if depth == 0 {
				parts, begin = append(parts, text[begin:i]), i+1
			}
		}
	}
	return append(parts, text[begin:])
}

// plan is the plan the flags ask for: a preset or a file with what the load
// flags override, or one stage made of them.
func (o *measureOptions) plan(command *cobra.Command) (p plan.Plan, err error) {
	flags := command.Flags()
	switch {
	case o.preset != "" && o.file != "":
		return p, errors.New("--preset and --plan name two plans; keep one")
	case o.preset != "":
		var preset planfile.Preset
		preset, err = planfile.FindPreset(o.preset)
		p = preset.Plan
	case o.file != "":
		p, err = readPlan(o.file, command.InOrStdin())
	default:
		p = plan.Plan{Stages: []plan.Stage{{Load: o.spec}}}
	}
	if err != nil {
		return p, err
	}
	if o.race {
		p.Beside = plan.Race
	}
	if o.preset != "" || o.file != "" {
		var given []plan.Setting
		for _, field := range workload.Fields() {
			if f := flags.Lookup(field.Flag); f.Changed && field.Name == "files" {
				for i := range p.Stages {
					files.Use(&p.Stages[i].Load, files.Of(o.spec).Set)
				}
			} else if f.Changed {
				given = append(given, plan.Setting{Field: field.Name, Value: f.Value.String()})
			}
		}
		if p, err = planfile.Override(p, given); err != nil {
			return p, err
		}
	}
	if flags.Changed("passes") && !flags.Changed("for") {
		for i := range p.Stages {
			p.Stages[i].Load.For = 0 // the passes end it
		}
	}
	pause, err := quantity.ParseSeconds(o.pause)
	if err != nil {
		return p, fmt.Errorf("--pause: %w", err)
	}
	quiet, err := quantity.ParseSeconds(o.quiet)
	if err != nil {
		return p, fmt.Errorf("--quiet: %w", err)
	}
	fit, err := readFit(o.fit)
	if err != nil {
		return p, err
	}
	axes, err := readSweeps(o.sweep)
	if err != nil {
		return p, err
	}
	for i := range p.Stages {
		stage := &p.Stages[i]
		if stage.Precondition == nil {
			stage.Sweep = append(slices.Clone(stage.Sweep), axes...)
		}
		if fit != nil && stage.Precondition == nil {
			stage.Fit = fit
		}
		if flags.Changed("repeats") {
			stage.Repeats = o.repeats
		}
		if flags.Changed("pause") || flags.Changed("quiet") {
			stage.Settle = plan.Settle{Pause: pause, Quiet: quiet}
		}
	}
	_, err = p.Steps() // says what is impossible in the words of the flags
	return p, err
}

// findVolume finds the volume a user means: a registered name or locator, or
// a locator to register.
func (a *app) findVolume(ctx context.Context, c *client.Client, target string) (resource.Volume, error) {
	volumes, err := c.Volumes(ctx)
	if err != nil {
		return resource.Volume{}, err
	}
	if volume, found := among(volumes, target); found {
		return volume, nil
	}
	locator, err := absolute(target)
	if err != nil {
		return resource.Volume{}, err
	}
	return register(ctx, c, resource.NewVolume{Locator: locator}, volumes)
}

// among finds a volume among those that are registered, by its name or locator.
func among(volumes []resource.Volume, target string) (resource.Volume, bool) {
	locator, err := absolute(target)
	i := slices.IndexFunc(volumes, func(v resource.Volume) bool { return v.Name == target || err == nil && v.Locator == locator })
	if i < 0 {
		return resource.Volume{}, false
	}
	return volumes[i], true
}

// register registers a volume. An array file that the service may not read where
// it is, but its user may, is handed over; registered is what there is already,
// where that will do.
func register(ctx context.Context, c *client.Client, v resource.NewVolume, registered []resource.Volume) (resource.Volume, error) {
	volume, err := c.AddVolume(ctx, v)
	path, isArray := describedBy(v.Locator)
	if err == nil || !isArray || !client.IsProblem(err, resource.ProblemOutside) {
		return volume, err
	}
	if v.Locator, err = keepArray(ctx, c, path, ""); err != nil {
		return volume, err
	}
	if i := slices.IndexFunc(registered, func(r resource.Volume) bool { return r.Locator == v.Locator }); i >= 0 {
		return registered[i], nil
	}
	return c.AddVolume(ctx, v)
}

// follow watches a run, and those that are made together with it, to the end and prints
// the result. When the command owns the run, an interrupt stops the run; a second one
// leaves at once.
func (a *app) follow(ctx context.Context, c *client.Client, command *cobra.Command, run resource.Run, owns bool) error {
	interrupted, release := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer release()
	watching, leave := context.WithCancel(context.WithoutCancel(ctx))
	defer leave()
	go func() {
		<-interrupted.Done()
		release() // from here on an interrupt ends the process
		if !owns {
			leave()
			return
		}
		if err := c.StopRun(watching, run.ID, false); err != nil {
			leave()
		}
	}()
	runs, err := jointOf(ctx, c, run)
	if err != nil {
		return err
	}
	err = watchAll(watching, c, newLiveView(command.ErrOrStderr(), a.json), runs)
	if err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	if !owns && interrupted.Err() != nil {
		return nil // the run goes on without us
	}
	var details []resource.RunDetail
	var ended error
	for _, r := range runs {
		detail, err := c.Run(context.WithoutCancel(ctx), r.ID)
		if err != nil {
			return err
		}
		details, ended = append(details, detail), errors.Join(ended, ending(detail))
	}
	return errors.Join(a.printResult(context.WithoutCancel(ctx), c, command.OutOrStdout(), details), ended)
}

// jointOf is a run with those that are made together with it.
func jointOf(ctx context.Context, c *client.Client, run resource.Run) ([]resource.Run, error) {
	if run.Joint == nil {
		return []resource.Run{run}, nil
	}
	var runs []resource.Run
	for _, id := range run.Joint.Runs {
		detail, err := c.Run(ctx, id)
		if err != nil {
			return nil, err
		}
		runs = append(runs, detail.Run)
	}
	return runs, nil
}

// watchAll shows runs until all of them have ended.
func watchAll(ctx context.Context, c *client.Client, view *liveView, runs []resource.Run) error {
	defer view.end()
	watcher := client.Watcher{Run: view.run, Measurement: view.measurement, Point: view.point}
	if len(runs) > 1 {
		together := newRaceView(view, runs)
		if runs[0].Joint.As == plan.Race {
			watcher.Measurement, watcher.Point = together.measurement, together.point
		} else {
			view.names = together.names
		}
	}
	all, ctx := errgroup.WithContext(ctx)
	for _, run := range runs {
		all.Go(func() error { return c.Watch(ctx, run.ID, watcher) })
	}
	return all.Wait()
}

// printResult prints a run that ended, or those that were made together with what comes
// of them together.
func (a *app) printResult(ctx context.Context, c *client.Client, w io.Writer, details []resource.RunDetail) error {
	together, err := madeTogether(ctx, c, details)
	switch {
	case err != nil:
		return err
	case a.json && len(details) == 1:
		return printJSON(w, details[0])
	case a.json:
		return printJSON(w, together)
	}
	for _, detail := range details {
		if err := a.printAlone(ctx, c, w, detail); err != nil {
			return err
		}
		if len(details) > 1 {
			fmt.Fprintln(w)
		}
	}
	if together.Races != nil {
		printRaces(w, *together.Races)
		fmt.Fprintln(w)
	}
	if together.Compared != nil {
		printCompared(w, *together.Compared, "")
	}
	return nil
}

// printAlone prints a run: of one that is nothing but experiments what they found out, of all
// others their measurements.
func (a *app) printAlone(ctx context.Context, c *client.Client, w io.Writer, detail resource.RunDetail) error {
	if slices.ContainsFunc(detail.Plan.Stages, func(s plan.Stage) bool { return s.Tune == nil }) {
		return printRun(w, detail)
	}
	shape, err := c.Shape(ctx, detail.ID, 0)
	if err != nil {
		return err
	}
	return printTuned(w, shape.Tuned)
}

// ErrNotFinished is given when a run that was waited for did not finish, so
// that scripts see it in the exit code.
var ErrNotFinished = errors.New("the run did not finish")

func ending(detail resource.RunDetail) error {
	if detail.Status == resource.Finished && detail.Reason == "" {
		return nil
	}
	return fmt.Errorf("%w: run %d is %s: %s", ErrNotFinished, detail.ID, detail.Status, detail.Reason)
}

func (a *app) watch() *cobra.Command {
	return &cobra.Command{
		Use: "watch RUN", Short: "Watch a run until it ends", Args: cobra.ExactArgs(1),
		Long:    "Watch a run live and print its result at the end. Ctrl-C stops watching; the run goes on.",
		Example: "  heron run watch 12\n  heron run watch 12 --json",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			id, err := number(arguments[0], "run")
			if err != nil {
				return err
			}
			detail, err := c.Run(ctx, id)
			if err != nil {
				return err
			}
			return a.follow(ctx, c, command, detail.Run, false)
		}),
	}
}
