package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/test/trials"
)

// The bench of truth: thousands of made-up measurements whose answer is known, and
// how often each rule is wrong about them. docs/judgement.md has what it prints.

// each does work for every one of some tries of this part, on all cores, with numbers of its own.
func each(tries int, seed uint64, do func(random *rand.Rand, add func(what string))) map[string]int {
	counts := map[string]int{}
	var lock sync.Mutex
	var together sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for w := range workers {
		together.Go(func() {
			for try := w; try < tries; try += workers {
				do(rand.New(rand.NewPCG(seed, uint64(trials.Part()*tries+try))), func(what string) {
					lock.Lock()
					counts[what]++
					lock.Unlock()
				})
			}
		})
	}
	together.Wait()
	return counts
}

// atMost fails the test when something happened more often than it may, chance allowed for: were
// it as often as it may be, so many would come up in one of 700 such tests.
func atMost(t *testing.T, what string, count, tries int, share float64) {
	t.Helper()
	if tries == 0 {
		return
	}
	if chance := 1 - (distuv.Binomial{N: float64(tries), P: share}).CDF(float64(count-1)); count > 0 && chance < 1./700 {
		t.Errorf("%s: %d of %d, more than %.0f %%", what, count, tries, share*100)
	}
}

func percent(count, tries int) string {
	return fmt.Sprintf("%.1f", 100*float64(count)/float64(max(tries, 1)))
}

// sticky is noise of standard deviation one whose values resemble the one before.
func sticky(random *rand.Rand, n int, phi float64) []float64 {
	values, state := make([]float64, n), random.NormFloat64()
	for i := range values {
		values[i] = state
		state = phi*state + math.Sqrt(1-phi*phi)*random.NormFloat64()
	}
	return values
}

// paces are intervals of a second at these rates.
func paces(rates []float64) []measure.Pace {
	p := make([]measure.Pace, len(rates))
	for i, rate := range rates {
		n := int64(math.Round(max(rate, 0)))
		p[i] = measure.Pace{Start: quantity.Seconds(i), Length: 1, Operations: n, Bytes: quantity.Bytes(n) * 4096, Waited: 8}
	}
	return p
}

// shapes are what a level can do over the time from 0 to 1. At is where, from a
// sixth to five sixths.
var shapes = []struct {
	name    string
	settled bool // that may be said of it
	level   func(time, at float64) float64
}{
	{"steady", true, func(_, _ float64) float64 { return 1 }},
	{"a step of 20 % down", false, func(time, at float64) float64 {
		if time >= at {
			return 0.8
		}
		return 1
	}},
	{"a step of 25 % up", false, func(time, at float64) float64 {
		if time >= at {
			return 1.25
		}
		return 1
	}},
	{"a drift of 15 %", false, func(time, _ float64) float64 { return 1.075 - 0.15*time }},
	{"a collapse to a third", false, func(time, at float64) float64 {
		if time >= at {
			return 1. / 3
		}
		return 1
	}},
}

// Nothing counts as settled that stepped or drifted, and nothing steady as
// unsettled. What varies too much for either is said to be not known.
func TestTruthOfSettling(t *testing.T) {
	tries := trials.Number(150)
	load := workload.Default()
	table := []string{"| intervals | noise | autocorrelation | steady: settled | cautioned | 20 % step: missed | 15 % drift: missed | collapse: seen |", "|---|---|---|---|---|---|---|---|"}
	missed, cautioned, all, steady := 0, 0, 0, 0
	for _, n := range []int{30, 60, 300} {
		for _, deviation := range []float64{0.01, 0.03, 0.1} {
			for _, phi := range []float64{0, 0.5, 0.8, 0.95} {
				counts := each(tries, uint64(n)*1000+uint64(deviation*1000)+uint64(phi*10), func(random *rand.Rand, add func(string)) {
					for _, s := range shapes {
						at := 1./6 + random.Float64()*2/3
						rates := sticky(random, n, phi)
						for i := range rates {
							rates[i] = 10_000 * s.level(float64(i)/float64(n), at) * (1 + deviation*rates[i])
						}
						p, _ := Phases(load, paces(rates))
						switch {
						case len(p.List) > 1 && !s.settled:
							add(s.name + ": seen")
						case s.settled && len(p.List) > 1:
							add(s.name + ": cautioned")
						default:
							add(s.name + ": " + string(p.State))
						}
					}
				})
				alarms := counts["steady: cautioned"] + counts["steady: not steady"]
				name := fmt.Sprintf("%d intervals, %g noise, %g autocorrelation: ", n, deviation, phi)
				atMost(t, name+"false cautions", alarms, tries, 0.03)
				cautioned, steady = cautioned+alarms, steady+tries
				for _, s := range shapes[1:] {
					atMost(t, name+s.name+" missed", counts[s.name+": settled"], tries, 0.05)
					missed, all = missed+counts[s.name+": settled"], all+tries
				}
				seen := counts["a collapse to a third: seen"] + counts["a collapse to a third: not steady"]
				table = append(table, fmt.Sprintf("| %d | %g %% | %g | %s | %s | %s | %s | %s |", n, deviation*100, phi, percent(counts["steady: steady"], tries), percent(alarms, tries),
					percent(counts["a step of 20 % down: steady"], tries), percent(counts["a drift of 15 %: steady"], tries), percent(seen, tries)))
			}
		}
	}
	t.Logf("settling, in per cent of %d each:\n%s", tries, strings.Join(table, "\n"))
	t.Logf("over all: %s %% of changes missed, %s %% false cautions", percent(missed, all), percent(cautioned, steady))
	if missed*100 > all*5 || cautioned*100 > steady*3 {
		t.Errorf("%d of %d changes missed, %d of %d false cautions", missed, all, cautioned, steady)
	}
}

