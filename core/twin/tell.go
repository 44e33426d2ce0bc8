package twin

import (
	"context"
	"fmt"
	"math"
	"strings"

	"gonum.org/v1/gonum/mat"

	"patientheron/core/array"
	"patientheron/core/claim"
	"patientheron/core/figure"
	"patientheron/core/quantity"
)

const (
	well         = 0.0953 // logarithm of 1.1
	roughly      = 0.405  // of 1.5
	correlated   = 0.9    // correlation from which two parameters are not told apart
	parts        = 5      // into which the loads are cut, to try a twin on each that it was not shown
	fewest       = 3      // loads for that
	mostOutliers = 3      // figures that are named
	strange      = 2.3    // logarithm of how far from its guess a parameter is worth a word
)

// tell says what is known of the twin at the best place.
func (w *fitter) tell(ctx context.Context, best place) (Fitted, error) {
	r := Fitted{Parameters: []FittedParameter{}, Correlated: []Correlation{}, Loads: []Likeness{}, Next: []Telling{}, Words: []string{}, LeftOut: []string{}, Seed: w.Seed}
	w.report(func(h *HowNear) { h.Step = "estimating the uncertainty of each parameter" })
	k, err := w.known(ctx, best)
	if err != nil {
		return r, err
	}
	best, covariance, times := k.best, k.covariance, k.times
	r.Covariance = rowsOf(covariance)
	for i, p := range w.free {
		r.Parameters = append(r.Parameters, parameter(p, best.at[i], times*math.Sqrt(covariance.At(i, i))))
	}
	r.Correlated = correlations(r.Parameters, covariance, times)
	r.Off = w.off(best.logs)
	for i, of := range w.rows {
		r.Loads = append(r.Loads, Likeness{
			Name: w.Observed[of.load].Name, Figure: of.figure.Key, Label: of.figure.Label, Unit: of.figure.Unit, Count: of.Count,
			Measured: math.Exp(of.Log), Twin: math.Exp(best.logs[i]), Off: math.Expm1(best.logs[i] - of.Log), Outlier: math.Abs(best.logs[i]-of.Log) > strayed,
		})
	}
	w.report(func(h *HowNear) { h.Step = "five-fold cross-validation" })
	if err := w.prove(ctx, &r, best, k.slopes); err != nil {
		return r, err
	}
	if r.alike() {
		w.report(func(h *HowNear) { h.Step = "searching for the most informative loads" })
		if r.Next, err = w.next(ctx, best, covariance, times); err != nil {
			return r, err
		}
	}
	r.Tried = w.far.Tried
	r.Claims = r.claims()
	for _, c := range r.Claims {
		r.Words = append(r.Words, c.Words)
	}
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

// correlations are the parameters that are only told together.
func correlations(all []FittedParameter, covariance *mat.SymDense, times float64) []Correlation {
	found := []Correlation{}
	for i := range all {
		for j := i + 1; j < len(all); j++ {
			ii, jj, ij := covariance.At(i, i), covariance.At(j, j), covariance.At(i, j)
			correlation := ij / math.Sqrt(ii*jj)
			if math.Abs(correlation) < correlated || all[i].Known == Well || all[j].Known == Well {
				continue
			}
			what, variance := "their ratio", ii+jj-2*ij
			if correlation < 0 {
				what, variance = "their product", ii+jj+2*ij
			}
			found = append(found, Correlation{[2]string{all[i].Key, all[j].Key}, fmt.Sprintf("The %s and the %s are correlated: %s is known %s, each alone within %s and %s.",
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
	// An outlier of the fit says nothing about the cross-validation.
	unseen := off(w.rows, logs, func(i int) bool { return r.Loads[i].Outlier })
	r.Unseen = &unseen
	return nil
}

// alike reports whether the twin is like what was measured: most of its figures are. Otherwise
// no array that is made like the guess is, whatever its rates and times.
func (r Fitted) alike() bool {
	near := 0
	for _, l := range r.Loads {
		if !l.Outlier {
			near++
		}
	}
	return 2*near >= len(r.Loads)
}

// claims are what to know of a twin.
func (r Fitted) claims() []claim.Claim {
	said := []claim.Claim{}
	say := func(k claim.Kind, terms ...claim.Term) { said = claim.Add(said, k, terms...) }
	if !r.alike() {
		say(fitFailed, append([]claim.Term{r.worst()}, r.figures(false)...)...)
		for _, p := range r.Parameters {
			say(wentFar, p.timesOfGuess())
		}
		return said
	}
	loads := map[string]bool{}
	for _, l := range r.Loads {
		loads[l.Name] = true
	}
	outliers := r.figures(true)
	terms := []claim.Term{{Of: "off", Value: r.Off, Shown: percent(r.Off)}, {Of: "loads", Value: float64(len(loads)), Shown: counted(len(loads), "load")}}
	if r.Unseen != nil {
		terms = append(terms, claim.Term{Of: "unseen", Value: *r.Unseen, Shown: percent(*r.Unseen)})
	}
	if n := len(outliers); n > 0 {
		say(offButFor, append([]claim.Term{{Of: "outliers", Value: float64(n), Shown: counted(n, "figure")}}, terms...)...)
	} else {
		say(offBy, terms...)
	}
	if r.Unseen == nil {
		say(notTried, terms[1])
	}
	say(outliersAre, outliers...)
	var hardly []claim.Term
	for _, p := range r.Parameters {
		if p.Known == Hardly {
			hardly = append(hardly, claim.Term{Of: p.Label, State: string(p.Known)})
			continue
		}
		say(farFromGuess, p.timesOfGuess())
	}
	say(hardlyTold, hardly...)
	for _, t := range r.Correlated {
		say(tangledUp, claim.Term{Of: "correlation", Shown: t.Words})
	}
	return said
}

// figures are those that were measured, with what the twin does in words; only outliers where that is
// asked.
func (r Fitted) figures(onlyAstray bool) (terms []claim.Term) {
	for _, l := range r.Loads {
		if !l.Outlier && onlyAstray {
			continue
		}
		terms = append(terms, l.term())
	}
	return terms
}

// term is a figure of a load, by how many times what was measured the twin does.
func (l Likeness) term() claim.Term {
	f := figure.Of(l.Figure)
	t := claim.Term{Of: fmt.Sprintf("the %s under %q", l.Label, l.Name), Value: l.Twin / l.Measured, Shown: fmt.Sprintf("%s, where %s was measured", f.Show(l.Twin), f.Show(l.Measured))}
	if l.Outlier {
		t.State = outlierState
	}
	return t
}

// worst is the figure that is off by most.
func (r Fitted) worst() claim.Term {
	far := func(l Likeness) float64 { return math.Abs(math.Log(l.Twin / l.Measured)) }
	worst := r.Loads[0]
	for _, l := range r.Loads {
		if far(l) > far(worst) {
			worst = l
		}
	}
	return worst.term()
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
