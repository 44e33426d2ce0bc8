// Package stores is the kind of load that key-value stores issue: they are asked to put, get and
// scan entries, write a log and tables, and merge those (log-structured merge trees).
//
// Its type is Stores, the body.
package stores

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"patientheron/core/fileset"
	"patientheron/core/logstore"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Kind is the kind of load that key-value stores issue.
const Kind workload.Kind = "stores"

// Stores is the body of a load of key-value stores, side by side, each in a span of its own.
type Stores struct {
	Count          int            `json:"count" doc:"Stores, of all workers together" minimum:"1" maximum:"1024"`
	Requests       []RequestShare `json:"requests" doc:"Requests and their weights; one entry for a single kind" minItems:"1" maxItems:"3"`
	Value          fileset.Sizes  `json:"value" doc:"Sizes of the values of entries"`
	Key            quantity.Bytes `json:"keyBytes,omitempty" doc:"Size of the keys of entries; 0 means 24" minimum:"0" maximum:"4096"`
	Clients        int            `json:"clients,omitempty" doc:"Requests that each store has under way; 0 means 16" minimum:"0" maximum:"256"`
	Log            Logging        `json:"log,omitempty" doc:"When a put counts as safe; absent for group-commit" enum:"off,asynchronous,each-put,group-commit"`
	Memtable       quantity.Bytes `json:"memtableBytes,omitempty" doc:"Size at which a memtable is written out as a table; 0 means 16 MiB" minimum:"0"`
	LevelRatio     int            `json:"levelRatio,omitempty" doc:"Level size ratio: how many times as large each level is as the one above; 0 means 10" minimum:"0" maximum:"100"`
	CompactAt      int            `json:"compactAt,omitempty" doc:"Tables in level 0 that start a compaction; 0 means 4" minimum:"0" maximum:"64"`
	FalsePositives quantity.Share `json:"falsePositives,omitempty" doc:"False-positive rate of the Bloom filters: 0 means 1 %, and 1 is no filters" minimum:"0" maximum:"1"`
	Scan           int            `json:"scanKeys,omitempty" doc:"Keys that a scan goes through; 0 means 100" minimum:"0" maximum:"1000000"`
	Zone           quantity.Bytes `json:"zoneBytes,omitempty" doc:"Zone size of zoned media: each zone is written in order and reset as a whole; 0 for media without zones" minimum:"0"`
	Skew           float64        `json:"keySkew,omitempty" doc:"Zipf exponent of the keys; 0 for uniform" minimum:"0" maximum:"5"`
}

// Request is what is asked of a store.
type Request string

// The requests.
const (
	PutRequest  Request = "put"
	GetRequest  Request = "get"
	ScanRequest Request = "scan"
)

var requests = []Request{PutRequest, GetRequest, ScanRequest}

// RequestShare is one request of a mix and its weight in it.
type RequestShare struct {
	Request Request `json:"request" enum:"put,get,scan"`
	Weight  float64 `json:"weight" doc:"Weight of this request; the weights need not add up to anything" exclusiveMinimum:"0"`
}

// Logging is how a put is made safe before it is answered.
type Logging string

// The ways of logging.
const (
	LogOff          Logging = "off"          // there is no log
	LogAsynchronous Logging = "asynchronous" // pieces are written as they fill, and nobody waits for them
	LogEachPut      Logging = "each-put"     // each put is written and flushed by itself
	LogGroupCommit  Logging = "group-commit" // those that wait together are written and flushed together
)

var loggings = map[Logging]logstore.Log{LogOff: logstore.NoLog, LogAsynchronous: logstore.Asynchronous, LogEachPut: logstore.FlushEach, LogGroupCommit: logstore.FlushGroup}

// Groups of a load of stores: the requests, in their order, and write stalls.
const (
	PutsGroup   = "puts"
	GetsGroup   = "gets"
	ScansGroup  = "scans"
	StallsGroup = "write stalls"
)

var storeGroups = []string{PutsGroup, GetsGroup, ScansGroup, StallsGroup}

const (
	mostStores    = 1024
	mostKeys      = 50_000_000 // of all stores: each takes some bytes of this host's memory
	largestValue  = 64 * quantity.KiB
	entryOverhead = 8  // bytes of an entry beside key and value
	background    = 12 // operations of tables that a store has under way at most, about
	storePiece    = logstore.Piece
)

// completed is s with defaults in place of zeros.
func (s Stores) completed() Stores {
	set := func(place *int, value int) {
		if *place == 0 {
			*place = value
		}
	}
	set(&s.Clients, 16)
	set(&s.LevelRatio, 10)
	set(&s.CompactAt, 4)
	set(&s.Scan, 100)
	if s.Key == 0 {
		s.Key = 24
	}
	if s.Memtable == 0 && s.Zone > 0 { // a table to a zone, as nearly as can be
		s.Memtable = max(s.Zone-quantity.Bytes(int64(s.Clients+1)*s.largest()), quantity.MiB)
	}
	if s.Memtable == 0 {
		s.Memtable = 16 * quantity.MiB
	}
	if s.FalsePositives == 0 {
		s.FalsePositives = 0.01
	}
	if s.Log == "" {
		s.Log = LogGroupCommit
	}
	return s
}

