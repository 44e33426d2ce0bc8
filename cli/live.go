package cli

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/resource"
)

// liveView shows a run while it goes on: on a terminal one line that is
// rewritten, elsewhere a line now and then.
type liveView struct {
	mu       sync.Mutex
	out      io.Writer
	terminal bool
	quiet    bool
	brief    bool             // no line of its own for each measurement
	names    map[int64]string // of volumes, by run, when there are several
	current  resource.Measurement
	steps    int
	width    int // of the line that is on the screen
	last     time.Time
	status   resource.Status
	reason   string // why it waits
	shown    int    // index of the last interval shown
	files    int64  // whole files of the measurement until then
}

func newLiveView(out io.Writer, quiet bool) *liveView {
	return &liveView{out: out, quiet: quiet, terminal: isTerminal(out), shown: -1}
}

func (v *liveView) run(r resource.Run) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if r.Status == resource.Waiting {
		if r.Reason != "" && r.Reason != v.reason {
			v.line(true, fmt.Sprintf("Run %d waits: %s", r.ID, r.Reason))
		}
		v.reason = r.Reason
		return // another one is shown
	}
	v.steps = r.Progress.Steps
	changed := r.Status != v.status
	v.status = r.Status
	switch r.Status {
	case resource.Queued:
		text := fmt.Sprintf("Run %d is queued", r.ID)
		if r.Reason != "" {
			text = fmt.Sprintf("Run %d waits: %s", r.ID, r.Reason)
		}
		v.line(changed || r.Reason != v.reason, text)
		v.reason = r.Reason
	case resource.Preparing:
		text := fmt.Sprintf("Run %d prepares %s", r.ID, r.Volume.Name)
		if r.Progress.Prepare > 0 {
			text += fmt.Sprintf(": %s of %s written", r.Progress.Prepared, r.Progress.Prepare)
		}
		v.line(changed, text)
	case resource.Settling:
		v.line(changed, fmt.Sprintf("Run %d waits for %s to become idle before measurement %d of %d", r.ID, r.Volume.Name, r.Progress.Step, r.Progress.Steps))
	}
}

func (v *liveView) measurement(m resource.Measurement) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if m.ID != v.current.ID {
		v.shown, v.files = -1, 0
		if !m.Status.Final() && !v.brief {
			v.note("Measuring " + v.heading(m))
		}
	}
	v.current = m
}

// heading names a measurement and its place in the run.
func (v *liveView) heading(m resource.Measurement) string {
	heading := m.Title()
	if m.Name != m.Load.Describe() {
		heading += ": " + m.Load.Describe()
	}
	if v.steps > 1 {
		heading = fmt.Sprintf("%d of %d  %s", m.Position, v.steps, heading)
	}
	if name := v.names[m.RunID]; name != "" {
		heading = name + "  " + heading
	}
	return heading
}

func (v *liveView) point(p resource.Point) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if p.MeasurementID != v.current.ID || p.Interval.Index <= v.shown || v.current.Status.Final() {
		return
	}
	v.shown = p.Interval.Index
	v.files += p.Interval.Classes[measure.File].Operations
	v.line(false, v.describe(p.Interval))
}

// describe says in one line how far the measurement is and what came back.
func (v *liveView) describe(i measure.Interval) string {
	load := v.current.Load
	at, of := i.Start+i.Length, load.WarmUp+load.For
	parts := []string{at.String()}
	if load.For > 0 {
		parts[0] = fmt.Sprintf("%s %s of %s", bar(float64(at/of), 12), at, of)
	}
	if i.WarmUp {
		parts = append(parts, "warm-up")
	}
	traits := load.Traits()
	if traits.OnFiles {
		parts = append(parts, load.InWords(i)...)
		parts = append(parts, v.left(i, &parts[0])...)
	}
	for class := range measure.EachClass() {
		if flow, counted := i.Classes[class]; counted && class.Moves() {
			rate := flow.Rate.String() + " "
			if traits.OnFiles {
				rate = ""
			}
			parts = append(parts, fmt.Sprintf("%s %s%s p99 %s", class, rate, flow.Throughput, flow.P99))
		}
	}
	if !traits.OnFiles {
		parts = append(parts, load.InWords(i)...)
	}
	if i.Failed > 0 {
		parts = append(parts, fmt.Sprintf("%d failed", i.Failed))
	}
	return strings.Join(parts, "  ")
}

// left says how far a load is of all the files that it has to do, where it has an end, and how
// long the rest takes.
func (v *liveView) left(i measure.Interval, at *string) (parts []string) {
	all := v.current.Load.WholeFiles()
	if all == 0 {
		return nil
	}
	done := float64(v.files) / float64(all)
	*at = fmt.Sprintf("%s %d of %d files", bar(done, 12), v.files, all)
	if elapsed := i.Start + i.Length; done > 0 && done < 1 && elapsed > 2 {
		parts = append(parts, fmt.Sprintf("about %s left", elapsed*quantity.Seconds((1-done)/done)))
	}
	return parts
}

// bar draws a share as a bar of cells.
func bar(share float64, cells int) string {
	full := min(max(int(share*float64(cells)+0.5), 0), cells)
	return "▕" + strings.Repeat("█", full) + strings.Repeat("░", cells-full) + "▏"
}

// line shows text as the present state.
func (v *liveView) line(always bool, text string) {
	switch {
	case v.quiet:
	case v.terminal:
		if columns, _, err := term.GetSize(int(fileOf(v.out).Fd())); err == nil {
			if runes := []rune(text); len(runes) >= columns && columns > 1 {
				text = string(runes[:columns-1])
			}
		}
		width := len([]rune(text))
		v.back()
		fmt.Fprint(v.out, text, strings.Repeat(" ", max(v.width-width, 0)))
		v.width = width
	case always || time.Since(v.last) >= 10*time.Second:
		fmt.Fprintln(v.out, text)
		v.last = time.Now()
	}
}

// note shows text on a line of its own that stays.
func (v *liveView) note(text string) {
	if v.quiet {
		return
	}
	v.clear()
	fmt.Fprintln(v.out, text)
	v.last = time.Now()
}

func (v *liveView) clear() {
	if v.terminal && v.width > 0 {
		v.back()
		fmt.Fprint(v.out, strings.Repeat(" ", v.width))
		v.back()
		v.width = 0
	}
}

// back goes to the beginning of the terminal's line, past what keeps others from
// moving its cursor.
func (v *liveView) back() { fmt.Fprint(fileOf(v.out), "\r") }

func (v *liveView) end() {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.quiet {
		v.clear()
	}
}
