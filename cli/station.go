package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/jedib0t/go-pretty/v6/table"
	"golang.org/x/sync/errgroup"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/demo"
	"patientheron/resource"
	"patientheron/storage/simulated"
)

// station carries the scenario of the demo out: what a newcomer opens first is made first, and
// what is simulated is asked for at once, so that it goes beside each other.
type station struct {
	c       *client.Client
	out     io.Writer // of what goes on
	folder  string
	arrays  string
	volumes map[string]resource.Volume

	mu    sync.Mutex
	ended map[string]resource.RunDetail // by what the run is called in comparisons
}

// begun is a run of the demo, by what it is called in comparisons.
type begun struct {
	name string
	run  resource.Run
}

// measureDemo registers the volumes of the scenario, makes its runs and prints what they came to.
func measureDemo(ctx context.Context, c *client.Client, w, log io.Writer, folder string, live bool) error {
	s := &station{c: c, out: log, folder: folder, arrays: filepath.Join(folder, "arrays"), volumes: map[string]resource.Volume{}, ended: map[string]resource.RunDetail{}}
	if err := os.Mkdir(s.arrays, 0o700); err != nil {
		return err
	}
	days, err := s.days(ctx)
	if err != nil {
		return err
	}
	if live {
		if err := s.live(ctx); err != nil {
			return err
		}
	}
	const first = 4 // setups, of the first comparison
	if err := s.follow(ctx, days[:first]); err != nil {
		return err
	}
	if err := s.answer(ctx, demo.Comparisons[:1]); err != nil {
		return err
	}
	later, err := s.others(ctx)
	if err != nil {
		return err
	}
	if err := s.follow(ctx, append(days[first:], later...)); err != nil {
		return err
	}
	if err := s.answer(ctx, demo.Comparisons[1:]); err != nil {
		return err
	}
	real, err := s.real(ctx)
	if err != nil {
		return err
	}
	if err := s.follow(ctx, real); err != nil {
		return err
	}
	if err := s.twin(ctx); err != nil {
		return err
	}
	var shown []resource.RunDetail
	for _, b := range append(days, real...) {
		shown = append(shown, s.ended[b.name])
	}
	printDemo(w, shown)
	return nil
}