// Asks reports whether a request is among those of the load.
func (s Stores) Asks(r Request) bool {
	return slices.ContainsFunc(s.Requests, func(share RequestShare) bool { return share.Request == r })
}

// Of is the body of a load of stores; nil for a load of another kind.
func Of(s workload.Spec) *Stores {
	f, _ := s.Body.(*Stores)
	return f
}

// Change makes s a load of stores, if it is none yet, and changes it; other loads that share its
// stores keep theirs.
func Change(s *workload.Spec, how func(*Stores)) {
	stores := Stores{Count: 1, Requests: []RequestShare{{PutRequest, 1}}, Value: fileset.Sizes{Fixed: 400}}
	if f := Of(*s); f != nil {
		stores = *f
		stores.Requests = slices.Clone(stores.Requests)
	}
	how(&stores)
	s.SetBody(&stores)
}

// Kind is that of stores.
func (s *Stores) Kind() workload.Kind { return Kind }

// Complete works out what the load comes to as blocks.
func (f *Stores) Complete(s *workload.Spec) {
	if f.Count <= 0 {
		return
	}
	stores := f.completed()
	s.Body = &stores
	each := (stores.Count + max(s.Workers, 1) - 1) / max(s.Workers, 1)
	// As blocks it is at best as easy as what is in order: no ceiling lies below it.
	s.Blocks, s.Order, s.Align, s.Streams = workload.Block(storePiece), workload.Sequential, logstore.Block, 1
	s.Depth = max(s.Depth, min(each*(stores.Clients+background), 4096))
	if s.Reads = 0.5; !stores.Asks(PutRequest) {
		s.Reads = 1
	}
}

// largest is the size of the largest entry.
func (s Stores) largest() int64 {
	return int64(s.Key) + entryOverhead + min(int64(s.Value.Sampler()(0.999999)), int64(largestValue))
}

// shape is that of one store in so much room.
func (s Stores) shape(room int64) logstore.Shape {
	sizes := s.Value.Sampler()
	least, most := int64(sizes(0)), int64(sizes(0.999999))
	fixed := int64(s.Key) + entryOverhead
	sh := logstore.Shape{
		Largest: s.largest(), Zone: int64(s.Zone), Memtable: int64(s.Memtable), LevelRatio: int64(s.LevelRatio), CompactAt: s.CompactAt,
		FalsePositives: float64(s.FalsePositives), Log: loggings[s.Log], Clients: s.Clients, ScanKeys: int64(s.Scan), Room: room,
	}
	if least == most {
		size := fixed + least
		sh.Size, sh.Mean = func(uint32) int64 { return size }, float64(size)
	} else {
		sh.Size = func(key uint32) int64 {
			share := float64(workload.Mixed(uint64(key)*workload.Golden)>>11) / (1 << 53)
			return fixed + min(int64(sizes(share)), int64(largestValue))
		}
		const parts = 1000 // of all entries, by size: the middle of each
		for i := range parts {
			sh.Mean += (float64(fixed) + min(float64(sizes((float64(i)+0.5)/parts)), float64(largestValue))) / parts
		}
	}
	// As many keys as the room takes; one more than are kept in mind where it takes more than those.
	sh.Keys = int64(sort.Search(mostKeys+1, func(keys int) bool {
		sh.Keys = int64(keys + 1)
		return sh.Needs() > room
	}))
	return sh
}

// Keeps is the memory that the keys of all levels take, and where entries differ in size
// where they begin.
func (f *Stores) Keeps(s workload.Spec) quantity.Bytes {
	if s.Span == 0 {
		return 0
	}
	f = new(f.completed())
	each := 5.0 // four bytes in the last level, and a share of that in those above
	if f.Value.Fixed == 0 {
		each *= 2
	}
	return quantity.Bytes(each * float64(f.shape(f.room(s.Span)).Keys) * float64(f.Count))
}

// room is that of each store in a span.
func (f *Stores) room(span quantity.Bytes) int64 {
	if f.Count < 1 {
		return 0
	}
	return workload.AlignDown(int64(span)/int64(f.Count), max(int64(f.Zone), logstore.Block))
}

// Classes are those that the requests lead to.
func (f *Stores) Classes(workload.Spec) []measure.Class {
	if f.Asks(PutRequest) && f.Zone > 0 {
		return []measure.Class{measure.Read, measure.Write, measure.Flush, measure.Trim}
	}
	if f.Asks(PutRequest) {
		return []measure.Class{measure.Read, measure.Write, measure.Flush}
	}
	return []measure.Class{measure.Read}
}