// Loads of few operations an interval vary by counting alone: that is neither a
// change nor unsteadiness.
func TestTruthOfCounting(t *testing.T) {
	tries := trials.Number(200)
	load := workload.Default()
	table := []string{"| operations an interval | intervals | settled | not known | cautioned | unsteady | collapse seen |", "|---|---|---|---|---|---|---|"}
	for _, lambda := range []float64{2, 5, 20, 200, 2000} {
		for _, n := range []int{30, 60, 300} {
			counts := each(tries, uint64(lambda)*1000+uint64(n), func(random *rand.Rand, add func(string)) {
				rates := make([]float64, n)
				for i := range rates {
					rates[i] = distuv.Poisson{Lambda: lambda, Src: random}.Rand()
				}
				p, _ := Phases(load, paces(rates))
				if len(p.List) > 1 || p.State == measure.NotSteady {
					add("cautioned")
				}
				add(string(p.State))
				series := make([]measure.Interval, n)
				for i, rate := range rates {
					series[i] = measure.Interval{Start: quantity.Seconds(i), Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: {Operations: int64(rate)}}}
				}
				if len(unsteady(Observed{Summary: measure.Summary{Steadiness: Steadiness(series)}})) > 0 {
					add("unsteady")
				}
				for i := n / 3; i < n; i++ {
					rates[i] = distuv.Poisson{Lambda: lambda / 4, Src: random}.Rand()
				}
				if p, _ := Phases(load, paces(rates)); len(p.List) > 1 || p.State == measure.NotSteady {
					add("seen")
				}
			})
			name := fmt.Sprintf("%g operations, %d intervals: ", lambda, n)
			atMost(t, name+"false cautions", counts["cautioned"], tries, 0.03)
			atMost(t, name+"said to be unsteady", counts["unsteady"], tries, 0.03)
			table = append(table, fmt.Sprintf("| %g | %d | %s | %s | %s | %s | %s |", lambda, n, percent(counts["steady"], tries), percent(counts["not known"], tries), percent(counts["cautioned"], tries), percent(counts["unsteady"], tries), percent(counts["seen"], tries)))
		}
	}
	t.Logf("counting noise, in per cent of %d each:\n%s", tries, strings.Join(table, "\n"))
}

