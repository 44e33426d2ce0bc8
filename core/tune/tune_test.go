package tune

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"patientheron/core/claim"
	"patientheron/core/figure"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
)

// storage is a stand-in whose truth is known: a rate that the settings multiply, a drift,
// and values that a target does not take.
type storage struct {
	factors map[plan.Setting]float64
	// spare pairs bring together no more than either alone.
	instead [2]plan.Setting
	only    [2]plan.Setting   // that bring two fifths together, and nothing alone
	refuses map[string]string // keys, and what is in effect instead
	fails   plan.Setting
	scatter float64
	random  *rand.Rand
	at      float64
}

func (s *storage) measure(step plan.Step) Trial {
	s.at++
	rate := 1000 * math.Exp(0.002*s.at+s.scatter*s.random.NormFloat64()) // it drifts by a fifth in a hundred
	t := Trial{Point: step.Point, Repeat: step.Repeat, Value: rate, Beside: 1 / rate}
	for _, key := range []string{"MaxBurstLength", "InitialR2T", "MaxOutstandingR2T"} {
		t.Keys = append(t.Keys, measure.Agreed{Key: key, Offered: "usual", InEffect: "usual"})
	}
	for i := range t.Keys {
		for _, set := range step.Point {
			if set.Field == t.Keys[i].Key {
				t.Keys[i].Offered, t.Keys[i].InEffect = set.Value, set.Value
			}
		}
		if instead, is := s.refuses[t.Keys[i].Key]; is {
			t.Keys[i].InEffect, t.Keys[i].Cut = instead, "target"
		}
	}
	if s.only[0].Field != "" && slices.Contains(step.Point, s.only[0]) && slices.Contains(step.Point, s.only[1]) {
		t.Value *= 1.4
	}
	for _, set := range step.Point {
		if set == s.fails {
			t.Value, t.Failed = math.NaN(), "the target went away"
		}
		if _, refused := s.refuses[set.Field]; refused {
			continue
		}
		if factor := s.factors[set]; factor > 0 && !(set == s.instead[1] && slices.Contains(step.Point, s.instead[0])) {
			t.Value *= factor
		}
	}
	return t
}

var parameters = tried(
	plan.Axis{Field: "depth", Values: []string{"4", "32"}},
	plan.Axis{Field: "MaxBurstLength", Values: []string{"65536", "1048576"}},
	plan.Axis{Field: "InitialR2T", Values: []string{"No"}},
	plan.Axis{Field: "MaxOutstandingR2T", Values: []string{"4", "16"}},
)

func tried(axes ...plan.Axis) (all []plan.Tried) {
	for _, a := range axes {
		all = append(all, plan.Tried{Axis: a})
	}
	return all
}

func steps(t *testing.T, tune plan.Tune) []plan.Step {
	t.Helper()
	steps, err := plan.Plan{Stages: []plan.Stage{{Load: workload.Default(), Tune: &tune}}}.Steps()
	if err != nil {
		t.Fatal(err)
	}
	return steps
}

// carriedOut carries an experiment out on a stand-in, and gives what was measured.
func carriedOut(t *testing.T, tune plan.Tune, s *storage) (Answer, []plan.Step) {
	t.Helper()
	all := steps(t, tune)
	e := New(all[0])
	var made []plan.Step
	for step, more := e.Next(); more; step, more = e.Next() {
		made = append(made, step)
		e.Measured(s.measure(step))
	}
	if len(made) > len(all) {
		t.Errorf("%d measurements, and the plan asked for %d", len(made), len(all))
	}
	borne(t, e.Answer())
	return e.Answer(), made
}