// Groups name the requests, and what puts waited for.
func (f *Stores) Groups(workload.Spec) []string { return storeGroups }

// Traits are those of a load whose requests are counted rather than their operations.
func (f *Stores) Traits(workload.Spec) workload.Traits {
	return workload.Traits{OwnSizes: true, OwnDepth: true, Main: "requests", Done: "requests"}
}

// Alone says which stores cannot be one of several loads.
func (f *Stores) Alone(workload.Spec) string {
	if f.Zone > 0 {
		return "has zones, which belong to one load alone"
	}
	return ""
}

// Summarize adds up what requests took of the storage.
func (f *Stores) Summarize(_ workload.Spec, sum *measure.Summary) { sum.Stores = sum.StoresOf() }

// InWords says how many requests of each kind there were.
func (f *Stores) InWords(_ workload.Spec, i measure.Interval) (words []string) {
	for n, g := range i.Groups[:min(len(i.Groups), 3)] {
		if g.Operations > 0 {
			words = append(words, fmt.Sprintf("%s %s", storeGroups[n], quantity.RequestRate(g.Rate)))
		}
	}
	return words
}

// Source prepares the stores of one worker.
func (f *Stores) Source(s workload.Spec, worker int) (workload.Source, error) {
	return newStoring(s, worker)
}

// Validate reports what cannot be of a load of stores.
func (f *Stores) Validate(s workload.Spec) error {
	if f.Count < 1 || f.Count > mostStores {
		return workload.Invalid("stores", "it does not say how many; from 1 to %d", mostStores)
	}
	f = new(f.completed())
	if f.Count < s.Workers {
		return workload.Invalid("workers", "%d for %d stores; each worker has stores of its own", s.Workers, f.Count)
	}
	if err := validateRequests(f.Requests); err != nil {
		return err
	}
	if err := f.Value.Validate(); err != nil {
		return workload.Invalid("value", "%v", err)
	}
	switch most := f.Value.At(0.999999); {
	case most < 1 || f.Value.At(0) > largestValue || f.Value.Fixed > largestValue:
		return workload.Invalid("value", "values of %s; from 1 byte to %s", most, largestValue)
	case f.Key < 1 || f.Key > 4096:
		return workload.Invalid("key", "%s; from 1 byte to 4 KiB", f.Key)
	case f.Clients < 1 || f.Clients > 256:
		return workload.Invalid("clients", "%d; from 1 to 256", f.Clients)
	case f.Memtable < quantity.MiB || f.Memtable > quantity.GiB:
		return workload.Invalid("memtable", "%s; from 1 MiB to 1 GiB", f.Memtable)
	case f.LevelRatio < 2 || f.LevelRatio > 100:
		return workload.Invalid("levelRatio", "%d; from 2 to 100", f.LevelRatio)
	case f.CompactAt < 1 || f.CompactAt > 64:
		return workload.Invalid("compactAt", "%d; from 1 to 64", f.CompactAt)
	case !(f.FalsePositives > 0 && f.FalsePositives <= 1):
		return workload.Invalid("falsePositives", "%g; a share up to 100%%, which is no filters", float64(f.FalsePositives))
	case f.Scan < 1 || f.Scan > 1_000_000:
		return workload.Invalid("scan", "%d keys; from 1 to 1,000,000", f.Scan)
	case !(f.Skew >= 0 && f.Skew <= 5):
		return workload.Invalid("keySkew", "%g; from 0 to 5", f.Skew)
	case s.Open() || s.Think > 0 || s.Trims > 0 || s.ByStorage() > 0 || s.SyncEvery > 0 || s.Stride > 0 || s.Pattern.Skew > 0 || s.HotSpan > 0:
		return workload.Invalid("stores", "requests follow each other as they are answered; leave rate, think, trims, zeroes, copies, swaps, syncEvery, stride, skew and hot out")
	case s.Amount > 0:
		return workload.Invalid("amount", "stores are asked for a time; leave amount out")
	}
	if f.Zone < 0 || f.Zone > 0 && (f.Zone < quantity.MiB || f.Zone > 4*quantity.GiB || f.Zone%logstore.Block != 0 || s.Offset%f.Zone != 0) {
		return workload.Invalid("zone", "%s; from 1 MiB to 4 GiB, as the media has them, and an offset of whole zones", f.Zone)
	}
	if _, known := loggings[f.Log]; !known {
		return workload.Invalid("log", "%q; off, asynchronous, each-put or group-commit", f.Log)
	}
	if s.Span == 0 { // which the volume says
		return nil
	}
	shape := f.shape(f.room(s.Span))
	least := shape
	least.Keys = 1000
	switch {
	case shape.Keys < 1000:
		return workload.Invalid("span", "%s leave each of %d stores %s, and one with tables of %s takes at least %s; use a larger span, or less memory", s.Span, f.Count, quantity.Bytes(f.room(s.Span)), f.Memtable, quantity.Bytes(least.Needs()))
	case shape.Keys*int64(f.Count) > mostKeys:
		return workload.Invalid("value", "%d entries of %s fill the span, more than the %d that are kept in mind; use larger values, or a smaller span", shape.Keys*int64(f.Count), quantity.Bytes(shape.Mean), mostKeys)
	}
	return nil
}

