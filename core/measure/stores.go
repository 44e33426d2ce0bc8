package measure

import "patientheron/core/quantity"

// StoreFigures say what key-value stores did for their requests, and what that took of the
// storage.
type StoreFigures struct {
	Requests quantity.OpRate  `json:"requestRate" doc:"Puts, gets and scans a second"`
	Written  float64          `json:"writtenPerPut,omitempty" doc:"Bytes written to the storage for each byte that was put: log, tables and what was merged; absent without puts"`
	Read     float64          `json:"readPerRequest" doc:"Reads of the storage for each request, those of merging among them"`
	Waits    int64            `json:"waits" doc:"Puts that waited until memory was emptied, tables were merged, or the log was written"`
	Longest  quantity.Seconds `json:"longestWaitSeconds" doc:"The longest of them"`
	CPU      quantity.Seconds `json:"cpuPerRequestSeconds,omitempty" doc:"CPU time of the workers' threads for each request; absent where it was not recorded"`
}

// StoresOf adds up what the groups of a load of stores came to: puts, gets, scans, and puts
// that waited, in this order.
func (s *Summary) StoresOf() *StoreFigures {
	if len(s.Groups) < 4 {
		return nil
	}
	f := &StoreFigures{Waits: s.Groups[3].Operations, Longest: s.Groups[3].Latency.Max}
	requests := int64(0)
	for _, g := range s.Groups[:3] {
		f.Requests += g.Rate
		requests += g.Operations
	}
	if put := s.Groups[0].Bytes; put > 0 {
		f.Written = float64(s.Classes[Write].Bytes) / float64(put)
	}
	if requests > 0 {
		f.Read = float64(s.Classes[Read].Operations) / float64(requests)
		f.CPU = s.WorkerCPUPerOp * quantity.Seconds(float64(s.Total.Operations)/float64(requests))
	}
	return f
}
