package choose

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"patientheron/core/compare"
	"patientheron/core/judge"
	"patientheron/core/need"
	"patientheron/core/quantity"
	"patientheron/core/wall"
)

// race measures designs, cheapest first, and gives those that are judged.
func (w *search) race(ctx context.Context, left []*candidate) ([]*candidate, error) {
	if w.Full {
		err := w.each(ctx, "simulated in full", left, func(ctx context.Context, c *candidate) error { return w.toTheEnd(ctx, c) })
		return left, err
	}
	if err := w.each(ctx, "simulated briefly", left, w.forAMoment); err != nil {
		return nil, err
	}
	var finalists []*candidate
	meeting := 0
	var open []*candidate
	for _, c := range left {
		if c.first >= inTheRace {
			open = append(open, c)
		}
	}
	for from := 0; from < len(open) && meeting < w.Short; from += batch {
		next := open[from:min(from+batch, len(open))]
		if err := w.each(ctx, "simulated in full", next, w.toTheEnd); err != nil {
			return nil, err
		}
		for _, c := range next {
			if c.answer.Outcome == judge.Meets {
				meeting++
			}
			if c.answer.Outcome == judge.Meets || c.answer.Carries >= nearly {
				finalists = append(finalists, c)
			}
		}
	}
	// Where nothing meets it, what comes nearest is shown; and the frontier beyond.
	others := frontier(left)
	if meeting == 0 {
		nearest := slices.Clone(left)
		slices.SortStableFunc(nearest, func(a, b *candidate) int { return cmp.Compare(b.first, a.first) })
		others = append(others, nearest[:min(len(nearest), w.Short)]...)
	}
	var late []*candidate
	for _, c := range others {
		if c.answer == nil && !slices.Contains(late, c) {
			late = append(late, c)
		}
	}
	if err := w.each(ctx, "simulated in full", late, w.toTheEnd); err != nil {
		return nil, err
	}
	for _, c := range others {
		if !slices.Contains(finalists, c) {
			finalists = append(finalists, c)
		}
	}
	return w.shortened(finalists), nil
}

// firstAnswer looks at designs of all prices, and measures the cheapest that seem to meet the
// need to the end, so that there is an answer soon.
func (w *search) firstAnswer(ctx context.Context, left []*candidate) error {
	var sample []*candidate
	for i := 0; i < len(left); i += max(len(left)/some, 1) {
		sample = append(sample, left[i])
	}
	if err := w.each(ctx, "sampled over all prices", sample, w.forAMoment); err != nil {
		return err
	}
	var good []*candidate
	for _, c := range sample {
		if c.first >= 1 && len(good) < 2 {
			good = append(good, c)
		}
	}
	return w.each(ctx, "simulated in full for a first answer", good, w.toTheEnd)
}

// mostFrontier is how many designs of the frontier are measured to the end.
const mostFrontier = 7

// frontier are the designs that nobody dominates by what they did for a moment, spread
// over their prices.
func frontier(all []*candidate) (front []*candidate) {
	best := 0.0
	for _, c := range all { // by price
		if c.first > best*1.05 {
			best = c.first
			front = append(front, c)
		}
	}
	for len(front) > mostFrontier { // the step that brings least goes
		least, at := math.Inf(1), 1
		for i := 1; i < len(front)-1; i++ {
			if gain := front[i].first / front[i-1].first; gain < least {
				least, at = gain, i
			}
		}
		front = slices.Delete(front, at, at+1)
	}
	return front
}

// shortened are those that are shown: the cheapest that meet the need, and the frontier.
func (w *search) shortened(all []*candidate) (kept []*candidate) {
	slices.SortStableFunc(all, func(a, b *candidate) int { return cmp.Compare(a.Price, b.Price) })
	meeting := 0
	front := map[*candidate]bool{}
	best := 0.0
	for _, c := range all {
		if c.answer.Carries > best*1.02 {
			best, front[c] = c.answer.Carries, true
		}
	}
	for _, c := range all {
		meets := c.answer.Outcome == judge.Meets
		if meets {
			meeting++
		}
		if meets && meeting <= w.Short || front[c] {
			kept = append(kept, c)
		}
	}
	if len(kept) == 0 {
		kept = all[:min(len(all), w.Short)]
	}
	return kept
}

