package judge

import (
	"fmt"

	"patientheron/core/quantity"
)

// ofSource is the throughput at which files were put as a share of what the folder that
// they come from gives by itself; 0 where they come from none.
func (o Observed) ofSource() float64 {
	if o.Source == nil || o.Source.Total.Throughput <= 0 {
		return 0
	}
	return float64(o.Summary.Total.Throughput / o.Source.Total.Throughput)
}

// sourceLimits says whether the folder that files are put from was the limit: what is put
// within a tenth of what it gives by itself says little of the volume, but that it can take
// as much.
func sourceLimits(o Observed) []Finding {
	share := o.ofSource()
	if share == 0 {
		return nil
	}
	from, alone := o.Load.FromFolder(), o.Source.Total.Throughput
	evidence := []Evidence{{"bytes a second that the source gives by itself", float64(alone)}, {"share of that which was put", share}}
	if share >= 1-near {
		return []Finding{{
			Kind: "limited-by-source", Weight: Caution, Figure: "all",
			Sentence: fmt.Sprintf("The limit is %s, where the files come from: it gives %s by itself, and %s were put. The volume takes at least that.", from, alone, o.Summary.Total.Throughput),
			Next:     "To see what the volume can take, put from faster storage, or describe the folder (heron files describe) and let the files be made.",
			Evidence: evidence,
		}}
	}
	return []Finding{{
		Kind: "source-is-faster", Weight: Info, Figure: "all",
		Sentence: fmt.Sprintf("%s, where the files come from, gives %s by itself, %s times what was put: it is not the limit by itself.", from, alone, quantity.Digits(1/share)),
		Next:     "Each piece is read before it is written: more files at a time (depth, workers) hide the reading.",
		Evidence: evidence,
	}}
}
