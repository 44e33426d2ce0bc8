package workload

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/quantity"
)

// Field is one settable part of a workload, under the name that plan files,
// sweeps and the command line share.
type Field struct {
	Name  string // as in a plan file, "warmUp"
	Flag  string // as on the command line, "warm-up"
	Usage string
	Bool  bool // on the command line it takes no value
	place
	of kindOfField
}

// kindOfField says which loads have a field.
type kindOfField int

const (
	ofAll    kindOfField = 0
	ofBlocks kindOfField = 1 << (iota - 1)
	ofFiles
	ofFeeds
	ofStores
)

// Of reports whether loads of a kind have the field.
func (f Field) Of(kind Kind) bool {
	if kind == TogetherKind { // whose parts say the rest
		return f.of == ofAll && f.Name != "depth" && f.Name != "workers"
	}
	of := map[Kind]kindOfField{FilesKind: ofFiles, FeedsKind: ofFeeds, StoresKind: ofStores}[kind]
	if of == ofAll {
		of = ofBlocks
	}
	return f.of == ofAll || f.of&of != 0
}

// groups are the headings that fields are listed under, in the order of help, where that does
// not follow from the kind of load that has them.
var groups = []struct {
	heading string
	fields  []string
}{
	{"Region and data", []string{"span", "offset", "compressible", "duplicate", "cached"}},
	{"Concurrency and rate", []string{"depth", "workers", "think", "rate", "byteRate", "arrivals"}},
	{"Duration", []string{"for", "amount", "warmUp", "steady", "margin", "interval", "onError", "seed"}},
}

// Group is the heading that help lists the field under.
func (f Field) Group() string {
	for _, g := range groups {
		if slices.Contains(g.fields, f.Name) {
			return g.heading
		}
	}
	switch f.of {
	case ofFiles:
		return "Files"
	case ofFeeds:
		return "Streams with deadlines"
	case ofStores:
		return "Key-value stores"
	}
	return "Block pattern"
}

// place is where a field's value is kept, and how it is written as text.
type place struct {
	set func(*Spec, string) error
	get func(*Spec) string
}

// Set parses text and puts it into spec. The error names the field.
func (f Field) Set(spec *Spec, text string) error {
	if spec.Kind == TogetherKind && !f.Of(TogetherKind) {
		return invalid(f.Name, "of several loads at once each has its own; say it there")
	}
	if err := f.set(spec, text); err != nil {
		return invalid(f.Name, "%v", err)
	}
	return nil
}

// Get writes the field's value so that Set reads it back; "" when it has
// none.
func (f Field) Get(spec Spec) string { return f.get(&spec) }

// Fields lists every field in the order in which help shows them.
func Fields() []Field { return fields }

// Lookup finds a field by its name or its flag.
func Lookup(name string) (Field, error) {
	i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == name || f.Flag == name })
	if i < 0 {
		names := make([]string, len(fields))
		for i, f := range fields {
			names[i] = f.Name
		}
		return Field{}, fmt.Errorf("%w: there is no field %q; there are %s", ErrInvalid, name, strings.Join(names, ", "))
	}
	return fields[i], nil
}