// borne checks that all that is said of an experiment is borne by what was found, and nothing
// else.
func borne(t *testing.T, a Answer) {
	t.Helper()
	for _, c := range slices.Concat(a.Claims, a.Doubts) {
		if err := c.Check(); err != nil {
			t.Error(err)
		}
		for _, term := range c.Terms {
			of := slices.ContainsFunc(a.Parameters, func(p Parameter) bool {
				return p.Field == term.Of && string(p.Matter) == term.State
			})
			if c.Kind == "matters" && !of || c.Kind == "matters-not" && !of || c.Kind == "not-shown-either-way" && !of {
				t.Errorf("%s is said of %+v: %+v", c.Kind, term, a.Parameters)
			}
		}
	}
	keeps := slices.ContainsFunc(a.Claims, func(c claim.Claim) bool { return strings.HasPrefix(c.Kind, "keep") })
	if keeps != (len(a.Keep) > 0) {
		t.Errorf("%v is worth keeping: %s", a.Keep, a.Words)
	}
}

func TestAnExperimentFindsWhatMatters(t *testing.T) {
	deep := plan.Setting{Field: "depth", Value: "32"}
	long := plan.Setting{Field: "MaxBurstLength", Value: "1048576"}
	s := &storage{
		factors: map[plan.Setting]float64{deep: 1.5, {Field: "depth", Value: "4"}: 0.6, long: 1.2},
		refuses: map[string]string{"MaxOutstandingR2T": "1"},
		scatter: 0.01, random: rand.New(rand.NewPCG(1, 1)),
	}
	answer, made := carriedOut(t, plan.Tune{Parameters: parameters, Rounds: 5}, s)
	for _, p := range answer.Parameters {
		want := map[string]Matter{"depth": Matters, "MaxBurstLength": Matters, "InitialR2T": MattersNo, "MaxOutstandingR2T": NotTaken}[p.Field]
		if p.Matter != want {
			t.Errorf("%s: %s, want %s: %+v", p.Field, p.Matter, want, p.Values)
		}
	}
	if !slices.Equal(answer.Keep, []plan.Setting{deep, long}) {
		t.Errorf("kept: %v", answer.Keep)
	}
	if b := answer.Brings; b == nil || b.Low > 1.8 || b.High < 1.8 || b.High-b.Low > 0.15 {
		t.Errorf("it brings %+v; in truth 1.8", b)
	}
	if !answer.Drift.Shown || len(answer.Cautions) == 0 {
		t.Errorf("the drift: %+v, %q", answer.Drift, answer.Cautions)
	}
	refused, baselines := 0, 0
	for _, step := range made {
		if slices.ContainsFunc(step.Point, func(s plan.Setting) bool { return s.Field == "MaxOutstandingR2T" }) {
			refused++
		}
		if len(step.Point) == 0 {
			baselines++
		}
	}
	if refused != 2 {
		t.Errorf("what the target does not take was measured %d times, not once each", refused)
	}
	if baselines != 10*3 { // seven values: the square root is nearest to three
		t.Errorf("the baseline was measured %d times", baselines)
	}
	record := strings.ReplaceAll(answer.Record(Heading{Run: 3, Volume: "store"}), "\n", " ")
	for _, words := range []string{"refused MaxOutstandingR2T 4 and 16: 1 stayed in effect", "No difference of 5 % or more: InitialR2T.", "depth = 32: in the load", "MaxBurstLength = 1048576: on the host"} {
		if !strings.Contains(record, words) {
			t.Errorf("the record does not say %q:\n%s", words, record)
		}
	}
}

// Each round measures each value once, in an order of its own, with the same seeds for the
// same plan.
func TestRoundsAreShuffledAndWhole(t *testing.T) {
	s := func() *storage { return &storage{scatter: 0.01, random: rand.New(rand.NewPCG(2, 2))} }
	tune := plan.Tune{Parameters: parameters, Rounds: 4}
	_, made := carriedOut(t, tune, s())
	_, again := carriedOut(t, tune, s())
	var orders []string
	seeds := map[uint64]bool{}
	for round := range 4 {
		var points []string
		for _, step := range made[round*10 : round*10+10] {
			points = append(points, plan.Describe(step.Point))
			seeds[step.Load.Seed] = true
		}
		orders = append(orders, strings.Join(points, "; "))
		slices.Sort(points)
		if got := slices.Compact(points); len(got) != 8 {
			t.Errorf("round %d measures %q", round+1, got)
		}
	}
	if len(slices.Compact(slices.Sorted(slices.Values(orders)))) < 4 {
		t.Errorf("two rounds have the same order: %q", orders)
	}
	if len(seeds) != 40 {
		t.Errorf("%d seeds for 40 measurements", len(seeds))
	}
	for i := range made {
		if plan.Describe(made[i].Point) != plan.Describe(again[i].Point) || made[i].Load.Seed != again[i].Load.Seed {
			t.Fatalf("the same plan again measures %v instead of %v", again[i].Point, made[i].Point)
		}
	}
}