// each does a piece of work for candidates, on all cores.
func (w *search) each(ctx context.Context, round string, all []*candidate, work func(context.Context, *candidate) error) error {
	w.report(func(p *HowFar) { p.Round, p.Done, p.Of = round, 0, len(all) })
	together, within := errgroup.WithContext(ctx)
	together.SetLimit(runtime.GOMAXPROCS(0))
	for _, c := range all {
		if within.Err() != nil {
			break
		}
		together.Go(func() error {
			if err := guarded(within, c, work); err != nil {
				return fmt.Errorf("%s: %w", c.Name, err)
			}
			w.report(func(p *HowFar) {
				p.Done++
				if c.answer == nil || c.answer.Outcome != judge.Meets || c.told {
					return
				}
				c.told = true
				p.Meeting++
				if w.cheapest == nil || c.Price < w.cheapest.Price {
					w.cheapest = c
					p.Cheapest = fmt.Sprintf("%s, %s", c.Name, quantity.Price(c.Price))
				}
			})
			return nil
		})
	}
	err := together.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// guarded does a piece of work; where the simulation itself fails on a design, the search
// ends with that, and not the process.
func guarded(ctx context.Context, c *candidate, work func(context.Context, *candidate) error) (err error) {
	defer wall.Guard(&err)
	return work(ctx, c)
}

func (w *search) report(change func(*HowFar)) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	change(&w.progress)
	if w.Progress != nil {
		w.Progress(w.progress)
	}
}

// forAMoment measures each load once, for about so many operations.
func (w *search) forAMoment(ctx context.Context, c *candidate) error {
	if c.seen {
		return nil
	}
	answer, _, err := w.measured(ctx, c, 1, moment)
	if err != nil {
		return err
	}
	c.seen = true
	c.first, c.tightest = smallest(w.Need, answer)
	return nil
}

// toTheEnd measures each load several times for all of its time.
func (w *search) toTheEnd(ctx context.Context, c *candidate) error {
	if c.answer != nil {
		return nil
	}
	answer, side, err := w.measured(ctx, c, repeats, 0)
	if err != nil {
		return err
	}
	c.answer, c.side = &answer, side
	c.first, c.tightest = smallest(w.Need, answer)
	return nil
}

// measured measures all loads of a design so often, for about so many operations each or to
// the end, and judges it.
func (w *search) measured(ctx context.Context, c *candidate, often, enough int) (need.Answer, compare.Side, error) {
	side := compare.Side{Name: c.Name, Setup: c.setup(), Runs: []int64{}}
	number := int64(0)
	for _, u := range w.loads {
		for repeat := range often {
			load := u.load
			load.Seed = w.Seed + uint64(repeat)*104_729
			sum, err := w.Measure(ctx, c.Description, load, enough)
			if err != nil {
				return need.Answer{}, side, err
			}
			number++
			side.Samples = append(side.Samples, compare.Sample{Run: 1, Measurement: number, Stage: u.name, Load: load, Summary: &sum})
		}
	}
	w.mutex.Lock()
	w.runs += int(number)
	w.mutex.Unlock()
	return need.Judge(w.Need, []compare.Side{side}).Setups[0], side, nil
}

// smallest is the smallest headroom of all figures, however well it is known, and of which.
// What may not happen at all and did counts by how much of it there was.
func smallest(n need.Need, a need.Answer) (times float64, tightest string) {
	times = math.MaxFloat64
	for i, d := range n.Demands() {
		v := a.Verdicts[i]
		if d.About != need.AFigure {
			continue
		}
		h := v.Headroom
		switch {
		case v.Value == nil && v.Outcome == judge.Meets:
			continue
		case v.Value == nil:
			h = 0
		case h == 0 && v.Value.Mean == 0: // of what may not happen, nothing did
			continue
		case h == 0:
			h = max(inTheRace+0.3-v.Value.Mean*10, 0)
		}
		if h /= n.Factor(n.UseOf(d)); h < times {
			times, tightest = h, d.Name()
		}
	}
	return times, tightest
}

// answer judges those that are left together, and says why all that is cheaper fails.
func (w *search) answer(r *Chosen, left, finalists []*candidate) {
	sides := make([]compare.Side, len(finalists))
	for i, c := range finalists {
		sides[i] = c.side
	}
	r.Judged = need.Judge(w.Need, sides)
	for _, a := range r.Judged.Setups {
		i := slices.IndexFunc(finalists, func(c *candidate) bool { return c.Name == a.Name })
		r.Finalists = append(r.Finalists, finalists[i].Design)
	}
	if len(r.Judged.Setups) == 0 || r.Judged.Setups[0].Outcome != judge.Meets {
		return
	}
	price := r.Judged.Setups[0].Price
	cheaper := map[string]*Reason{}
	var order []string
	add := func(words, example string, count int) {
		if cheaper[words] == nil {
			cheaper[words] = &Reason{Words: words, Example: example}
			order = append(order, words)
		}
		cheaper[words].Count += count
	}
	for _, c := range left {
		if c.Price >= price || c.answer != nil && c.answer.Outcome == judge.Meets {
			continue
		}
		add("fell short in simulation: "+c.tightest, c.Name, 1)
	}
	for _, words := range order {
		r.Cheaper = append(r.Cheaper, *cheaper[words])
	}
}
