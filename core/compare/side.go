package compare

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Side is what was measured of one setup.
type Side struct {
	Name    string
	Runs    []int64
	Setup   setup.Setup
	Setups  []setup.Setup // of each run, where they may differ
	Real    bool          // not simulated: its runs differ by more than its repeats do
	Samples []Sample
	Past    []Side // other runs of the same setup on the same volume, one each

	As []As // of a candidate: which of its stages are compared with stages of the baseline by other names

	Degraded []Sample // of runs on the same volume while it was this setup with members missing
}

// As names two stages that are compared although they are called otherwise, and may do the same
// by other means.
type As struct {
	Baseline  string `json:"baseline" minLength:"1" maxLength:"80" doc:"Name of the stage in the baseline"`
	Candidate string `json:"candidate" minLength:"1" maxLength:"80" doc:"And in the candidates"`
}

// named is the side with its stages under the names of those that they are compared with.
func (s Side) named() Side {
	if len(s.As) == 0 {
		return s
	}
	s.Samples = slices.Clone(s.Samples)
	for i := range s.Samples {
		for _, as := range s.As {
			if sample := &s.Samples[i]; sample.Stage == as.Candidate && sample.As == "" {
				sample.Stage, sample.As = as.Baseline, as.Candidate
			}
		}
	}
	return s
}

// learned tells from the past of a side by how much its runs differ, by figure.
func (s Side) learned() map[string]judge.Learned {
	past := map[string]map[string]*judge.Alike{}
	for _, run := range s.Past {
		g := group(run)
		usual := g.usual()
		for _, key := range g.order {
			of := g.of[key]
			load := of[0].Load.Key()
			warm := which{from: passesOf(of, figure.Of(mainOf(of)), usual).Warm}
			for _, f := range figure.For(of[0].Load) {
				v := values(of, f, warm)
				if len(v.compared) == 0 {
					continue
				}
				if past[f.Key] == nil {
					past[f.Key] = map[string]*judge.Alike{}
				}
				if past[f.Key][load] == nil {
					past[f.Key][load] = &judge.Alike{Load: load}
				}
				past[f.Key][load].Runs = append(past[f.Key][load].Runs, v.compared)
			}
		}
	}
	learned := map[string]judge.Learned{}
	for key, loads := range past {
		var all []judge.Alike
		for _, load := range slices.Sorted(maps.Keys(loads)) {
			all = append(all, *loads[load])
		}
		learned[key] = judge.Learn(all)
	}
	return learned
}

// taken is the share of the host's CPU time that others took meanwhile.
func (s Side) taken() float64 {
	stolen, n := 0.0, 0.0
	for _, sample := range s.Samples {
		if sample.Summary != nil {
			stolen, n = stolen+float64(sample.Summary.Stolen), n+1
		}
	}
	return stolen / max(n, 1)
}

// known is a side with what is known of how its runs differ.
type known struct {
	Side
	learned map[string]judge.Learned // by figure
	taken   float64
	within  bool // it is compared with others of the same runs, which differ by nothing from run to run
}

// beside is the side as it is compared with another.
func (k known) beside(other known) known {
	k.within = slices.ContainsFunc(k.Runs, func(id int64) bool { return slices.Contains(other.Runs, id) })
	return k
}

func (s Side) known() known {
	k := known{Side: s}
	if s.Real {
		k.learned, k.taken = s.learned(), s.taken()
	}
	return k
}

// repetition is what a side measured of a figure, compared with another side. Where it
// has three runs or more, they show by themselves how much runs differ. Of fewer it is
// learned from other runs, and others on the host took more from one side than from the
// other. Where nothing was learned, what varies from repeat to repeat varies at least
// as much from run to run, because slow drifts outlast a run, and others take what they
// take. Parts of one run differ by nothing from run to run.
func (k known) repetition(f string, v Values, load string, other known) judge.Repetition {
	r := judge.Repetition{Values: v.compared, Runs: v.runs}
	if !k.Real || v.runs >= 3 || k.within {
		return r
	}
	var learned float64
	r.Spread, learned = k.learned[f].Under(load)
	if learned > 0 {
		r.Spread.Deviation = math.Hypot(r.Spread.Deviation, (k.taken-other.taken)/2)
		return r
	}
	r.Spread.Deviation = math.Hypot(math.Hypot(r.Spread.Deviation, k.taken), float64(v.Variation))
	return r
}