// Of many experiments without any effect one in twenty may find something worth keeping.
func TestNothingIsFoundWhereNothingIs(t *testing.T) {
	const experiments = 300
	kept, mattered := 0, 0
	for i := range experiments {
		s := &storage{scatter: 0.05, random: rand.New(rand.NewPCG(3, uint64(i)))}
		answer, _ := carriedOut(t, plan.Tune{Parameters: parameters, Rounds: 4}, s)
		if len(answer.Keep) > 0 {
			kept++
		}
		if len(answer.fields(Matters)) > 0 {
			mattered++
		}
	}
	if kept > experiments/20 || mattered > experiments/14 {
		t.Errorf("of %d experiments without an effect %d kept something, in %d something mattered", experiments, kept, mattered)
	}
}

// Of two settings that can stand in for each other the better one is kept.
func TestOneOfTwoThatDoTheSameIsKept(t *testing.T) {
	deep, long := plan.Setting{Field: "depth", Value: "32"}, plan.Setting{Field: "MaxBurstLength", Value: "1048576"}
	s := &storage{factors: map[plan.Setting]float64{deep: 1.4, long: 1.3}, instead: [2]plan.Setting{deep, long}, scatter: 0.01, random: rand.New(rand.NewPCG(4, 4))}
	answer, _ := carriedOut(t, plan.Tune{Parameters: parameters, Rounds: 6}, s)
	if !slices.Equal(answer.Keep, []plan.Setting{deep}) || answer.Brings == nil || math.Abs(answer.Brings.Value-1.4) > 0.05 {
		t.Errorf("kept: %v, which brings %+v", answer.Keep, answer.Brings)
	}
}

// What is said while an experiment goes on does not say that it has ended.
func TestWhatIsSaidOnTheWay(t *testing.T) {
	deep := plan.Setting{Field: "depth", Value: "32"}
	s := &storage{factors: map[plan.Setting]float64{deep: 1.5}, scatter: 0.01, random: rand.New(rand.NewPCG(8, 8))}
	e := New(steps(t, plan.Tune{Parameters: parameters, Rounds: 3})[0])
	for step, more := e.Next(); more; step, more = e.Next() {
		e.Measured(s.measure(step))
		a := e.Answer()
		if a.Together == nil && len(a.Baseline.Values) > 0 && !strings.HasPrefix(a.Words, "So far") {
			t.Fatalf("in round %d: %q", a.Round, a.Words)
		}
	}
	if a := e.Answer(); !strings.HasPrefix(a.Words, "Keep depth 32") {
		t.Errorf("in the end: %q", a.Words)
	}
}

