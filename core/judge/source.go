package judge

import (
	"patientheron/core/claim"
	"patientheron/core/quantity"
)

var (
	bySource = says("limited-by-source", Caution, func(t []claim.Term) bool { return t[2].Value >= (1-near)*t[1].Value },
		"The bottleneck is the source of the files, %s: alone it reads %s, and %s were written. The volume can take at least that.")
	sourceFaster = says("source-is-faster", Info, func(t []claim.Term) bool { return t[2].Value > 1/(1-near) },
		"The source of the files, %s, alone reads %s, %s × the rate of the copy: it is not the bottleneck by itself.")
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
	from, alone := o.Load.Traits().Source, o.Source.Total.Throughput
	where := named("where the files come from", from)
	gives := number("bytes a second that the source gives by itself", alone)
	ofIt := unsaid("share of that which was put", share)
	if share >= 1-near {
		return bySource.of(everything, "To find the limit of the volume, copy from faster storage, or describe the folder (heron files describe) and let the files be generated.",
			where, gives, number("bytes a second that were put", o.Summary.Total.Throughput), ofIt)
	}
	return sourceFaster.of(everything, "Each piece is read before it is written: more files at a time (depth, workers) hide the reads.",
		where, gives, Evidence{"times what was put", 1 / share, quantity.Digits(1 / share)}, ofIt)
}
