package plan

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"patientheron/core/fileset"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
)

func TestStepsMultiplyTheAxesAndInterleaveRepeats(t *testing.T) {
	p := Plan{Stages: []Stage{
		{Name: "write it over", Precondition: &Precondition{Passes: 2}, Load: workload.Default()},
		{Name: "shape", Load: workload.Default(), Repeats: 2, Sweep: []Axis{
			{Field: "block", Values: []string{"4KiB", "64KiB"}}, {Field: "depth", Values: []string{"1..6"}},
		}},
	}}
	steps, err := p.Steps()
	if err != nil {
		t.Fatal(err)
	}
	if f := steps[0]; !f.Preconditioning || f.Load.Reads != 0 || f.Load.Amount != 2*quantity.GiB || f.Load.Order != workload.Sequential {
		t.Errorf("fill became %+v", f)
	}
	var got []string
	for _, s := range steps[1:] {
		got = append(got, Describe(s.Point))
	}
	round := []string{
		"block 4KiB, depth 1", "block 4KiB, depth 2", "block 4KiB, depth 4", "block 4KiB, depth 6",
		"block 64KiB, depth 1", "block 64KiB, depth 2", "block 64KiB, depth 4", "block 64KiB, depth 6",
	}
	if want := append(slices.Clone(round), round...); !slices.Equal(got, want) {
		t.Errorf("got %q", got)
	}
	if last := steps[len(steps)-1]; last.Load.Blocks[0].Size != 64*quantity.KiB || last.Load.Depth != 6 || last.Repeat != 2 || last.Load.Seed != 2 || steps[1].Load.Seed != 1 {
		t.Errorf("last step %+v", last)
	}
	if steps[1].Load.Blocks[0].Size != 4*quantity.KiB {
		t.Error("a later point changed an earlier one")
	}
}

func TestShuffleIsAPermutationAndRepeatable(t *testing.T) {
	stage := Stage{Load: workload.Default(), Shuffle: true, Sweep: []Axis{{Field: "depth", Values: []string{"1..128"}}}}
	order := func() (names []string) {
		steps, err := Plan{Stages: []Stage{stage}}.Steps()
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range steps {
			names = append(names, Describe(s.Point))
		}
		return names
	}
	shuffled := order()
	if !slices.Equal(shuffled, order()) {
		t.Error("the same seed shuffles differently")
	}
	stage.Shuffle = false
	straight := order()
	if slices.Equal(shuffled, straight) {
		t.Error("not shuffled")
	}
	slices.Sort(shuffled)
	slices.Sort(straight)
	if !slices.Equal(shuffled, straight) {
		t.Errorf("%q is not a permutation of %q", shuffled, straight)
	}
}

func TestImpossiblePlansSayWhere(t *testing.T) {
	good := workload.Default()
	bad := good
	bad.Depth = 0
	for words, p := range map[string]Plan{
		"no stages":             {},
		"depth":                 {Stages: []Stage{{Load: bad}}},
		"at block 1KiB, depth":  {Stages: []Stage{{Load: good, Sweep: []Axis{{"block", []string{"1KiB"}}, {"depth", []string{"0"}}}}}},
		"there is no field":     {Stages: []Stage{{Load: good, Sweep: []Axis{{"colour", []string{"red"}}}}}},
		"has no values":         {Stages: []Stage{{Load: good, Sweep: []Axis{{"depth", nil}}}}},
		"does not go up":        {Stages: []Stage{{Load: good, Sweep: []Axis{{"depth", []string{"8..1"}}}}}},
		"more than 10000":       {Stages: []Stage{{Load: good, Repeats: 1000, Sweep: []Axis{{"depth", []string{"1..4096"}}}}}},
		"nothing to sweep":      {Stages: []Stage{{Load: good, Precondition: &Precondition{Passes: 1}, Sweep: []Axis{{"depth", []string{"1"}}}}}},
		"0 passes":              {Stages: []Stage{{Load: good, Precondition: &Precondition{}}}},
		"-1 repeats":            {Stages: []Stage{{Load: good, Repeats: -1}}},
		"stage 2 (a good name)": {Stages: []Stage{{Load: good}, {Name: "a good name", Load: bad}}},
	} {
		_, err := p.Steps()
		if err == nil || !strings.Contains(err.Error(), words) || !(errors.Is(err, ErrInvalid) || errors.Is(err, workload.ErrInvalid)) {
			t.Errorf("%s: %v", words, err)
		}
	}
}

func TestEstimate(t *testing.T) {
	paced := workload.Default()
	paced.Rate, paced.Reads, paced.WarmUp = 1000, 0.5, 5
	e, err := Plan{Stages: []Stage{
		{Precondition: &Precondition{Passes: 3}, Load: workload.Default()},
		{Load: paced, Repeats: 2, Settle: Settle{Pause: 10}},
	}}.Estimate()
	// Two rounds of 5 s warm-up, 10 s measured and 10 s pause; half of 1000
	// operations a second for 15 s, each 4 KiB, twice; three fills of 1 GiB.
	if err != nil || e.Time != 50 || e.Measurements != 3 || e.Written != 3*quantity.GiB+2*15*500*4096 || !e.Open {
		t.Errorf("%+v, %v", e, err)
	}
}