func validateRequests(shares []RequestShare) error {
	if len(shares) == 0 || len(shares) > len(requests) {
		return workload.Invalid("requests", "%d requests; from 1 to 3 of put, get and scan", len(shares))
	}
	seen := map[Request]bool{}
	for _, r := range shares {
		switch {
		case !slices.Contains(requests, r.Request):
			return workload.Invalid("requests", "%q; put, get or scan", r.Request)
		case seen[r.Request]:
			return workload.Invalid("requests", "%s is there twice", r.Request)
		case !(r.Weight > 0) || r.Weight > 1e9:
			return workload.Invalid("requests", "weight %g of %s; a weight is above 0 and at most 1e9", r.Weight, r.Request)
		}
		seen[r.Request] = true
	}
	return nil
}

// parseRequests reads a request or a weighted mix such as "get:8,put:2".
func parseRequests(text string) (shares []RequestShare, err error) {
	for part := range strings.SplitSeq(text, ",") {
		name, weight, weighted := strings.Cut(part, ":")
		share := RequestShare{Request: Request(strings.TrimSpace(name)), Weight: 1}
		if weighted {
			if share.Weight, err = quantity.ParseNumber(weight); err != nil {
				return nil, fmt.Errorf("weight of %s: %w", share.Request, err)
			}
		}
		shares = append(shares, share)
	}
	return shares, validateRequests(shares)
}

func formatRequests(shares []RequestShare) string {
	parts := make([]string, len(shares))
	for i, r := range shares {
		if parts[i] = string(r.Request); len(shares) > 1 {
			parts[i] += ":" + strconv.FormatFloat(r.Weight, 'f', -1, 64)
		}
	}
	return strings.Join(parts, ",")
}

// parseValue reads sizes of values: "400B" for all alike, "100B..2KiB" for any between, or
// "400B*2" for two thirds between the half and the double of that.
func parseValue(text string) (sizes fileset.Sizes, err error) {
	if low, high, isRange := strings.Cut(text, ".."); isRange {
		if sizes.From, err = quantity.ParseBytes(low); err == nil {
			sizes.To, err = quantity.ParseBytes(high)
		}
		return sizes, err
	}
	if median, spread, isSpread := strings.Cut(text, "*"); isSpread {
		if sizes.Median, err = quantity.ParseBytes(median); err == nil {
			sizes.Spread, err = quantity.ParseNumber(spread)
		}
		sizes.Most = largestValue
		return sizes, err
	}
	sizes.Fixed, err = quantity.ParseBytes(text)
	return sizes, err
}

// formatValue writes sizes the way parseValue reads them.
func formatValue(s fileset.Sizes) string {
	text := func(b quantity.Bytes) string {
		written, _ := b.MarshalYAML() // cannot fail
		return string(written)
	}
	switch {
	case s.To > 0:
		return text(s.From) + ".." + text(s.To)
	case s.Median > 0:
		return text(s.Median) + "*" + strconv.FormatFloat(s.Spread, 'f', -1, 64)
	}
	return text(s.Fixed)
}

func (s Stores) valueInWords() string {
	if s.Value.Fixed > 0 {
		return s.Value.Fixed.String()
	}
	return formatValue(s.Value)
}

// Describe says in a few words what a load of stores does.
func (f *Stores) Describe(s workload.Spec) string {
	f = new(f.completed())
	text := "1 store"
	if f.Count > 1 {
		text = fmt.Sprintf("%d stores", f.Count)
	}
	text += fmt.Sprintf(", %s, values of %s, %d clients", formatRequests(f.Requests), f.valueInWords(), f.Clients)
	if f.Asks(PutRequest) {
		text += ", log " + string(f.Log)
	}
	if f.Zone > 0 {
		text += ", zones of " + f.Zone.String()
	}
	if f.Skew > 0 {
		text += fmt.Sprintf(", keys skewed by %g", f.Skew)
	}
	if s.Workers > 1 {
		text += fmt.Sprintf(", %d workers", s.Workers)
	}
	if s.Span > 0 {
		text += ", span " + s.Span.String()
	}
	if s.Cached {
		text += ", cached"
	}
	return text
}