// Sample is one measurement of a side.
type Sample struct {
	Run, Measurement int64
	Stage            string
	Point            []plan.Setting
	Load             workload.Spec
	Summary          *measure.Summary // nil when there is no result
	Reason           string           // why there is none
	Doubts           []judge.Finding  // what was found that makes a figure unreliable, or is to be known of it
	Fit              *plan.Fit        // of the stage, where that looked for what fits
	Part             bool             // it is what one of several loads at once came to

	Half bool // it is what came before or after a marker

	As string // what its stage is called itself, where it is compared with one of another name

	Joint    int64 // names the runs that were made together with this one; 0 for none
	Position int   // within its run: measurements of a joint at one position are a pair

	known *judge.Known // kept by group, since each of many figures asks for it
}

// Known is what is known of it beside its figures.
func (s Sample) Known() judge.Known {
	if s.known != nil {
		return *s.known
	}
	return judge.KnownOf(s.Load, s.Summary, s.Doubts)
}

// pair names the measurement that a sample is one of, or, of a whole run, the joint.
func (s Sample) pair(ofRun bool) pair {
	if s.Joint == 0 || ofRun {
		return pair{joint: s.Joint}
	}
	return pair{s.Joint, s.Position}
}

// pair is what values of two sides have in common that were measured together; the zero
// pair is nothing.
type pair struct {
	joint    int64
	position int
}

// mixed says that the runs of a side are not of the same setup.
func mixed(s Side) string {
	for i, other := range s.Setups {
		if i == 0 || i >= len(s.Runs) {
			continue
		}
		if d := setup.Diff(s.Setups[0], other); d.Things > 0 {
			return fmt.Sprintf("Runs %d and %d on one side are not of the same setup: %s Compare them with each other, not together.", s.Runs[0], s.Runs[i], d.Words)
		}
	}
	return ""
}

// groups is the samples of a side, by what they measured.
type groups struct {
	order []string
	of    map[string][]Sample
}

// Altered reports whether the volume itself was another when it was measured: whether a key of
// its array file or of its sessions was swept.
func (s Sample) Altered() bool {
	return slices.ContainsFunc(s.Point, func(p plan.Setting) bool { return plan.OfVolume(p.Field) })
}

// Title names what a sample is of: its stage, and the point of the sweep.
func (s Sample) Title() string {
	if len(s.Point) == 0 {
		return s.Stage
	}
	return s.Stage + " at " + plan.Describe(s.Point)
}

func group(side Side) *groups {
	g := &groups{of: map[string][]Sample{}}
	for _, whole := range side.Samples {
		for _, s := range append([]Sample{whole}, whole.parts()...) {
			key, known := s.Title(), s.Known()
			s.known = &known
			if g.of[key] == nil {
				g.order = append(g.order, key)
			}
			g.of[key] = append(g.of[key], s)
		}
	}
	return g
}

// parts are what each of several loads at once came to; none of a load alone.
func (s Sample) parts() (parts []Sample) {
	if !s.Load.Several() || s.Summary == nil {
		return nil
	}
	for i := range s.Load.Together {
		part := s
		part.Part, part.known = true, nil
		part.Load, part.Summary = s.Load.Part(i, s.Summary)
		part.Stage = s.Stage + ": " + part.Load.Name
		part.Doubts = slices.DeleteFunc(slices.Clone(s.Doubts), func(f judge.Finding) bool { return f.Part != "" && f.Part != part.Load.Name })
		parts = append(parts, part)
	}
	return parts
}

// usual is by how much the passes of a side vary around where they go, once the first is
// over: what is usual at its points, when there are three with four passes or more. What
// all of them warm by is no noise. It is 0 when that is not known.
func (g *groups) usual() float64 {
	var spreads []float64
	for _, key := range g.order {
		if g.of[key][0].Part { // which vary with all of which they are
			continue
		}
		perRun := map[int64][]float64{}
		f := figure.Of(mainOf(g.of[key]))
		for _, s := range g.of[key] {
			if s.Summary != nil {
				perRun[s.Run] = append(perRun[s.Run], f.Value(s.Summary))
			}
		}
		for _, passes := range perRun {
			if spread, known := judge.AroundTheirLine(passes[min(1, len(passes)):]); known {
				spreads = append(spreads, spread)
			}
		}
	}
	if len(spreads) < 3 {
		return 0
	}
	// The middle of standard deviations with one degree of freedom is two thirds of what
	// values vary by; with more it is nearer.
	return 1.5 * judge.Repeats(spreads).Median
}
