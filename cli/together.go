package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/race"
	"patientheron/core/workload"
	"patientheron/resource"
)

// Together is what came of runs that were made together.
type Together struct {
	Runs     []resource.RunDetail `json:"runs"`
	Compared *resource.Compared   `json:"compared,omitempty"`
	Races    *resource.Races      `json:"races,omitempty"`
}

// madeTogether gathers what came of the runs of a joint.
func madeTogether(ctx context.Context, c *client.Client, details []resource.RunDetail) (t Together, err error) {
	t.Runs = details
	if len(details) < 2 {
		return t, nil
	}
	request := resource.NewComparison{Baseline: resource.Group{Runs: []int64{details[0].ID}}}
	for _, d := range details[1:] {
		request.Candidates = append(request.Candidates, resource.Group{Runs: []int64{d.ID}})
	}
	compared, err := c.Compare(ctx, request)
	if err != nil {
		return t, err
	}
	t.Compared = &compared
	if details[0].Joint.As == plan.Race {
		races, err := c.Races(ctx, details[0].ID, 0)
		t.Races = &races
		return t, err
	}
	return t, nil
}

func (a *app) race() *cobra.Command {
	var only int
	command := a.runCommand("race RUN", "Show which volume was ahead in a race, when and by how much", "  heron measure /srv/old /srv/new --race --repeats 5\n  heron run race 23\n  heron run race 23 --only 3", func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
		races, err := c.Races(ctx, id, max(only, 0))
		if err != nil {
			return err
		}
		if only > 0 && len(races.Races) == 0 {
			return fmt.Errorf("run %d has no race %d; 'heron run race %d' shows all", id, only, id)
		}
		if a.json {
			return printJSON(command.OutOrStdout(), races)
		}
		printRaces(command.OutOrStdout(), races)
		return nil
	})
	command.Flags().IntVar(&only, "only", 0, "show the race of this number alone")
	command.Long = `Show a race: volumes that were measured at the same time ("heron measure A B --race").
It lists which was ahead when and by how much, when each finished, whose rate was the
steadiest, and what they shared. It works during the race, too.

One race is one observation. To decide whether one volume is better, race several times
and use "heron compare" on the runs: it compares them in pairs.`
	return command
}

// strip is how many characters show who was ahead when.
const strip = 60

// letter stands for a racer in a strip.
func letter(racer int) string {
	if racer < 0 {
		return "·"
	}
	return string(rune('A' + racer))
}

func printRaces(w io.Writer, races resource.Races) {
	if len(races.Races) == 0 {
		fmt.Fprintln(w, "The race has not started.")
		return
	}
	for i, r := range races.Races {
		if i > 0 {
			fmt.Fprintln(w)
		}
		title := r.Title
		if r.Repeats > 1 {
			title += fmt.Sprintf(", repeat %d of %d", r.Repeat, r.Repeats)
		}
		fmt.Fprintf(w, "Race %d  %s\n", r.Position, title)
		fmt.Fprintf(w, "  %s\n", indented(r.Words, "  "))
		printRace(w, r.Race)
		for _, caution := range r.Cautions {
			fmt.Fprintf(w, "  %s\n", indented("Caution: "+caution, "  "))
		}
	}
}

func printRace(w io.Writer, r race.Race) {
	t := newTable(w, 3, "", "racer", "run", "done", "per second", "time", "variation")
	for i, s := range r.Racers {
		done, rate := quantity.Bytes(s.Done).String(), "none"
		if r.Counts == "files" {
			done = fmt.Sprintf("%.0f files", s.Done)
		}
		if elapsed := s.Lasted(); elapsed > 0 {
			if rate = quantity.ByteRate(s.Done / float64(elapsed)).String(); r.Counts == "files" {
				rate = quantity.FileRate(s.Done / float64(elapsed)).String()
			}
		}
		took := s.Time.String()
		if s.Finished {
			took += ", done"
		}
		if s.Failed != "" {
			took += ", failed"
		}
		varies := ""
		if s.Variation > 0 {
			varies = s.Variation.String()
		}
		t.AppendRow(table.Row{letter(i), shorten(s.Name, 40), s.Run, done, rate, took, varies})
	}
	t.Render()
	if len(r.Leads) > 0 {
		fmt.Fprintf(w, "  ahead ▕%s▏ %s, · nobody\n", ahead(r.Leads), r.Leads[len(r.Leads)-1].To)
	}
}