var fields = []Field{
	{Name: "block", of: ofBlocks, Flag: "block", Usage: "block size, or a mix such as 4KiB:3,64KiB:1 (size:weight)", place: place{setBlocks, func(s *Spec) string { return FormatBlocks(s.Blocks) }}},
	{Name: "reads", of: ofBlocks | ofFeeds, Flag: "reads", Usage: "share of operations that read, such as 70%", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Reads })},
	{Name: "trims", of: ofBlocks, Flag: "trims", Usage: "share of operations that deallocate their range (UNMAP, TRIM, punching a hole), such as 5%", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Trims })},
	{Name: "zeroes", of: ofBlocks, Flag: "zeroes", Usage: "share of operations that let the storage write zeros (WRITE SAME, zeroing a range), such as 5%", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Zeroes })},
	{Name: "copies", of: ofBlocks, Flag: "copies", Usage: "share of operations that let the storage copy a range within the span (EXTENDED COPY)", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Copies })},
	{Name: "swaps", of: ofBlocks, Flag: "swaps", Usage: "share of operations that compare and write in one step (COMPARE AND WRITE), as hosts do that lock on shared storage", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Swaps })},
	{Name: "order", of: ofBlocks, Flag: "order", Usage: "random, skewed, sequential, strided or descending", place: at(text[Order], func(s *Spec) *Order { return &s.Order })},
	{Name: "skew", of: ofBlocks, Flag: "skew", Usage: "Zipf exponent of a skewed order, such as 0.99", place: at(quantity.ParseNumber, func(s *Spec) *float64 { return &s.Skew })},
	{Name: "hot", of: ofBlocks, Flag: "hot", Usage: "hot region of a skewed order: 80%/20% sends 80% of accesses to 20% of the span", place: place{setHot, getHot}},
	{Name: "streams", of: ofBlocks, Flag: "streams", Usage: "sequential streams of each worker", place: at(strconv.Atoi, func(s *Spec) *int { return &s.Streams })},
	{Name: "stride", of: ofBlocks, Flag: "stride", Usage: "distance between operation starts of a strided order", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Stride })},
	{Name: "depth", Flag: "depth", Usage: "queue depth: operations that each worker keeps in flight", place: at(strconv.Atoi, func(s *Spec) *int { return &s.Depth })},
	{Name: "workers", Flag: "workers", Usage: "workers, each with its own thread and queue", place: at(strconv.Atoi, func(s *Spec) *int { return &s.Workers })},
	{Name: "span", of: ofBlocks | ofFeeds | ofStores, Flag: "span", Usage: "size of the region that is read or written (the working set); 0 for all of a device", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Span })},
	{Name: "offset", of: ofBlocks | ofFeeds | ofStores, Flag: "offset", Usage: "where that region starts", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Offset })},
	{Name: "align", of: ofBlocks, Flag: "align", Usage: "offsets are multiples of this (default: of the block size)", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Align })},
	{Name: "compressible", of: ofBlocks | ofFeeds | ofStores, Flag: "compressible", Usage: "share of written data a compressor can remove, at any block size", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Compressible })},
	{Name: "duplicate", of: ofBlocks | ofFeeds | ofStores, Flag: "duplicate", Usage: "share of written 4 KiB pages that repeat a common page", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Duplicate })},
	{Name: "files", of: ofFiles, Flag: "files", Usage: "work on files: so many of a size, such as '1000 x 64KiB + 3 x 1GiB', or a file set (docs/files.md): its path on the command line, its text elsewhere", place: place{setFiles, func(s *Spec) string { return ofFilesOf(s, func(f *Files) string { return FormatFileSet(f.Set) }) }}},
	{Name: "task", of: ofFiles, Flag: "task", Usage: "task on each file: put, fetch, save, ask, browse or remove, or a mix such as fetch:3,save:1", place: place{setTasks, func(s *Spec) string { return ofFilesOf(s, func(f *Files) string { return FormatTasks(f.Tasks) }) }}},
	{Name: "from", of: ofFiles, Flag: "from", Usage: "put the files of this folder of the service's host, read from there as they are written; how fast it can be read is measured first", place: inFiles(folder, func(f *Files) *string { return &f.From })},
	{Name: "passes", of: ofFiles, Flag: "passes", Usage: "passes over all files, instead of or besides a time", place: at(strconv.Atoi, func(s *Spec) *int { return &s.Passes })},
	{Name: "atOnce", of: ofFiles, Flag: "at-once", Usage: "files that each worker has in progress (default: its depth)", place: inFiles(strconv.Atoi, func(f *Files) *int { return &f.AtOnce })},
	{Name: "piece", of: ofFiles, Flag: "piece", Usage: "bytes of a file read or written at a time (default: 1MiB)", place: inFiles(quantity.ParseBytes, func(f *Files) *quantity.Bytes { return &f.Piece })},
	{Name: "visit", of: ofFiles, Flag: "visit", Usage: "order of the files: listed, shuffled or by-class", place: inFiles(oneOf(Listed, Shuffled, ByClass), func(f *Files) *Visit { return &f.Visit })},
	{Name: "flush", of: ofFiles, Flag: "flush", Usage: "when written data are flushed to stable storage: never, each (file) or end (of a pass)", place: inFiles(oneOf(FlushNever, FlushEach, FlushEnd), func(f *Files) *Flushing { return &f.Flush })},
	{Name: "treeSeed", of: ofFiles, Flag: "tree-seed", Usage: "seed of the random file sizes", place: inFiles(unsigned, func(f *Files) *uint64 { return &f.TreeSeed })},
	{Name: "feeds", of: ofFeeds, Flag: "feeds", Usage: "number of streams with deadlines: each has to keep a rate of its own", place: inFeeds(strconv.Atoi, func(f *Feeds) *int { return &f.Count })},
	{Name: "feedRate", of: ofFeeds, Flag: "feed-rate", Usage: "rate of each feed, such as 25MB/s", place: inFeeds(quantity.ParseByteRate, func(f *Feeds) *quantity.ByteRate { return &f.Rate })},
	{Name: "frames", of: ofFeeds, Flag: "frames", Usage: "frames of each feed instead of a rate: raster, bits of a pixel and frames a second, such as hd1080/20@25, or 8MiB@24", place: place{setFrames, func(s *Spec) string { return formatFrames(s.Feeds) }}},
	{Name: "feedPiece", of: ofFeeds, Flag: "feed-piece", Usage: "bytes of a feed read or written at a time (default: 1MiB, or a frame)", place: inFeeds(quantity.ParseBytes, func(f *Feeds) *quantity.Bytes { return &f.Piece })},
	{Name: "buffer", of: ofFeeds, Flag: "buffer", Usage: "deadline of a piece, from the moment it is requested (default: 1s)", place: inFeeds(quantity.ParseSeconds, func(f *Feeds) *quantity.Seconds { return &f.Buffer })},
	{Name: "stores", of: ofStores, Flag: "stores", Usage: "number of key-value stores (log-structured merge trees) that put, get and scan entries", place: inStores(strconv.Atoi, func(s *Stores) *int { return &s.Count })},
	{Name: "requests", of: ofStores, Flag: "requests", Usage: "requests to a store: put, get or scan, or a mix such as get:8,put:2", place: place{setRequests, func(s *Spec) string {
		return ofStoresOf(s, func(f *Stores) string { return formatRequests(f.Requests) })
	}}},
	{Name: "value", of: ofStores, Flag: "value", Usage: "sizes of values: 400B, any between 100B..2KiB, or 400B*2 for two thirds within half and double of that", place: place{setValue, func(s *Spec) string { return ofStoresOf(s, func(f *Stores) string { return formatValue(f.Value) }) }}},
	{Name: "key", of: ofStores, Flag: "key", Usage: "size of keys (default: 24B)", place: inStores(quantity.ParseBytes, func(s *Stores) *quantity.Bytes { return &s.Key })},
	{Name: "keySkew", of: ofStores, Flag: "key-skew", Usage: "Zipf exponent of the keys, such as 0.99 (default: uniform)", place: inStores(quantity.ParseNumber, func(s *Stores) *float64 { return &s.Skew })},
	{Name: "clients", of: ofStores, Flag: "clients", Usage: "requests in flight at each store (default: 16)", place: inStores(strconv.Atoi, func(s *Stores) *int { return &s.Clients })},
	{Name: "log", of: ofStores, Flag: "log", Usage: "off, asynchronous (written in pieces, nobody waits), each-put (flushed) or group-commit (flushed together): when a put counts as safe (default: group-commit)", place: inStores(oneOf(LogOff, LogAsynchronous, LogEachPut, LogGroupCommit), func(s *Stores) *Logging { return &s.Log })},
	{Name: "memtable", of: ofStores, Flag: "memtable", Usage: "size at which a memtable is written out as a table (default: 16MiB)", place: inStores(quantity.ParseBytes, func(s *Stores) *quantity.Bytes { return &s.Memtable })},
	{Name: "levelRatio", of: ofStores, Flag: "level-ratio", Usage: "level size ratio: how many times as large each level is as the one above (default: 10)", place: inStores(strconv.Atoi, func(s *Stores) *int { return &s.LevelRatio })},
	{Name: "compactAt", of: ofStores, Flag: "compact-at", Usage: "tables in level 0 that start a compaction (default: 4)", place: inStores(strconv.Atoi, func(s *Stores) *int { return &s.CompactAt })},
	{Name: "falsePositives", of: ofStores, Flag: "false-positives", Usage: "false-positive rate of the Bloom filters; 100% for no filters (default: 1%)", place: inStores(quantity.ParseShare, func(s *Stores) *quantity.Share { return &s.FalsePositives })},
	{Name: "zone", of: ofStores, Flag: "zone", Usage: "zone size of zoned media: each zone is written in order and reset as a whole (default: no zones)", place: inStores(quantity.ParseBytes, func(s *Stores) *quantity.Bytes { return &s.Zone })},
	{Name: "scan", of: ofStores, Flag: "scan", Usage: "keys of a scan (default: 100)", place: inStores(strconv.Atoi, func(s *Stores) *int { return &s.Scan })},
	{Name: "think", of: ofBlocks, Flag: "think", Usage: "think time between a completion and the next operation of its slot", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.Think })},
	{Name: "rate", of: ofBlocks, Flag: "rate", Usage: "operations per second, all workers together; latency then counts from the intended start", place: at(quantity.ParseOpRate, func(s *Spec) *quantity.OpRate { return &s.Rate })},
	{Name: "byteRate", of: ofBlocks, Flag: "byte-rate", Usage: "the same as throughput, such as 250MB/s", place: at(quantity.ParseByteRate, func(s *Spec) *quantity.ByteRate { return &s.ByteRate })},
	{Name: "arrivals", of: ofBlocks, Flag: "arrivals", Usage: "constant or poisson, at a set rate", place: at(text[Arrivals], func(s *Spec) *Arrivals { return &s.Arrivals })},
	{Name: "syncEvery", of: ofBlocks, Flag: "sync-every", Usage: "flush to stable storage after this many writes of a worker", place: at(strconv.Atoi, func(s *Spec) *int { return &s.SyncEvery })},
	{Name: "cached", Flag: "cached", Bool: true, Usage: "go through the host's page cache instead of around it", place: at(strconv.ParseBool, func(s *Spec) *bool { return &s.Cached })},
	{Name: "for", Flag: "for", Usage: "how long to measure after the warm-up", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.For })},
	{Name: "amount", Flag: "amount", Usage: "bytes to move, instead of or besides a time", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Amount })},
	{Name: "warmUp", Flag: "warm-up", Usage: "time at the start that is left out of the summary", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.WarmUp })},
	{Name: "steady", Flag: "steady", Bool: true, Usage: "measure until steady state, at most for the time given; what came before is left out of the summary", place: at(strconv.ParseBool, func(s *Spec) *bool { return &s.Steady })},
	{Name: "margin", Flag: "margin", Usage: "measure until the mean rate has this margin of error (95 %), such as 2%, at most for the time given", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Margin })},
	{Name: "interval", Flag: "interval", Usage: "length of an interval of the time series, 100ms to 10s (default: a fiftieth of the time, up to 1s)", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.Interval })},
	{Name: "onError", Flag: "on-error", Usage: "end or continue when an operation fails", place: at(text[OnError], func(s *Spec) *OnError { return &s.OnError })},
	{Name: "seed", Flag: "seed", Usage: "the same seed issues the same operations", place: at(unsigned, func(s *Spec) *uint64 { return &s.Seed })},
}

