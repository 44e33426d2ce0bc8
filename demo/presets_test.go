package demo

import (
	"flag"
	"testing"

	"patientheron/core/judge"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/format/planfile"
	"patientheron/storage/simulated"
)

var allPresets = flag.Bool("all", false, "measure every preset on every demo array")

// Every preset is measured on some of the demo arrays, each stage for a moment, and judged:
// nothing panics, and what is found has words and numbers. All of them on all take a minute:
// go test -run EveryPreset ./demo -all
func TestEveryPresetOnEverySetup(t *testing.T) {
	presets, err := planfile.Presets()
	if err != nil {
		t.Fatal(err)
	}
	measured := 0
	for n, name := range Setups {
		t.Run(name, func(t *testing.T) {
			path, err := WriteSetup(t.TempDir(), name)
			if err != nil {
				t.Fatal(err)
			}
			d, err := simulated.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			for m, p := range presets {
				if (n+m)%4 > 0 && !*allPresets {
					continue
				}
				steps, err := p.Plan.Steps()
				if err != nil {
					t.Fatal(err)
				}
				stage := -1
				for _, step := range steps {
					if step.Stage == stage || step.Preconditioning || step.Source {
						continue
					}
					stage = step.Stage
					spec := shortened(step.Load.Completed(), d.Size())
					v, err := simulated.New(d)
					if err != nil {
						t.Fatal(err)
					}
					if err := v.Ready(t.Context(), spec, nil); err != nil {
						t.Fatalf("%s, %s: %v", p.Key, step.Name, err)
					}
					used, err := v.Use(t.Context(), spec)
					if err != nil {
						t.Fatalf("%s, %s: %v", p.Key, step.Name, err)
					}
					var series []measure.Interval
					outcome, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: used, Watch: judge.Watch(spec), Observe: func(i measure.Interval) { series = append(series, i) }})
					if err != nil {
						t.Fatalf("%s, %s: %v", p.Key, step.Name, err)
					}
					outcome.Summary.Inside = judge.Inside(series)
					outcome.Summary.Steadiness = judge.Steadiness(series)
					for _, f := range judge.Findings(judge.Observed{Load: spec, Summary: outcome.Summary, Series: series, Setup: d.Setup()}) {
						if f.Kind == "" || f.Sentence == "" || f.Next == "" || f.Weight == "" || f.Figure == "" {
							t.Errorf("%s, %s: %+v", p.Key, step.Name, f)
						}
					}
					measured++
				}
			}
		})
	}
	if measured < len(Setups)*len(presets)/4 {
		t.Errorf("only %d were measured", measured)
	}
}

// shortened is a load that ends after a moment, on what there is.
func shortened(spec workload.Spec, size quantity.Bytes) workload.Spec {
	spec.WarmUp, spec.For, spec.Steady, spec.Margin, spec.Amount = 0, 0.5, false, 0, 0
	spec.Interval = 0.1
	if spec.Kind == workload.BlockKind || spec.Kind == "" {
		spec.Span = min(spec.Span, size)
	}
	for i := range spec.Together {
		spec.Together[i] = shortened(spec.Together[i], size)
	}
	return spec
}
