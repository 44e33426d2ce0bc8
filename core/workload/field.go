package workload

import (
	"cmp"
	"fmt"
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
	kind    Kind   // that alone has it; "" for one that several kinds have
	some    bool   // of those that take it; false for all
	heading string // of its kind
}

// NewField is a field of one kind of load: set puts what a text says into a load and makes it
// one of that kind, and get writes it as text that set reads; "" for no value.
func NewField(name, flag, usage string, set func(*Spec, string) error, get func(*Spec) string) Field {
	return Field{Name: name, Flag: flag, Usage: usage, place: place{set, get}}
}

// OwnField is a field that lies in the body of a kind, which change makes and of reads; of gives
// nil for a load of another kind. The zero value, which means a default, is not shown.
func OwnField[B any, T comparable](name, flag, usage string, parse func(string) (T, error), where func(*B) *T, change func(*Spec, func(*B)), of func(Spec) *B) Field {
	return Field{Name: name, Flag: flag, Usage: usage, place: inBody(parse, where, change, func(s *Spec) *B { return of(*s) })}
}

// SpecField is a field that lies in the load beside its body.
func SpecField[T any](name, flag, usage string, parse func(string) (T, error), where func(*Spec) *T) Field {
	return Field{Name: name, Flag: flag, Usage: usage, place: at(parse, where)}
}

// Of reports whether loads of a kind have the field.
func (f Field) Of(kind Kind) bool {
	switch {
	case kind == TogetherKind: // whose parts say the rest
		return f.kind == "" && !f.some && f.Name != "depth" && f.Name != "workers"
	case f.kind != "" && f.kind == cmp.Or(kind, BlockKind), f.kind == "" && !f.some:
		return true
	}
	return slices.Contains(registered[cmp.Or(kind, BlockKind)].Takes, f.Name)
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
	return f.heading
}

// place is where a field's value is kept, and how it is written as text.
type place struct {
	set func(*Spec, string) error
	get func(*Spec) string
}

// Set parses text and puts it into spec. The error names the field.
func (f Field) Set(spec *Spec, text string) error {
	if spec.Kind == TogetherKind && !f.Of(TogetherKind) {
		return Invalid(f.Name, "of several loads at once each has its own; say it there")
	}
	if err := f.set(spec, text); err != nil {
		return Invalid(f.Name, "%v", err)
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

// fields are those that several kinds of load have; Register adds those of each kind.
var fields = []Field{
	{Name: "depth", Flag: "depth", Usage: "queue depth: operations that each worker keeps in flight", place: at(strconv.Atoi, func(s *Spec) *int { return &s.Depth })},
	{Name: "workers", Flag: "workers", Usage: "workers, each with its own thread and queue", place: at(strconv.Atoi, func(s *Spec) *int { return &s.Workers })},
	{Name: "span", some: true, Flag: "span", Usage: "size of the region that is read or written (the working set); 0 for all of a device", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Span })},
	{Name: "offset", some: true, Flag: "offset", Usage: "where that region starts", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Offset })},
	{Name: "compressible", some: true, Flag: "compressible", Usage: "share of written data a compressor can remove, at any block size", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Compressible })},
	{Name: "duplicate", some: true, Flag: "duplicate", Usage: "share of written 4 KiB pages that repeat a common page", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Duplicate })},
	{Name: "think", some: true, Flag: "think", Usage: "think time between a completion and the next operation of its slot", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.Think })},
	{Name: "rate", some: true, Flag: "rate", Usage: "operations per second, all workers together; latency then counts from the intended start", place: at(quantity.ParseOpRate, func(s *Spec) *quantity.OpRate { return &s.Rate })},
	{Name: "byteRate", some: true, Flag: "byte-rate", Usage: "the same as throughput, such as 250MB/s", place: at(quantity.ParseByteRate, func(s *Spec) *quantity.ByteRate { return &s.ByteRate })},
	{Name: "arrivals", some: true, Flag: "arrivals", Usage: "constant or poisson, at a set rate", place: at(Word[Arrivals], func(s *Spec) *Arrivals { return &s.Arrivals })},
	{Name: "cached", Flag: "cached", Bool: true, Usage: "go through the host's page cache instead of around it", place: at(strconv.ParseBool, func(s *Spec) *bool { return &s.Cached })},
	{Name: "for", Flag: "for", Usage: "how long to measure after the warm-up", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.For })},
	{Name: "amount", Flag: "amount", Usage: "bytes to move, instead of or besides a time", place: at(quantity.ParseBytes, func(s *Spec) *quantity.Bytes { return &s.Amount })},
	{Name: "warmUp", Flag: "warm-up", Usage: "time at the start that is left out of the summary", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.WarmUp })},
	{Name: "steady", Flag: "steady", Bool: true, Usage: "measure until steady state, at most for the time given; what came before is left out of the summary", place: at(strconv.ParseBool, func(s *Spec) *bool { return &s.Steady })},
	{Name: "margin", Flag: "margin", Usage: "measure until the mean rate has this margin of error (95 %), such as 2%, at most for the time given", place: at(quantity.ParseShare, func(s *Spec) *quantity.Share { return &s.Margin })},
	{Name: "interval", Flag: "interval", Usage: "length of an interval of the time series, 100ms to 10s (default: a fiftieth of the time, up to 1s)", place: at(quantity.ParseSeconds, func(s *Spec) *quantity.Seconds { return &s.Interval })},
	{Name: "onError", Flag: "on-error", Usage: "end or continue when an operation fails", place: at(Word[OnError], func(s *Spec) *OnError { return &s.OnError })},
	{Name: "seed", Flag: "seed", Usage: "the same seed issues the same operations", place: at(Unsigned, func(s *Spec) *uint64 { return &s.Seed })},
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

// Word reads a word as it stands.
func Word[T ~string](text string) (T, error) { return T(strings.TrimSpace(text)), nil }

// OneOf reads one of several words.
func OneOf[T ~string](words ...T) func(string) (T, error) {
	return func(text string) (T, error) {
		word := T(strings.TrimSpace(text))
		if !slices.Contains(words, word) {
			return "", fmt.Errorf("%q is none of %v", text, words)
		}
		return word, nil
	}
}

// Unsigned reads a whole number that is not negative.
func Unsigned(text string) (uint64, error) { return strconv.ParseUint(text, 10, 64) }

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
