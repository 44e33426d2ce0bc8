package twin

import (
	"context"
	"fmt"
	"math"
	"strings"

	"gonum.org/v1/gonum/mat"

	"patientheron/core/array"
	"patientheron/core/figure"
	"patientheron/core/quantity"
)

const (
	well       = 0.0953 // logarithm of 1.1
	roughly    = 0.405  // of 1.5
	tangled    = 0.9    // correlation from which two parameters are not told apart
	parts      = 5      // into which the loads are cut, to try a twin on each that it was not shown
	fewest     = 3      // loads for that
	mostAstray = 3      // figures that are named
	strange    = 2.3    // logarithm of how far from its guess a parameter is worth a word
)

// tell says what is known of the twin at the best place.
func (w *fitter) tell(ctx context.Context, best place) (Fitted, error) {
	r := Fitted{Parameters: []FittedParameter{}, Tangled: []Tangle{}, Loads: []Likeness{}, Next: []Telling{}, Words: []string{}, LeftOut: []string{}, Seed: w.Seed}
	w.report(func(h *HowNear) { h.Step = "asking how well each parameter is told" })
	k, err := w.known(ctx, best)
	if err != nil {
		return r, err
	}
	best, covariance, times := k.best, k.covariance, k.times
	r.Covariance = rowsOf(covariance)
	for i, p := range w.free {
		r.Parameters = append(r.Parameters, parameter(p, best.at[i], times*math.Sqrt(covariance.At(i, i))))
	}
	r.Tangled = tangles(r.Parameters, covariance, times)
	r.Off = w.off(best.logs)
	for i, of := range w.rows {
		r.Loads = append(r.Loads, Likeness{
			Name: w.Observed[of.load].Name, Figure: of.figure.Key, Label: of.figure.Label, Unit: of.figure.Unit, Count: of.Count,
			Measured: math.Exp(of.Log), Twin: math.Exp(best.logs[i]), Off: math.Expm1(best.logs[i] - of.Log), Astray: math.Abs(best.logs[i]-of.Log) > strayed,
		})
	}
	w.report(func(h *HowNear) { h.Step = "trying it on loads that it was not shown" })
	if err := w.prove(ctx, &r, best, k.slopes); err != nil {
		return r, err
	}
	if r.alike() {
		w.report(func(h *HowNear) { h.Step = "looking for loads that would tell more" })
		if r.Next, err = w.next(ctx, best, covariance, times); err != nil {
			return r, err
		}
	}
	r.Tried = w.far.Tried
	r.Words = r.words()
	return r, nil
}

func rowsOf(m *mat.SymDense) [][]float64 {
	n := m.SymmetricDim()
	rows := make([][]float64, n)
	for i := range rows {
		rows[i] = make([]float64, n)
		for j := range n {
			rows[i][j] = m.At(i, j)
		}
	}
	return rows
}

// parameter says how a parameter is told: within so much, as a logarithm.
func parameter(p array.Parameter, at, within float64) FittedParameter {
	v := value(p, at)
	told := FittedParameter{
		Key: p.Key, Label: p.Label, Unit: p.Unit, Guess: p.Value, Value: v,
		Low: v * math.Exp(-within), High: v * math.Exp(within),
		Known: Hardly, Set: settings(p, v), Shown: Show(p.Unit, v), Spread: wide(within),
	}
	switch {
	case within <= well:
		told.Known = Well
	case within <= roughly:
		told.Known = Roughly
	}
	return told
}

// Show is a value of a parameter, for people.
func Show(unit string, v float64) string {
	switch unit {
	case array.InSeconds:
		return quantity.Seconds(v).String()
	case array.InBytesPerSecond:
		return quantity.ByteRate(v).String()
	case array.PerSecond:
		return quantity.OpRate(v).String()
	}
	return quantity.Digits(v)
}

// Spread says how wide an interval is that goes as far above a value as below.
func Spread(value, high float64) string { return wide(math.Log(high / value)) }

// wide says how wide an interval is, whose half is this logarithm.
func wide(within float64) string {
	if within <= roughly {
		return "± " + quantity.Digits(math.Expm1(within)*100) + " %"
	}
	return "a factor of " + quantity.Digits(math.Exp(within))
}

// tangles are the parameters that are only told together.
func tangles(all []FittedParameter, covariance *mat.SymDense, times float64) []Tangle {
	found := []Tangle{}
	for i := range all {
		for j := i + 1; j < len(all); j++ {
			ii, jj, ij := covariance.At(i, i), covariance.At(j, j), covariance.At(i, j)
			correlation := ij / math.Sqrt(ii*jj)
			if math.Abs(correlation) < tangled || all[i].Known == Well || all[j].Known == Well {
				continue
			}
			what, variance := "their ratio", ii+jj-2*ij
			if correlation < 0 {
				what, variance = "their product", ii+jj+2*ij
			}
			found = append(found, Tangle{[2]string{all[i].Key, all[j].Key}, fmt.Sprintf("What was measured does not tell the %s from the %s: %s is known %s, each by itself within %s and %s.",
				all[i].Label, all[j].Label, what, within(times*math.Sqrt(max(variance, 0))), wide(times*math.Sqrt(ii)), wide(times*math.Sqrt(jj)))})
		}
	}
	return found
}

// within says how well something is known.
func within(by float64) string { return "within " + wide(by) }

