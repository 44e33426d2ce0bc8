package runner

import (
	"context"
	"fmt"

	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/patient"
	"patientheron/storage"
)

// listSources lists the folders that files of some steps come from, and gives the steps
// with what is in them.
func listSources(ctx context.Context, steps []plan.Step) ([]plan.Step, error) {
	listed := map[string]*fileset.Listed{}
	for i := range steps {
		step := &steps[i]
		from := files.FromFolder(step.Load)
		if from == "" {
			continue
		}
		if listed[from] == nil {
			found, err := patient.Own(ctx, patience, func() (*fileset.Listed, error) { return storage.ListSource(ctx, from) }, func(*fileset.Listed, error) {})
			if err != nil {
				return nil, err
			}
			listed[from] = found
		}
		if files.UseListed(&step.Load, listed[from]); !step.Source {
			if err := step.Load.Validate(); err != nil {
				return nil, fmt.Errorf("the files of %s: %w", from, err)
			}
		}
	}
	return steps, nil
}

// use opens what a load is measured on: the volume, or the folder alone that files come
// from.
func (e *execution) use(ctx context.Context, used *opened, spec workload.Spec) (load.Volume, error) {
	if files.ReadsSource(spec) {
		return storage.OpenSource(spec)
	}
	return used.Use(ctx, spec)
}

// sources are what the folders gave by themselves from which files are put, by the load
// that puts them.
type sources map[string]*measure.Summary

// key tells the loads apart that put files from one folder in different ways.
func (sources) key(spec workload.Spec) string {
	spec = spec.OfSource()
	return files.FromFolder(spec) + " " + spec.Describe()
}

// keep remembers what a folder gave by itself.
func (s sources) keep(spec workload.Spec, summary *measure.Summary) {
	if files.ReadsSource(spec) && summary != nil {
		s[s.key(spec)] = summary
	}
}

// of is what the folder gave by itself that a load puts files from; nil when that is not
// known, or it makes its files.
func (s sources) of(spec workload.Spec) *measure.Summary {
	if files.FromFolder(spec) == "" || files.ReadsSource(spec) {
		return nil
	}
	return s[s.key(spec)]
}