// A sweep of the array makes one variant for each combination of its keys, with the
// steps of all repeats, and leaves the load as it is.
func TestVariantsOfASweptArray(t *testing.T) {
	p := Plan{Stages: []Stage{
		{Load: workload.Default()},
		{Load: workload.Default(), Repeats: 2, Sweep: []Axis{
			{Field: "members.count", Values: []string{"4..16"}}, {Field: "depth", Values: []string{"1", "8"}}, {Field: "caches[0].size", Values: []string{"1GiB", "4GiB"}},
		}},
	}}
	steps, err := p.Steps()
	if err != nil {
		t.Fatal(err)
	}
	variants, err := Variants(steps)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, v := range variants {
		got = append(got, Describe(v.Changed))
		if want := 4; len(v.Changed) > 0 && len(v.Steps) != want {
			t.Errorf("%v: %d steps, want %d", v.Changed, len(v.Steps), want)
		}
		for _, s := range v.Steps {
			if !slices.Equal(VolumeOf(s.Point), v.Changed) || s.Load.Span != workload.Default().Span {
				t.Errorf("%v: %+v", v.Changed, s)
			}
		}
	}
	want := []string{
		"", "members.count 4, caches[0].size 1GiB", "members.count 4, caches[0].size 4GiB", "members.count 8, caches[0].size 1GiB",
		"members.count 8, caches[0].size 4GiB", "members.count 16, caches[0].size 1GiB", "members.count 16, caches[0].size 4GiB",
	}
	if !slices.Equal(got, want) {
		t.Errorf("variants %q", got)
	}
	if steps[1].Name != "sweep of members.count and depth and caches[0].size" {
		t.Errorf("called %q", steps[1].Name)
	}
}

func TestSweptArraysHaveBounds(t *testing.T) {
	swept := func(field string, values ...string) Stage {
		return Stage{Load: workload.Default(), Sweep: []Axis{{Field: field, Values: values}}}
	}
	many := swept("replica.kilometres")
	for n := range 150 {
		many.Sweep[0].Values = append(many.Sweep[0].Values, strings.Repeat("1", n+1))
	}
	steps, err := Plan{Stages: []Stage{many, swept("members.count", "1..128"), swept("link.mtu", "9000")}}.Steps()
	if err != nil {
		t.Fatal(err)
	}
	if v, err := Variants(steps); err != nil || len(v) != 159 {
		t.Errorf("%d variants, %v", len(v), err)
	}
	twice := many
	twice.Sweep = []Axis{many.Sweep[0], {Field: "link.mtu", Values: []string{"1500", "9000"}}}
	if steps, err = (Plan{Stages: []Stage{twice}}).Steps(); err != nil {
		t.Fatal(err)
	}
	if _, err := Variants(steps); !errors.Is(err, ErrInvalid) || !strings.Contains(err.Error(), "200 arrays") {
		t.Errorf("300 arrays: %v", err)
	}
	filled := Plan{Stages: []Stage{{Precondition: &Precondition{Passes: 1}, Load: workload.Default()}, swept("members.count", "4")}}
	if _, err := filled.Steps(); !errors.Is(err, ErrInvalid) || !strings.Contains(err.Error(), "what an earlier stage wrote is not on it") {
		t.Errorf("after preconditioning: %v", err)
	}
}

// What loads at once need of a volume is what they need beside each other: the regions of
// those of blocks, and a tree for each of files.
func TestReachOfLoadsAtOnce(t *testing.T) {
	small, large, ofFiles := workload.Default(), workload.Default(), workload.Default()
	large.Span, large.Reads = 8*quantity.GiB, 0.5
	files.Use(&ofFiles, fileset.Set{Classes: []fileset.Class{{Name: "f", Number: 9}}})
	mixed := func(parts ...workload.Spec) Step {
		s := workload.Default()
		s.SetTogether()
		s.Together = parts
		return Step{Load: s}
	}
	for name, c := range map[string]struct {
		steps   []Step
		size    quantity.Bytes
		ofFiles int
		blocks  bool
		writes  bool
	}{
		"blocks":           {[]Step{mixed(small, large)}, 9 * quantity.GiB, 0, true, true},
		"files and blocks": {[]Step{mixed(small, ofFiles), {Load: ofFiles}}, quantity.GiB, 2, true, false},
		"files alone":      {[]Step{mixed(ofFiles, ofFiles)}, 0, 1, false, false},
	} {
		e := Reach(c.steps)
		if e.Size != c.size || len(e.Files) != c.ofFiles || e.Blocks != c.blocks || e.Writes != c.writes {
			t.Errorf("%s: %s, %d loads of ofFiles, blocks %t, writes %t", name, e.Size, len(e.Files), e.Blocks, e.Writes)
		}
	}
}