// Shapes whose phases are known one by one.
func TestTruthOfPhases(t *testing.T) {
	tries := trials.Number(100)
	level := func(of ...[2]float64) func(int) float64 { // so many intervals at so much
		return func(i int) float64 {
			for _, part := range of {
				if i < int(part[0]) {
					return part[1]
				}
				i -= int(part[0])
			}
			return of[len(of)-1][1]
		}
	}
	for _, c := range []struct {
		name  string
		n     int
		level func(i int) float64
		want  string // standing: kinds of the phases, wave, dips, dips that recur
		check func(measure.Phases) bool
	}{
		{"a fast region that fills", 60, level([2]float64{8, 260e3}, [2]float64{52, 70e3}), "steady: burst sustained", func(p measure.Phases) bool {
			return p.Fall != nil && math.Abs(float64(p.Fall.After)-8) <= 1 && math.Abs(float64(p.Fall.Bytes)/(8*260e3*4096)-1) < 0.15 && p.Cut == p.Fall.After && math.Abs(float64(p.List[1].Rate)/70e3-1) < 0.02
		}},
		{"the same in an hour", 3600, level([2]float64{8, 4000}, [2]float64{3592, 1000}), "steady: burst sustained", func(p measure.Phases) bool {
			return p.Fall != nil && math.Abs(float64(p.Fall.After)-8) <= 1
		}},
		{"two regions", 120, level([2]float64{20, 9000}, [2]float64{40, 5000}, [2]float64{60, 2000}), "steady: burst burst sustained", func(p measure.Phases) bool {
			return p.Fall != nil && math.Abs(float64(p.Fall.After)-20) <= 1
		}},
		{"a cache that warms", 100, level([2]float64{30, 1000}, [2]float64{70, 5000}), "steady: start sustained", func(p measure.Phases) bool { return p.Fall == nil }},
		{"it collapses near the end", 60, level([2]float64{52, 9000}, [2]float64{8, 2000}), "not steady: burst changing", func(p measure.Phases) bool { return p.Cut == 0 && p.Fall != nil }},
		{"nothing moves any more", 60, level([2]float64{40, 9000}, [2]float64{20, 0}), "not steady: burst changing", nil},
		{"a stall", 100, level([2]float64{40, 9000}, [2]float64{5, 0}, [2]float64{55, 9000}), "steady: sustained dips", func(p measure.Phases) bool { return p.Dips.Count == 1 && p.Dips.Length == 5 }},
		{"pauses every half minute", 150, func(i int) float64 {
			if i%30 == 17 {
				return 500
			}
			return 9000
		}, "steady: sustained dips recurring", func(p measure.Phases) bool { return math.Abs(float64(p.Dips.Every)-30) < 1 && p.Dips.Count == 5 }},
		{"a saw-tooth", 150, func(i int) float64 { return 9000 * (1 - 0.5*float64(i%20)/20) }, "steady: sustained wave", func(p measure.Phases) bool { return math.Abs(float64(p.Wave.Every)-20) < 0.5 }},
		{"up and down", 150, func(i int) float64 { return 9000 - 3000*float64(i/15%2) }, "steady: sustained wave", func(p measure.Phases) bool { return math.Abs(float64(p.Wave.Every)-30) < 1 }},
		{"it falls and falls", 120, func(i int) float64 { return 1000 + 3000*math.Exp(-float64(i)/90) }, "not steady: changing", nil},
		{"ten intervals", 10, func(int) float64 { return 9000 }, "not known: unsure", nil},
		{"nothing", 40, func(int) float64 { return 0 }, "not known:", func(p measure.Phases) bool { return p.Words == "No data were transferred." }},
		{"exactly alike", 40, func(int) float64 { return 9000 }, "steady: sustained", nil},
	} {
		wrong := map[string]int{}
		counts := each(tries, uint64(c.n), func(random *rand.Rand, add func(string)) {
			rates := make([]float64, c.n)
			for i := range rates {
				rates[i] = c.level(i) * (1 + 0.03*random.NormFloat64())
			}
			if c.name == "exactly alike" {
				for i := range rates {
					rates[i] = c.level(i)
				}
			}
			p, _ := Phases(workload.Default(), paces(rates))
			got := string(p.State) + ":"
			for _, f := range p.List {
				got += " " + string(f.Kind)
			}
			if p.Wave != nil {
				got += " wave"
			}
			if p.Dips != nil {
				got += " dips"
				if p.Dips.Every > 0 {
					got += " recurring"
				}
			}
			if got == c.want && c.check != nil && !c.check(p) {
				got += " with other figures, such as " + p.Words[:20]
			}
			add(got)
		})
		for got, count := range counts {
			if got != c.want {
				wrong[got] = count
			}
		}
		if counts[c.want] < tries*95/100 {
			t.Errorf("%s: only %d of %d are %q: %v", c.name, counts[c.want], tries, c.want, wrong)
		}
	}
}