// at joins a parser with the place its value goes.
func at[T any](parse func(string) (T, error), where func(*Spec) *T) place {
	return place{
		set: func(s *Spec, text string) error {
			value, err := parse(text)
			if err != nil {
				return plainer(err, text)
			}
			*where(s) = value
			return nil
		},
		get: func(s *Spec) string {
			value := *where(s)
			if m, ok := any(value).(interface{ MarshalYAML() ([]byte, error) }); ok {
				text, _ := m.MarshalYAML() // of a number, it cannot fail
				return string(text)
			}
			return fmt.Sprint(value)
		},
	}
}

// inFiles joins a parser with a place in the body of a load of files.
func inFiles[T comparable](parse func(string) (T, error), where func(*Files) *T) place {
	return inBody(parse, where, (*Spec).changeFiles, func(s *Spec) *Files { return s.Files })
}

// inFeeds joins a parser with a place in the body of a load of feeds.
func inFeeds[T comparable](parse func(string) (T, error), where func(*Feeds) *T) place {
	return inBody(parse, where, (*Spec).changeFeeds, func(s *Spec) *Feeds { return s.Feeds })
}

// inStores joins a parser with a place in the body of a load of stores.
func inStores[T comparable](parse func(string) (T, error), where func(*Stores) *T) place {
	return inBody(parse, where, (*Spec).changeStores, func(s *Spec) *Stores { return s.Stores })
}

