package stores

import (
	"strconv"

	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func init() {
	workload.Register(Kind, workload.Registration{
		New: func() workload.Body { return &Stores{} }, Heading: "Key-value stores", Fields: fields,
		Takes: []string{"span", "offset", "compressible", "duplicate"},
		Words: "Key-value stores. Block size and order are derived from these",
	})
}

var fields = []workload.Field{
	workload.OwnField("stores", "stores", "number of key-value stores (log-structured merge trees) that put, get and scan entries", strconv.Atoi, func(s *Stores) *int { return &s.Count }, Change, Of),
	workload.NewField("requests", "requests", "requests to a store: put, get or scan, or a mix such as get:8,put:2", setRequests, func(s *workload.Spec) string {
		return read(s, func(f *Stores) string { return formatRequests(f.Requests) })
	}),
	workload.NewField("value", "value", "sizes of values: 400B, any between 100B..2KiB, or 400B*2 for two thirds within half and double of that", setValue, func(s *workload.Spec) string { return read(s, func(f *Stores) string { return formatValue(f.Value) }) }),
	workload.OwnField("key", "key", "size of keys (default: 24B)", quantity.ParseBytes, func(s *Stores) *quantity.Bytes { return &s.Key }, Change, Of),
	workload.OwnField("keySkew", "key-skew", "Zipf exponent of the keys, such as 0.99 (default: uniform)", quantity.ParseNumber, func(s *Stores) *float64 { return &s.Skew }, Change, Of),
	workload.OwnField("clients", "clients", "requests in flight at each store (default: 16)", strconv.Atoi, func(s *Stores) *int { return &s.Clients }, Change, Of),
	workload.OwnField("log", "log", "off, asynchronous (written in pieces, nobody waits), each-put (flushed) or group-commit (flushed together): when a put counts as safe (default: group-commit)", workload.OneOf(LogOff, LogAsynchronous, LogEachPut, LogGroupCommit), func(s *Stores) *Logging { return &s.Log }, Change, Of),
	workload.OwnField("memtable", "memtable", "size at which a memtable is written out as a table (default: 16MiB)", quantity.ParseBytes, func(s *Stores) *quantity.Bytes { return &s.Memtable }, Change, Of),
	workload.OwnField("levelRatio", "level-ratio", "level size ratio: how many times as large each level is as the one above (default: 10)", strconv.Atoi, func(s *Stores) *int { return &s.LevelRatio }, Change, Of),
	workload.OwnField("compactAt", "compact-at", "tables in level 0 that start a compaction (default: 4)", strconv.Atoi, func(s *Stores) *int { return &s.CompactAt }, Change, Of),
	workload.OwnField("falsePositives", "false-positives", "false-positive rate of the Bloom filters; 100% for no filters (default: 1%)", quantity.ParseShare, func(s *Stores) *quantity.Share { return &s.FalsePositives }, Change, Of),
	workload.OwnField("zone", "zone", "zone size of zoned media: each zone is written in order and reset as a whole (default: no zones)", quantity.ParseBytes, func(s *Stores) *quantity.Bytes { return &s.Zone }, Change, Of),
	workload.OwnField("scan", "scan", "keys of a scan (default: 100)", strconv.Atoi, func(s *Stores) *int { return &s.Scan }, Change, Of),
}

// read reads something of the body of a load of stores; "" of another.
func read(s *workload.Spec, what func(*Stores) string) string {
	if f := Of(*s); f != nil {
		return what(f)
	}
	return ""
}

func setRequests(s *workload.Spec, text string) error {
	shares, err := parseRequests(text)
	if err == nil {
		Change(s, func(f *Stores) { f.Requests = shares })
	}
	return err
}

func setValue(s *workload.Spec, text string) error {
	sizes, err := parseValue(text)
	if err == nil {
		Change(s, func(f *Stores) { f.Value = sizes })
	}
	return err
}