// What a load that waits until it settled or its mean is known ends with.
func TestTruthOfPatience(t *testing.T) {
	const longest = 600
	tries := trials.Number(40)
	table := []string{"| series | ends by itself | after, median | off by more than asked |", "|---|---|---|---|"}
	for _, c := range []struct {
		name  string
		level func(random *rand.Rand, i int) float64
		truth float64
		most  float64 // share that may end too far off
	}{
		{"steady, 3 % noise", func(*rand.Rand, int) float64 { return 1 }, 1, 0.05},
		{"a burst of 20 intervals", func(_ *rand.Rand, i int) float64 {
			if i < 20 {
				return 4
			}
			return 1
		}, 1, 0.05},
		{"a decay by three quarters, time constant 30", func(_ *rand.Rand, i int) float64 { return 1 + 3*math.Exp(-float64(i)/30) }, 1, 0.05},
		{"the same, time constant 90", func(_ *rand.Rand, i int) float64 { return 1 + 3*math.Exp(-float64(i)/90) }, 1, 0.05},
		{"a decay by a third, time constant 60", func(_ *rand.Rand, i int) float64 { return 1 + 0.5*math.Exp(-float64(i)/60) }, 1, 0.1},
		{"one interval in twenty dead", func(random *rand.Rand, _ int) float64 {
			if random.IntN(20) == 0 {
				return 0
			}
			return 1
		}, 0.95, 0.1},
	} {
		load := workload.Spec{Ending: workload.Ending{Steady: true, Margin: 0.02, For: longest}}
		var ends []int
		var lock sync.Mutex
		counts := each(tries, 77, func(random *rand.Rand, add func(string)) {
			rates := make([]float64, longest)
			for i := range rates {
				rates[i] = 10_000 * c.level(random, i) * (1 + 0.03*random.NormFloat64())
			}
			all, watch := paces(rates), Watch(load)
			for n := patientIntervals; n <= len(all); n += max(n/20, 1) {
				stand := watch(all[:n], false)
				if !stand.Enough {
					continue
				}
				add("ended")
				lock.Lock()
				ends = append(ends, n)
				lock.Unlock()
				if mean := phase(all[stand.Cut:n]).Rate; math.Abs(float64(mean)/10_000-c.truth) > 1.5*0.02*c.truth {
					add("off")
				}
				return
			}
		})
		slices.Sort(ends)
		middle := "-"
		if len(ends) > 0 {
			middle = fmt.Sprint(ends[len(ends)/2])
		}
		table = append(table, fmt.Sprintf("| %s | %s | %s | %s |", c.name, percent(counts["ended"], tries), middle, percent(counts["off"], tries)))
		atMost(t, c.name+": ended too far off", counts["off"], tries, c.most)
	}
	t.Logf("patience until settled and within 2 %%, at most %d intervals, in per cent of %d each:\n%s", longest, tries, strings.Join(table, "\n"))
}

// Where an interval of a mean is given, it holds.
func TestTruthOfMeans(t *testing.T) {
	tries := trials.Number(1000)
	table := []string{"| values | autocorrelation | given | covers, where given |", "|---|---|---|---|"}
	for _, n := range []int{20, 30, 60, 300, 1800} {
		for _, phi := range []float64{0, 0.5, 0.8, 0.9, 0.95} {
			counts := each(tries, uint64(n)+uint64(phi*100)*10_000, func(random *rand.Rand, add func(string)) {
				if m := MeanOfSeries(sticky(random, n, phi)); m.Known {
					add("given")
					if m.Low <= 0 && 0 <= m.High {
						add("covers")
					}
				}
			})
			given, wrong := counts["given"], counts["given"]-counts["covers"]
			name := fmt.Sprintf("%d values, autocorrelation %g", n, phi)
			table = append(table, fmt.Sprintf("| %d | %g | %s | %s |", n, phi, percent(given, tries), percent(counts["covers"], given)))
			atMost(t, name+": intervals that miss", wrong, tries, 0.05)
			if given > tries/5 {
				atMost(t, name+": intervals that miss, of those given", wrong, given, 0.08)
			}
		}
	}
	t.Logf("95 %% intervals of the mean of a series, in per cent of %d each:\n%s", tries, strings.Join(table, "\n"))
}