// inBody joins a parser with a place in the body of a kind of load, which change makes and
// of reads; nil where the load is of another kind. Its default is not shown.
func inBody[B any, T comparable](parse func(string) (T, error), where func(*B) *T, change func(*Spec, func(*B)), of func(*Spec) *B) place {
	return place{
		set: func(s *Spec, text string) error {
			value, err := parse(text)
			if err != nil {
				return plainer(err, text)
			}
			change(s, func(b *B) { *where(b) = value })
			return nil
		},
		get: func(s *Spec) string {
			b := of(s)
			var none T
			if b == nil || *where(b) == none {
				return ""
			}
			return at(parse, func(*Spec) *T { return where(b) }).get(s)
		},
	}
}

// ofStoresOf reads something of the body of a load of stores; "" where it has none.
func ofStoresOf(s *Spec, read func(*Stores) string) string {
	if s.Stores == nil {
		return ""
	}
	return read(s.Stores)
}

func setRequests(s *Spec, text string) error {
	shares, err := parseRequests(text)
	if err == nil {
		s.changeStores(func(f *Stores) { f.Requests = shares })
	}
	return err
}

func setValue(s *Spec, text string) error {
	sizes, err := parseValue(text)
	if err == nil {
		s.changeStores(func(f *Stores) { f.Value = sizes })
	}
	return err
}

