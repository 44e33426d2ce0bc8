package workload

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/measure"
)

// Kind is a kind of load: what it issues is worked out by a package of its own, which
// registers itself.
type Kind string

// BlockKind is the kind that issues blocks of bytes at places of a span; the kind of a load
// that says none.
const BlockKind Kind = "block"

// Body is what a kind of load is about. Its methods are given the load that it is the body
// of; what Complete has worked out is there in all but Validate and Complete itself.
type Body interface {
	// Kind is its kind, and the key of the body in JSON.
	Kind() Kind
	// Complete replaces zero values that mean a default, and works out what the load comes
	// to as blocks. Others may share the body: it is replaced, not changed.
	Complete(*Spec)
	// Validate reports what cannot be of this kind; what the load comes to as blocks is
	// checked after it.
	Validate(Spec) error
	// Describe says in a few words what the load does.
	Describe(Spec) string
	// Classes are the classes of operation that it issues.
	Classes(Spec) []measure.Class
	// Groups name what it counts by itself (files, streams, requests); none where operations
	// stand for themselves.
	Groups(Spec) []string
	// Traits are what others have to know of it.
	Traits(Spec) Traits
	// Source prepares the work of one worker, 0 to Workers-1.
	Source(s Spec, worker int) (Source, error)
}

// Registration is what a package says of its kind of load.
type Registration struct {
	New     func() Body // an empty body
	Words   string      // what the body is, for the contract; "" for a kind without keys of its own in JSON
	Heading string      // that help lists its own fields under
	Fields  []Field     // its own
	Takes   []string    // names of fields that it shares with some other kinds
}

var registered = map[Kind]Registration{}

// Register makes a kind of load known. It is called once for each kind, before main.
func Register(kind Kind, r Registration) {
	if _, twice := registered[kind]; twice || r.New == nil {
		panic("workload: the kind of load " + string(kind) + " is registered twice, or has no body")
	}
	registered[kind] = r
	own := make([]Field, len(r.Fields))
	for i, f := range r.Fields {
		f.kind, f.heading = kind, r.Heading
		own[i] = f
	}
	at := slices.IndexFunc(fields, func(f Field) bool { return f.kind == "" && f.Name == "think" })
	if kind == BlockKind {
		at = 0
	}
	fields = slices.Insert(fields, at, own...)
}

// Kinds are the kinds of load that there are, several at once included, in a fixed order.
func Kinds() (kinds []Kind) {
	for kind := range registered {
		if kind != BlockKind {
			kinds = append(kinds, kind)
		}
	}
	slices.Sort(kinds)
	return append(append([]Kind{BlockKind}, kinds...), TogetherKind)
}

// Registered is what the package of a kind said of it; the zero Registration of an unknown one.
func Registered(kind Kind) Registration { return registered[kind] }

// body is the body of the load's kind.
func (s Spec) body() Body {
	switch {
	case s.Several():
		return togetherBody{}
	case s.Body != nil:
		return s.Body
	}
	if r, known := registered[BlockKind]; known {
		return r.New()
	}
	panic("workload: no kind of load is registered; import patientheron/core/workload/kinds")
}

// SetBody makes s a load of the body's kind.
func (s *Spec) SetBody(b Body) {
	if s.Body != nil && s.Body.Kind() != b.Kind() {
		s.others = append(slices.Clone(s.others), s.Body.Kind()) // which Validate refuses
	}
	s.Kind, s.Body = b.Kind(), b
}

// checkKind reports a kind that is not known, or a body of another.
func (s Spec) checkKind() error {
	kind := s.kind()
	if kind != TogetherKind && registered[kind].New == nil {
		names := make([]string, 0, len(registered)+1)
		for _, k := range Kinds() {
			names = append(names, string(k))
		}
		return Invalid("kind", "%q; there are %s and %s", s.Kind, strings.Join(names[:len(names)-1], ", "), names[len(names)-1])
	}
	own := BlockKind
	if s.Body != nil {
		own = s.Body.Kind()
	}
	switch {
	case len(s.Together) > 0 && kind != TogetherKind, len(s.others) > 0, s.Body != nil && own != kind:
		return Invalid("kind", "the load is of %s, and another kind is described beside it; keep one", kind)
	case kind != own && kind != TogetherKind:
		return Invalid(string(kind), "the kind of the load is %s, and nothing says more of it; describe it, or leave kind out", kind)
	}
	return nil
}

// kind is the kind of load, block where none is said.
func (s Spec) kind() Kind {
	if s.Kind == "" {
		return BlockKind
	}
	return s.Kind
}

// envelope is a Spec as JSON has it, but for its body.
type envelope Spec

// MarshalJSON writes the body under the name of its kind.
func (s Spec) MarshalJSON() ([]byte, error) {
	text, err := json.Marshal(envelope(s))
	if err != nil || s.Body == nil || registered[s.Body.Kind()].Words == "" {
		return text, err
	}
	body, err := json.Marshal(s.Body)
	if err != nil {
		return nil, err
	}
	name, _ := json.Marshal(s.Body.Kind()) // a string, which cannot fail
	text = append(text[:len(text)-1], ',')
	text = append(append(append(text, name...), ':'), body...)
	return append(text, '}'), nil
}

// UnmarshalJSON reads the body of whichever kind is there. Where several are, Validate says so.
func (s *Spec) UnmarshalJSON(text []byte) error {
	own := envelope(*s)
	if err := json.Unmarshal(text, &own); err != nil {
		return err
	}
	kind := own.Kind
	var bodies map[Kind]json.RawMessage
	if err := json.Unmarshal(text, &bodies); err != nil {
		return err
	}
	*s = Spec(own)
	for _, k := range Kinds() {
		raw, there := bodies[k]
		if !there || string(raw) == "null" || registered[k].Words == "" {
			continue
		}
		b := registered[k].New()
		if err := json.Unmarshal(raw, b); err != nil {
			return fmt.Errorf("%s: %w", k, err)
		}
		s.SetBody(b)
	}
	s.Kind = kind
	return nil
}