// Passes of every shape, from three on, at the spreads that repeats have.
func TestTruthOfPasses(t *testing.T) {
	tries := trials.Number(1000)
	table := []string{"| passes | spread | alike: a shape | first 25 % lower: found | first half: found | 25 % more each pass: found | odd among alike |", "|---|---|---|---|---|---|---|"}
	for _, n := range []int{3, 4, 5, 6, 8} {
		for _, deviation := range []float64{0.01, 0.03, 0.05, 0.1} {
			counts := each(tries, uint64(n)*100+uint64(deviation*1000), func(random *rand.Rand, add func(string)) {
				for _, shape := range []struct {
					name string
					gain func(pass int) float64
				}{
					{"alike", func(int) float64 { return 1 }},
					{"lower", func(pass int) float64 { return 1 - 0.25*float64(max(1-pass, 0)) }},
					{"half", func(pass int) float64 { return 1 + float64(max(1-pass, 0)) }},
					{"curve", func(pass int) float64 { return math.Pow(1.25, float64(pass)) }},
				} {
					values := make([]float64, n)
					for pass := range values {
						values[pass] = shape.gain(pass) * math.Exp(deviation*random.NormFloat64())
					}
					if PassesOf(values, 0).Shape != Level {
						add(shape.name)
					}
					if shape.name == "alike" && len(Odd(values)) > 0 {
						add("odd")
					}
				}
			})
			name := fmt.Sprintf("%d passes, %g spread: ", n, deviation)
			atMost(t, name+"a shape where there is none", counts["alike"], tries, 0.05)
			atMost(t, name+"an odd one where there is none", counts["odd"], tries, 0.03)
			if deviation <= 0.03 {
				atMost(t, name+"a halved load not found", tries-counts["half"], tries, 0.05)
			}
			table = append(table, fmt.Sprintf("| %d | %g %% | %s | %s | %s | %s | %s |", n, deviation*100, percent(counts["alike"], tries), percent(counts["lower"], tries), percent(counts["half"], tries), percent(counts["curve"], tries), percent(counts["odd"], tries)))
		}
	}
	t.Logf("passes, in per cent of %d each:\n%s", tries, strings.Join(table, "\n"))
}

// page makes a page of ratios: points of some figures each, of which the first
// matters most, between runs that differ by themselves.
func page(random *rand.Rand, points, figures, repeats int, gain, between, within float64, spread Spread) []*Ratio {
	var decided []Decided
	var ratios []*Ratio
	run := func(truth float64) [][]float64 {
		level := truth * math.Exp(between*random.NormFloat64())
		all := make([][]float64, points*figures)
		for i := range all {
			for range repeats {
				all[i] = append(all[i], level*math.Exp(within*random.NormFloat64()))
			}
		}
		return all
	}
	a, b := run(1000), run(1000*gain)
	for i := range a {
		r := Compare(Repetition{a[i], 1, spread}, Repetition{b[i], 1, spread}, 0.05)
		ratios = append(ratios, &r)
		decided = append(decided, Decided{&r, false, i%figures == 0})
	}
	Decide(decided, 0.05)
	return ratios
}

// How often a page says better or worse where there is no difference, and how often
// the same can be said: by what runs differ, how well that is known, and what repeats
// vary.
func TestTruthOfPages(t *testing.T) {
	tries := trials.Number(400)
	table := []string{"| runs differ by | known from | repeats vary by | repeats | pages with a false better or worse | the same, of points alike | 10 % found, one point |", "|---|---|---|---|---|---|---|"}
	for _, c := range []struct {
		between, within float64
		runs            int // that the spread is learned from; 0: it does not exist, as in virtual time; -1: none
		repeats         int
	}{
		{0, 0.01, 0, 3}, {0, 0.01, 0, 5}, {0, 0.03, 0, 5}, {0, 0.06, 0, 5},
		{0.005, 0.01, 4, 3}, {0.005, 0.01, 8, 5}, {0.005, 0.01, 16, 5}, {0.01, 0.01, 4, 3}, {0.01, 0.01, 8, 5}, {0.01, 0.02, 8, 5}, {0.02, 0.01, 8, 5}, {0.03, 0.02, 8, 5}, {0.05, 0.02, 8, 5},
		{0.02, 0.01, -1, 3}, {0.06, 0.01, -1, 3}, {0.1, 0.01, -1, 3}, {0.1, 0.01, -1, 10}, {0.06, 0.01, 2, 3}, {0.1, 0.01, 2, 3}, {0.02, 0.01, 6, 3}, {0.06, 0.01, 6, 3}, {0.1, 0.01, 6, 3},
	} {
		counts := each(tries, uint64(c.between*1000)*100+uint64(c.runs+c.repeats), func(random *rand.Rand, add func(string)) {
			learned := Spread{}
			if c.runs != 0 {
				past := Alike{Load: "x"}
				for range c.runs {
					mean := math.Exp(c.between * random.NormFloat64())
					var values []float64
					for range c.repeats {
						values = append(values, mean*math.Exp(c.within*random.NormFloat64()))
					}
					past.Runs = append(past.Runs, values)
				}
				learned, _ = Learn([]Alike{past}).Under("x")
			}
			for i, r := range page(random, 10, 8, c.repeats, 1, c.between, c.within, learned) {
				if r.Verdict == Better || r.Verdict == Worse {
					add("false")
					break
				}
				if i%8 == 0 && r.Verdict == Same {
					add("same")
				}
			}
			if r := page(random, 1, 8, c.repeats, 1.1, c.between, c.within, learned)[0]; r.Verdict == Better {
				add("found")
			}
		})
		from := "not needed"
		if c.runs < 0 {
			from = "nothing"
		}
		if c.runs > 0 {
			from = fmt.Sprintf("%d runs", c.runs)
		}
		atMost(t, fmt.Sprintf("%+v: pages with a false verdict", c), counts["false"], tries, 0.05)
		if c.between <= 0.01 && c.within <= 0.01 && c.repeats >= 5 {
			atMost(t, fmt.Sprintf("%+v: points that are not called the same", c), 10*tries-counts["same"], 10*tries, 0.4)
		}
		table = append(table, fmt.Sprintf("| %g %% | %s | %g %% | %d | %s | %s | %s |", c.between*100, from, c.within*100, c.repeats, percent(counts["false"], tries), percent(counts["same"], 10*tries), percent(counts["found"], tries)))
	}
	t.Logf("pages of ten points with eight figures each, in per cent of %d:\n%s", tries, strings.Join(table, "\n"))
}