func setFrames(s *Spec, text string) error {
	bytes, rate, err := parseFrames(text)
	if err != nil {
		return err
	}
	s.changeFeeds(func(f *Feeds) { f.Frame, f.FrameRate = bytes, rate })
	return nil
}

func ofFilesOf(s *Spec, of func(*Files) string) string {
	if s.Files == nil {
		return ""
	}
	return of(s.Files)
}

func setFiles(s *Spec, text string) error {
	set, err := ParseFileSet(text)
	if err != nil {
		return err
	}
	s.SetFiles(set)
	return nil
}

func setTasks(s *Spec, text string) error {
	shares, err := ParseTasks(text)
	if err != nil {
		return err
	}
	s.changeFiles(func(f *Files) { f.Tasks = shares })
	return nil
}

// plainer turns the words of strconv into the words of this product.
func plainer(err error, text string) error {
	if numeric, ok := err.(*strconv.NumError); ok {
		if numeric.Func == "ParseBool" {
			return fmt.Errorf("%q is neither true nor false", text)
		}
		return fmt.Errorf("%q is not a whole number that fits", text)
	}
	return err
}

// folder reads the whole path of one.
func folder(text string) (string, error) {
	text = strings.TrimSpace(text)
	if !filepath.IsAbs(text) {
		return "", fmt.Errorf("%q is not a whole path; name a folder of the service's host", text)
	}
	return filepath.Clean(text), nil
}

func text[T ~string](text string) (T, error) { return T(strings.TrimSpace(text)), nil }

// oneOf reads one of several words.
func oneOf[T ~string](words ...T) func(string) (T, error) {
	return func(text string) (T, error) {
		word := T(strings.TrimSpace(text))
		if !slices.Contains(words, word) {
			return "", fmt.Errorf("%q is none of %v", text, words)
		}
		return word, nil
	}
}

func unsigned(text string) (uint64, error) { return strconv.ParseUint(text, 10, 64) }

// setBlocks reads "4KiB" or "4KiB:3,64KiB:1".
func setBlocks(s *Spec, text string) error {
	blocks, err := ParseBlocks(text)
	if err != nil {
		return err
	}
	s.Blocks = blocks
	return nil
}

// ParseBlocks reads a block size or a weighted mix such as "4KiB:3,64KiB:1".
func ParseBlocks(text string) ([]BlockShare, error) {
	var blocks []BlockShare
	for part := range strings.SplitSeq(text, ",") {
		size, weight, weighted := strings.Cut(part, ":")
		share := BlockShare{Weight: 1}
		var err error
		if share.Size, err = quantity.ParseBytes(size); err != nil {
			return nil, err
		}
		if weighted {
			if share.Weight, err = quantity.ParseNumber(weight); err != nil {
				return nil, fmt.Errorf("weight of %s: %w", share.Size, err)
			}
		}
		blocks = append(blocks, share)
	}
	return blocks, nil
}

// FormatBlocks writes a mix the way ParseBlocks reads it.
func FormatBlocks(blocks []BlockShare) string {
	parts := make([]string, len(blocks))
	for i, b := range blocks {
		size, _ := b.Size.MarshalYAML()
		parts[i] = string(size)
		if len(blocks) > 1 {
			parts[i] += ":" + strconv.FormatFloat(b.Weight, 'f', -1, 64)
		}
	}
	return strings.Join(parts, ",")
}

func getHot(s *Spec) string {
	if s.HotAccesses == 0 && s.HotSpan == 0 {
		return ""
	}
	accesses, _ := s.HotAccesses.MarshalYAML()
	span, _ := s.HotSpan.MarshalYAML()
	return string(accesses) + "/" + string(span)
}

func setHot(s *Spec, text string) error {
	accesses, span, found := strings.Cut(text, "/")
	if !found {
		return fmt.Errorf("%q; write it like 80%%/20%%", text)
	}
	var err error
	if s.HotAccesses, err = quantity.ParseShare(accesses); err != nil {
		return err
	}
	s.HotSpan, err = quantity.ParseShare(span)
	return err
}