// ahead draws who was ahead from the start to the end, one character for each part of
// the time: the one that was it the longest in that part.
func ahead(leads []race.Lead) string {
	from, to := float64(leads[0].From), float64(leads[len(leads)-1].To)
	var b strings.Builder
	for cell := range strip {
		begin, end := from+(to-from)*float64(cell)/strip, from+(to-from)*float64(cell+1)/strip
		longest, who := 0.0, -1
		of := map[int]float64{}
		for _, l := range leads {
			of[l.Racer] += math.Max(math.Min(end, float64(l.To))-math.Max(begin, float64(l.From)), 0)
			if of[l.Racer] > longest {
				longest, who = of[l.Racer], l.Racer
			}
		}
		b.WriteString(letter(who))
	}
	return b.String()
}

// raceView shows the measurements of several runs that go on at the same time, in one
// line.
type raceView struct {
	*liveView
	names    map[int64]string // of volumes, by run
	order    []int64          // runs
	racers   map[int64]*racerView
	position int // of the measurement that was announced last
}

// racerView is where one of them stands.
type racerView struct {
	measurement resource.Measurement
	at          quantity.Seconds
	index       int
	files       bool // are counted, because no bytes are moved
	done, rate  float64
}

func newRaceView(v *liveView, runs []resource.Run) *raceView {
	r := &raceView{liveView: v, names: map[int64]string{}, racers: map[int64]*racerView{}}
	count := map[string]int{}
	for _, run := range runs {
		count[run.Volume.Name]++
	}
	for _, run := range runs {
		r.names[run.ID], r.order = run.Volume.Name, append(r.order, run.ID)
		if count[run.Volume.Name] > 1 {
			r.names[run.ID] += fmt.Sprintf(" (run %d)", run.ID)
		}
	}
	return r
}

func (v *raceView) measurement(m resource.Measurement) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if now := v.racers[m.RunID]; now != nil && now.measurement.ID == m.ID {
		now.measurement = m
		return
	}
	v.racers[m.RunID] = &racerView{measurement: m, index: -1}
	if m.Position > v.position && !m.Status.Final() {
		if v.position = m.Position; v.brief {
			return
		}
		v.note("Racing " + v.heading(m))
	}
}

func (v *raceView) point(p resource.Point) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, r := range v.racers {
		i := p.Interval
		if r.measurement.ID != p.MeasurementID || i.Index <= r.index {
			continue
		}
		flow := i.Moved()
		done, rate := float64(flow.Bytes), float64(flow.Throughput)
		if r.files = done == 0 && r.measurement.Load.Traits().OnFiles && r.done == 0 || r.files; r.files {
			done, rate = float64(i.Classes[measure.File].Operations), float64(i.Classes[measure.File].Rate)
		}
		r.index, r.at, r.rate = i.Index, i.Start+i.Length, rate
		if !i.WarmUp {
			r.done += done
		}
		v.line(false, v.describe())
	}
}

// describe says how far all are, and who is ahead.
func (v *raceView) describe() string {
	var parts []string
	best, next := -1.0, -1.0
	leader, least := "", quantity.Seconds(math.Inf(1))
	var load workload.Spec
	for _, id := range v.order {
		r := v.racers[id]
		if r == nil || r.measurement.Position != v.position {
			continue
		}
		load, least = r.measurement.Load, min(least, r.at)
		rate := quantity.ByteRate(r.rate).String()
		if r.files {
			rate = quantity.FileRate(r.rate).String()
		}
		parts = append(parts, v.names[id]+" "+rate)
		if r.done > best {
			best, next, leader = r.done, best, v.names[id]
		} else {
			next = max(next, r.done)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	at := least.String()
	if of := load.WarmUp + load.For; load.For > 0 {
		at = fmt.Sprintf("%s %s of %s", bar(float64(least/of), 12), least, of)
	}
	if best > 0 && next >= 0 && 1-next/best > 0.01 {
		parts = append(parts, fmt.Sprintf("%s is ahead by %s", leader, quantity.Share(1-next/best)))
	}
	return at + "  " + strings.Join(parts, "  ")
}