// days asks for a day of the station on each setup, and keeps what each use needs.
func (s *station) days(ctx context.Context) (all []begun, err error) {
	day, err := demo.Day()
	if err != nil {
		return nil, err
	}
	for _, setup := range demo.Setups {
		if err := s.register(ctx, setup); err != nil {
			return nil, err
		}
		b, err := s.begin(ctx, setup, setup, day)
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	_, err = s.keepNeed(ctx, demo.DayNeed)
	return all, err
}

// live starts a run that goes at the pace of the wall, to be watched.
func (s *station) live(ctx context.Context) error {
	p, err := demo.Live()
	if err != nil {
		return err
	}
	run, err := s.c.StartRun(ctx, resource.NewRun{VolumeID: s.volumes[demo.LiveOn].ID, Plan: p, Pace: 1})
	if err == nil {
		fmt.Fprintf(s.out, "Run %d goes on live: %s on %s\n", run.ID, run.Name, demo.LiveOn)
	}
	return err
}

// others asks for all other runs on simulated setups.
func (s *station) others(ctx context.Context) (all []begun, err error) {
	add := func(name, setup string, p plan.Plan) error {
		b, err := s.begin(ctx, name, setup, p)
		all = append(all, b)
		return err
	}
	day, err := demo.Day()
	if err != nil {
		return nil, err
	}
	if err := add(demo.Again, demo.Setups[0], day); err != nil {
		return nil, err
	}
	for _, work := range []struct {
		plan string
		on   []string
		name func(setup string) string
	}{
		{demo.Files, demo.FilesOn, demo.OfFiles}, {demo.Sweep, demo.Setups[:1], demo.Swept}, {demo.Race, nil, nil}, {demo.Catalogue, demo.CatalogueOn, demo.Cataloguing},
	} {
		p, err := demo.Plan(work.plan)
		if err != nil {
			return nil, err
		}
		if work.plan == demo.Race {
			racing, err := s.race(ctx, p)
			if err != nil {
				return nil, err
			}
			all = append(all, racing...)
			continue
		}
		for _, setup := range work.on {
			if err := add(work.name(setup), setup, p); err != nil {
				return nil, err
			}
		}
	}
	needed, err := s.needed(ctx)
	return append(all, needed...), err
}

// race lets setups race each other.
func (s *station) race(ctx context.Context, p plan.Plan) (all []begun, err error) {
	var ids []int64
	for _, setup := range demo.RaceOn {
		ids = append(ids, s.volumes[setup].ID)
	}
	run, err := s.c.StartRun(ctx, resource.NewRun{VolumeID: ids[0], Beside: ids[1:], Plan: p})
	if err != nil {
		return nil, err
	}
	runs, err := jointOf(ctx, s.c, run)
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(s.out, "Runs %d to %d: %s on %s\n", runs[0].ID, runs[len(runs)-1].ID, run.Name, strings.Join(demo.RaceOn, ", "))
	for _, run := range runs {
		all = append(all, begun{demo.Racing(run.Volume.Name), run})
	}
	return all, nil
}

// keepNeed keeps a need sheet of the station, and gives its text.
func (s *station) keepNeed(ctx context.Context, name string) (text string, err error) {
	if text, err = demo.Need(name); err != nil {
		return "", err
	}
	if _, err := s.c.KeepNeed(ctx, text); err != nil {
		return "", fmt.Errorf("keep the need %s: %w", name, err)
	}
	return text, nil
}

// needed asks for what an afternoon needs at once, on whole and on degraded setups.
func (s *station) needed(ctx context.Context) (all []begun, err error) {
	sheet, err := s.keepNeed(ctx, demo.AfternoonNeed)
	if err != nil {
		return nil, err
	}
	const repeats = 3
	for _, setup := range demo.AtOnceOn {
		for _, degraded := range []bool{false, true} {
			needed, err := s.c.Needed(ctx, s.volumes[setup].ID, resource.NewNeeded{Text: sheet, Repeats: repeats, Degraded: degraded})
			if err != nil {
				return nil, err
			}
			b, err := s.begin(ctx, fmt.Sprintf("%s, an afternoon, degraded: %v", setup, degraded), setup, needed.Plan)
			if err != nil {
				return nil, err
			}
			all = append(all, b)
		}
	}
	return all, nil
}

// real asks for the runs on storage of this machine, which have it to themselves. The unit on
// the mainland is looked at before anything is measured: a look is timed, and a busy disk could
// hold it up.
func (s *station) real(ctx context.Context) (all []begun, err error) {
	tuning, err := s.mainland(ctx)
	if err != nil {
		return nil, err
	}
	for _, real := range []struct{ volume, locator, plan string }{
		{"station-disk", filepath.Join(s.folder, "storage"), "first-look"},
		{"nothing", "null:1TiB", "own-cost"},
	} {
		p, err := demo.Plan(real.plan)
		if err != nil {
			return nil, err
		}
		if err := s.add(ctx, resource.NewVolume{Name: real.volume, Locator: real.locator}); err != nil {
			return nil, err
		}
		b, err := s.begin(ctx, real.volume, real.volume, p)
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	tuned, err := s.begin(ctx, mainlandVolume, mainlandVolume, tuning)
	return append(all, tuned), err
}

// mainlandVolume is what the unit on the mainland is called.
const mainlandVolume = "mainland"

// mainland serves a setup over iSCSI, a delay away, for as long as ctx lasts, registers it, and
// gives the plan that asks which keys of its sessions matter.
func (s *station) mainland(ctx context.Context) (p plan.Plan, err error) {
	if p, err = demo.Plan(demo.Mainland); err != nil {
		return p, err
	}
	path := filepath.Join(s.arrays, demo.MainlandSetup+".yaml")
	d, err := simulated.ReadFile(path)
	if err != nil {
		return p, err
	}
	options := serveArrayOptions{listen: []string{"127.0.0.1:0"}, name: "iqn.2026-01.example.sedgewater:mainland", block: 512, delay: quantity.Seconds(demo.MainlandDelay), counters: "127.0.0.1:0"}
	served, err := options.start(ctx, d, path, slog.New(slog.DiscardHandler))
	if err != nil {
		return p, err
	}
	context.AfterFunc(ctx, func() { _ = served.close() })
	locator := served.locator(served.Portals()[0]) + demo.MainlandKeys
	look, err := s.c.Look(ctx, locator, client.Asked{})
	if err != nil {
		return p, err
	}
	if look.Facts == nil {
		return p, fmt.Errorf("look at the unit on the mainland: %s", strings.Join(failedChecks(look), " "))
	}
	consent := &resource.ConsentToWrite{Size: look.Facts.Size, Serial: look.Facts.Serial}
	if err := s.add(ctx, resource.NewVolume{Name: mainlandVolume, Locator: locator, Consent: consent}); err != nil {
		return p, err
	}
	counters := resource.ToldFact{Key: "counters.address", Value: served.countersAddress()}
	_, err = s.c.TellSetup(ctx, s.volumes[mainlandVolume].ID, resource.ToldSetup{Facts: []resource.ToldFact{counters}})
	return p, err
}

// failedChecks are the sentences of a look that keep a volume from being measured.
func failedChecks(look resource.Look) (sentences []string) {
	for _, check := range look.Checks {
		if check.Result == setup.Failed {
			sentences = append(sentences, check.Sentence)
		}
	}
	return sentences
}

// twin gets to know a unit that is not what it was sold as, fits a twin to it, and predicts what
// more disks will bring, which is then measured.
func (s *station) twin(ctx context.Context) error {
	known, err := demo.Plan(demo.TwinPlan)
	if err != nil {
		return err
	}
	predicted, err := demo.Plan(demo.TwinPredicted)
	if err != nil {
		return err
	}
	guess, err := demo.Setup(demo.TwinGuess)
	if err != nil {
		return err
	}
	for _, setup := range []string{demo.TwinOf, demo.TwinThen} {
		if err := s.register(ctx, setup); err != nil {
			return err
		}
	}
	b, err := s.begin(ctx, demo.TwinOf, demo.TwinOf, known)
	if err != nil {
		return err
	}
	if err := s.follow(ctx, []begun{b}); err != nil {
		return err
	}
	fmt.Fprintf(s.out, "Fit 1: %s\n", demo.Twin)
	fit, err := s.c.FitTwin(ctx, resource.NewTwin{Name: demo.Twin, VolumeID: b.run.VolumeID, Guess: string(guess), Free: demo.TwinFree})
	if err != nil {
		return err
	}
	twin, err := followFit(ctx, s.c, newProgressView(s.out, false), fit)
	if err != nil {
		return err
	}
	asked := resource.NewPrediction{Changes: []plan.Setting{demo.TwinChange}, VolumeID: s.volumes[demo.TwinThen].ID, Plan: predicted}
	if _, err := s.c.Predict(ctx, twin.ID, asked); err != nil {
		return err
	}
	if b, err = s.begin(ctx, demo.TwinThen, demo.TwinThen, predicted); err != nil {
		return err
	}
	return s.follow(ctx, []begun{b})
}

// register writes the array file of a setup and registers it.
func (s *station) register(ctx context.Context, setup string) error {
	path, err := demo.WriteSetup(s.arrays, setup)
	if err != nil {
		return err
	}
	return s.add(ctx, resource.NewVolume{Name: setup, Locator: simulated.Locator(path)})
}

func (s *station) add(ctx context.Context, v resource.NewVolume) (err error) {
	s.volumes[v.Name], err = s.c.AddVolume(ctx, v)
	return err
}

// begin asks for a run on a volume that is registered.
func (s *station) begin(ctx context.Context, name, volume string, p plan.Plan) (begun, error) {
	run, err := s.c.StartRun(ctx, resource.NewRun{VolumeID: s.volumes[volume].ID, Plan: p})
	if err == nil {
		fmt.Fprintf(s.out, "Run %d: %s on %s\n", run.ID, run.Name, volume)
	}
	return begun{name, run}, err
}

// follow waits until runs have ended, and says so of each.
func (s *station) follow(ctx context.Context, runs []begun) error {
	all, ctx := errgroup.WithContext(ctx)
	for _, b := range runs {
		all.Go(func() error {
			if err := s.c.Watch(ctx, b.run.ID, client.Watcher{}); err != nil {
				return err
			}
			detail, err := s.c.Run(ctx, b.run.ID)
			if err != nil {
				return err
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			fmt.Fprintf(s.out, "Run %d has ended, of %d measurements\n", detail.ID, len(detail.Measurements))
			s.ended[b.name] = detail
			return ending(detail)
		})
	}
	return all.Wait()
}

// answer asks the station's questions of the runs that have ended, and keeps what comes of them.
func (s *station) answer(ctx context.Context, questions []demo.Comparison) error {
	group := func(name string) resource.Group { return resource.Group{Name: name, Runs: []int64{s.ended[name].ID}} }
	for _, question := range questions {
		n := resource.NewComparison{Name: question.Name, Baseline: group(question.Baseline), Keep: true}
		for _, candidate := range question.Candidates {
			n.Candidates = append(n.Candidates, group(candidate))
		}
		if _, err := s.c.Compare(ctx, n); err != nil {
			return fmt.Errorf("compare: %w", err)
		}
		fmt.Fprintf(s.out, "Compared: %s\n", question.Name)
	}
	return nil
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