// prove fits twins to all loads but some, and tries them on those. The loads are dealt out to
// as many parts in turn.
func (w *fitter) prove(ctx context.Context, r *Fitted, best place, slopes *mat.Dense) error {
	if len(w.Observed) < fewest {
		return nil
	}
	folds := min(parts, len(w.Observed))
	places, weights := make([]place, folds), make([][]float64, folds)
	for f := range folds {
		weights[f] = make([]float64, len(w.rows))
		for i, of := range w.rows {
			if of.load%folds != f {
				weights[f][i] = 1
			}
		}
		places[f] = w.placed(best.at, best.logs, weights[f])
	}
	for round := range 2 { // with the slopes of the best place, which are those nearby
		points := make([][]float64, folds)
		for f, p := range places {
			points[f] = w.moved(p, slopes, weights[f], 0.01)
		}
		logs, err := w.evaluate(ctx, points...)
		if err != nil {
			return err
		}
		for f := range places {
			// The first step is taken whatever comes of it: the best place has seen all loads.
			if p := w.placed(points[f], logs[f], weights[f]); p.logs != nil && (round == 0 || p.cost < places[f].cost) {
				places[f] = p
			}
		}
	}
	logs := make([]float64, len(w.rows))
	for i, of := range w.rows {
		logs[i] = places[of.load%folds].logs[i]
		value, by := math.Exp(logs[i]), math.Expm1(logs[i]-of.Log)
		r.Loads[i].Unseen, r.Loads[i].UnseenBy = &value, &by
	}
	// What strays from a twin that has seen it is no matter of what it has seen.
	unseen := off(w.rows, logs, func(i int) bool { return r.Loads[i].Astray })
	r.Unseen = &unseen
	return nil
}

// alike reports whether the twin is like what was measured: most of its figures are. Otherwise
// no array that is made like the guess is, whatever its rates and times.
func (r Fitted) alike() bool {
	near := 0
	for _, l := range r.Loads {
		if !l.Astray {
			near++
		}
	}
	return 2*near >= len(r.Loads)
}

// words say what to know of a twin.
func (r Fitted) words() (all []string) {
	if !r.alike() {
		return r.unlikeWords()
	}
	loads := map[string]bool{}
	astray := []string{}
	for _, l := range r.Loads {
		loads[l.Name] = true
		if l.Astray {
			astray = append(astray, fmt.Sprintf("the %s under %q (%s, where %s was measured)", l.Label, l.Name, figure.Of(l.Figure).Show(l.Twin), figure.Of(l.Figure).Show(l.Measured)))
		}
	}
	first := fmt.Sprintf("It is off by %s under the %s it was fitted to", percent(r.Off), counted(len(loads), "load"))
	if n := len(astray); n > 0 {
		stray := "stray"
		if n == 1 {
			stray = "strays"
		}
		first = fmt.Sprintf("But for %s that %s it is off by %s under the %s it was fitted to", counted(n, "figure"), stray, percent(r.Off), counted(len(loads), "load"))
	}
	if r.Unseen != nil {
		first += fmt.Sprintf(", and by %s under loads that it was not shown", percent(*r.Unseen))
	}
	all = append(all, first+".")
	if r.Unseen == nil {
		all = append(all, fmt.Sprintf("With fewer than %d loads it cannot be tried on any that it was not shown.", fewest))
	}
	if n := len(astray); n > 0 {
		more := ""
		if n > mostAstray {
			more = fmt.Sprintf(", and %d more", n-mostAstray)
		}
		all = append(all, fmt.Sprintf("It strays in %s%s: the array has something there that the guess lacks, or what was measured before was still at work. Such figures count little in the fit.", strings.Join(astray[:min(n, mostAstray)], ", "), more))
	}
	var hardly []string
	for _, p := range r.Parameters {
		if p.Known == Hardly {
			hardly = append(hardly, p.Label)
		}
		if far := math.Abs(math.Log(p.Value / p.Guess)); far > strange && p.Known != Hardly {
			all = append(all, fmt.Sprintf("The %s is %s times its guess; see whether the guess describes this array.", p.Label, quantity.Digits(p.Value/p.Guess)))
		}
	}
	if len(hardly) > 0 {
		all = append(all, fmt.Sprintf("What was measured hardly tells %s: there the twin stays near the guess, and is no better than it.", listed(hardly)))
	}
	for _, t := range r.Tangled {
		all = append(all, t.Words)
	}
	return all
}

// unlikeWords say of what is no twin that it is none, and where that shows most.
func (r Fitted) unlikeWords() (all []string) {
	worst, astray := Likeness{}, 0
	far := func(l Likeness) float64 { return math.Abs(math.Log(l.Twin / l.Measured)) }
	for _, l := range r.Loads {
		if l.Astray {
			astray++
		}
		if worst.Name == "" || far(l) > far(worst) {
			worst = l
		}
	}
	f := figure.Of(worst.Figure)
	all = append(all, fmt.Sprintf("It is no twin: %d of %s stray, most of all the %s under %q, %s where %s was measured. No array that is made like the guess does what was measured, whatever its rates and times: say in the guess what the volume is made of.",
		astray, counted(len(r.Loads), "figure"), worst.Label, worst.Name, f.Show(worst.Twin), f.Show(worst.Measured)))
	for _, p := range r.Parameters {
		if times := p.Value / p.Guess; math.Abs(math.Log(times)) > strange {
			all = append(all, fmt.Sprintf("The %s went to %s times its guess in search of it.", p.Label, quantity.Digits(times)))
		}
	}
	return all
}

func listed(names []string) string {
	for i := range names {
		names[i] = "the " + names[i]
	}
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// percent says how far off something is; a factor where it is more than twice as much.
func percent(share float64) string {
	if share > 1 {
		return "a factor of " + quantity.Digits(1+share)
	}
	return quantity.Digits(share*100) + " %"
}

func counted(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