// Sides that are unlike in all but their truth: other numbers of repeats, other
// spreads, two groups of repeats, stalls. No difference is called one.
func TestTruthOfUnlikeSides(t *testing.T) {
	tries := trials.Number(2000)
	normal := func(spread float64) func(*rand.Rand) float64 {
		return func(random *rand.Rand) float64 { return 1000 * math.Exp(spread*random.NormFloat64()) }
	}
	groups := func(random *rand.Rand) float64 { // one repeat in two finds a region that is a third slower
		return normal(0.01)(random) * (1 - float64(random.IntN(2))/3)
	}
	stalls := func(random *rand.Rand) float64 {
		if random.IntN(4) == 0 {
			return 0
		}
		return normal(0.02)(random)
	}
	table := []string{"| sides | better or worse | the same |", "|---|---|---|"}
	for _, c := range []struct {
		name string
		a, b func(*rand.Rand) float64
		n, m int
		same bool // that may be said
	}{
		{"3 against 8 repeats, 3 % spread", normal(0.03), normal(0.03), 3, 8, true},
		{"2 against 6 repeats, 3 % spread", normal(0.03), normal(0.03), 2, 6, true},
		{"1 % against 10 % spread, 5 repeats", normal(0.01), normal(0.1), 5, 5, true},
		{"10 % against 1 % spread, 3 against 9 repeats", normal(0.1), normal(0.01), 3, 9, true},
		{"two groups of repeats, 5 each", groups, groups, 5, 5, true},
		{"two groups of repeats, 3 against 6", groups, groups, 3, 6, true},
		{"one repeat in four stalled, 5 each", stalls, stalls, 5, 5, false},
	} {
		counts := each(tries, uint64(c.n*100+c.m), func(random *rand.Rand, add func(string)) {
			values := func(of func(*rand.Rand) float64, n int) (v []float64) {
				for range n {
					v = append(v, of(random))
				}
				return v
			}
			a, b := values(c.a, c.n), values(c.b, c.m)
			r := alone(Compare(Repetition{Values: a, Runs: 1}, Repetition{Values: b, Runs: 1}, 0.05), 0.05, false)
			add(string(r.Verdict))
			if !c.same && r.Verdict == Same && (slices.Min(a) == 0 || slices.Min(b) == 0) {
				add("the same, though stalled")
			}
		})
		wrong := counts[string(Better)] + counts[string(Worse)]
		atMost(t, c.name+": a false better or worse", wrong, tries, 0.05)
		atMost(t, c.name+": stalled and yet the same", counts["the same, though stalled"], tries, 0)
		table = append(table, fmt.Sprintf("| %s | %s | %s |", c.name, percent(wrong, tries), percent(counts[string(Same)], tries)))
	}
	t.Logf("sides alike in truth alone, in per cent of %d:\n%s", tries, strings.Join(table, "\n"))
}