func TestAnExperimentWithFailures(t *testing.T) {
	deep := plan.Setting{Field: "depth", Value: "32"}
	s := &storage{fails: deep, scatter: 0.01, random: rand.New(rand.NewPCG(5, 5))}
	answer, made := carriedOut(t, plan.Tune{Parameters: tried(plan.Axis{Field: "depth", Values: []string{"32"}}), Rounds: 3}, s)
	if len(made) != 2 || answer.Parameters[0].Matter != Failed || !strings.Contains(answer.Words, "Measurements failed with") {
		t.Errorf("a value that fails: %d measurements, %+v", len(made), answer)
	}
	all := steps(t, plan.Tune{Parameters: parameters})
	e := New(all[0])
	for step, more := e.Next(); more; step, more = e.Next() {
		e.Measured(Trial{Point: step.Point, Repeat: step.Repeat, Value: math.NaN(), Failed: "gone"})
	}
	if len(e.trials) != 10 || !strings.Contains(e.Answer().Words, "baseline has no value") {
		t.Errorf("nothing can be measured: %d measurements, %q", len(e.trials), e.Answer().Words)
	}
	// A figure that a measurement does not have, such as when it fell, is no failure.
	e = New(all[0])
	for step, more := e.Next(); more && len(e.trials) < 12; step, more = e.Next() {
		e.Measured(TrialOf(step.Point, step.Repeat, figure.Of("until-fall"), &measure.Summary{}, ""))
	}
	if a := e.Answer(); a.Measured != 0 {
		t.Errorf("without a value: %+v", a)
	} else if _, err := json.Marshal(a); err != nil {
		t.Error(err)
	}
	if a := Analyse(all[0], nil); a.Words == "" || len(a.Parameters) != 4 {
		t.Errorf("before the first measurement: %+v", a)
	}
}

// What was chosen because it looked best is said by what was measured afterwards.
func TestTheChosenIsNotFlattered(t *testing.T) {
	values := []string{"2", "3", "4", "5", "6", "7", "9", "10", "11", "12"}
	factors := map[plan.Setting]float64{}
	for _, v := range values {
		factors[plan.Setting{Field: "depth", Value: v}] = 1.15
	}
	sum, n := 0.0, 0.0
	for i := range 200 {
		s := &storage{factors: factors, scatter: 0.06, random: rand.New(rand.NewPCG(6, uint64(i)))}
		answer, _ := carriedOut(t, plan.Tune{Parameters: tried(plan.Axis{Field: "depth", Values: values}), Rounds: 3}, s)
		if answer.Together != nil {
			sum, n = sum+math.Log(answer.Together.Ratio.Value), n+1
		}
	}
	if mean := math.Exp(sum / n); n < 180 || math.Abs(mean-1.15) > 0.015 {
		t.Errorf("of %g experiments the mean is %.3f; in truth 1.15", n, mean)
	}
}

func TestWhatIsToldBeside(t *testing.T) {
	for _, f := range []string{"throughput", "p99", "files", "requests", "late"} {
		tune := plan.Tune{Figure: f}
		if of := beside(tune.FigureOf(workload.Default())); of.Key == "" || of.Key == f {
			t.Errorf("beside %s: %q", f, of.Key)
		}
	}
}

// Two changes that bring something together and nothing alone are found, and what is kept is
// not said to be not shown.
func TestWhatBringsSomethingTogetherAloneIsFound(t *testing.T) {
	pair := [2]plan.Setting{{Field: "InitialR2T", Value: "No"}, {Field: "MaxBurstLength", Value: "1048576"}}
	one := tried(plan.Axis{Field: "MaxBurstLength", Values: []string{"1048576"}}, plan.Axis{Field: "InitialR2T", Values: []string{"No"}}, plan.Axis{Field: "depth", Values: []string{"32"}})
	found, tries := 0, 60
	for seed := range tries {
		s := &storage{only: pair, scatter: 0.03, random: rand.New(rand.NewPCG(uint64(seed), 5))}
		a, _ := carriedOut(t, plan.Tune{Parameters: one, Rounds: 4}, s)
		if slices.Contains(a.Keep, pair[0]) && slices.Contains(a.Keep, pair[1]) {
			found++
		}
		for _, p := range a.Parameters {
			kept := slices.ContainsFunc(a.Keep, func(s plan.Setting) bool { return s.Field == p.Field })
			if kept && (p.Matter != Matters || strings.Contains(a.Words, "Not shown either way: "+p.Field)) {
				t.Errorf("kept, and %s: %s", p.Matter, a.Words)
			}
		}
	}
	if found < tries*9/10 {
		t.Errorf("found in %d of %d", found, tries)
	}
}
