package judge

import (
	"fmt"
	"strings"

	"patientheron/core/claim"
)

// Weight is how much a finding matters.
type Weight string

// The weights. Unreliable marks the figure wherever it appears.
const (
	Info       Weight = "info"
	Caution    Weight = "caution"
	Unreliable Weight = "unreliable"
)

// Evidence is one thing a finding rests on: a number, or a name where Value is zero.
type Evidence struct {
	Name  string  `json:"name" doc:"What the number is, with its unit"`
	Value float64 `json:"value"`
	Shown string  `json:"shown,omitempty" doc:"The value as the sentence says it, or the name that it says; absent when it says neither"`
}

// Finding is one observation about a measurement.
type Finding struct {
	Kind     string     `json:"kind" doc:"Stable name of the rule that found it"`
	Weight   Weight     `json:"weight" enum:"info,caution,unreliable"`
	Figure   string     `json:"figure" doc:"What it is about: reads, writes or all"`
	Part     string     `json:"part,omitempty" doc:"Name of the one of several loads at once that it is about; absent for all"`
	Sentence string     `json:"sentence" doc:"What was observed"`
	Next     string     `json:"next" doc:"What to do about it"`
	Evidence []Evidence `json:"evidence"`

	claims []claim.Claim // what it says, and what that says in turn
}

// Check reports a finding that says what its evidence does not bear. It knows findings that were
// made, not those that were kept and read again.
func (f Finding) Check() error {
	if len(f.claims) == 0 || !strings.HasSuffix(f.Sentence, f.claims[0].Words) {
		return fmt.Errorf("%s: its sentence is made of no claim: %q", f.Kind, f.Sentence)
	}
	for _, c := range f.claims {
		if err := c.Check(); err != nil {
			return fmt.Errorf("%s: %w", f.Kind, err)
		}
	}
	return nil
}

// everything is the figure of a finding that is about all operations.
const everything = "all"

// saying is a kind of finding: how much it matters, what it needs of its evidence, and its words.
type saying struct {
	claim.Kind
	kind   string
	weight Weight
}

// says declares a kind of finding. What follows a colon in its name tells variants of one kind
// apart, which stay the same to whoever reads them. In its words each %s stands for one evidence
// that is shown, in their order.
func says(name string, weight Weight, bears func([]claim.Term) bool, words string) saying {
	return saysBy(name, weight, func(t []claim.Term) bool {
		return len(shownOf(t)) == strings.Count(words, "%s") && bears(t)
	}, func(t []claim.Term) string { return fmt.Sprintf(words, shownOf(t)...) })
}

// saysBy declares a kind of finding whose words are made from its evidence.
func saysBy(name string, weight Weight, bears func([]claim.Term) bool, words func([]claim.Term) string) saying {
	kind, _, _ := strings.Cut(name, ":")
	return saying{claim.Declare(name, bears, words), kind, weight}
}

// saysOf declares a kind of finding that puts others' words together, one at least.
func saysOf(name string, weight Weight, words func(parts []string) string) saying {
	return saysBy(name, weight, func(t []claim.Term) bool { return len(t) > 0 }, func(t []claim.Term) string {
		parts := make([]string, len(t))
		for i, p := range t {
			parts[i] = p.Shown
		}
		return words(parts)
	})
}

// of finds it where its evidence bears it: one finding, or none.
func (s saying) of(figure, next string, evidence ...Evidence) []Finding {
	return s.found(claim.Add(nil, s.Kind, termsOf(evidence)...), figure, next, evidence)
}

// puts finds it of the claims that it puts together; its evidence stands beside them.
func (s saying) puts(parts []claim.Claim, figure, next string, evidence ...Evidence) []Finding {
	terms := make([]claim.Term, len(parts))
	for i, p := range parts {
		terms[i] = claim.Term{Of: p.Kind, Shown: p.Words}
	}
	said := claim.Add(nil, s.Kind, terms...)
	if len(said) > 0 {
		said = append(said, parts...)
	}
	return s.found(said, figure, next, evidence)
}

func (s saying) found(said []claim.Claim, figure, next string, evidence []Evidence) []Finding {
	if len(said) == 0 {
		return nil
	}
	if evidence == nil {
		evidence = []Evidence{}
	}
	return []Finding{{Kind: s.kind, Weight: s.weight, Figure: figure, Sentence: said[0].Words, Next: next, Evidence: evidence, claims: said}}
}

// number is a value that stands in the words.
func number[V interface {
	~float64 | ~int64
	fmt.Stringer
}](name string, v V) Evidence {
	return Evidence{name, float64(v), v.String()}
}

// counted is a count that stands in the words.
func counted[V ~int | ~int64](name string, v V) Evidence {
	return Evidence{name, float64(v), fmt.Sprint(v)}
}

// named is a name that stands in the words.
func named(name, shown string) Evidence { return Evidence{Name: name, Shown: shown} }

// unsaid is a value that the words do not say.
func unsaid[V ~float64 | ~int | ~int64](name string, v V) Evidence {
	return Evidence{Name: name, Value: float64(v)}
}

func termsOf(evidence []Evidence) []claim.Term {
	terms := make([]claim.Term, len(evidence))
	for i, e := range evidence {
		terms[i] = claim.Term{Of: e.Name, Value: e.Value, Shown: e.Shown}
	}
	return terms
}

func shownOf(terms []claim.Term) (shown []any) {
	for _, t := range terms {
		if t.Shown != "" {
			shown = append(shown, t.Shown)
		}
	}
	return shown
}

// always is what needs nothing of its evidence: it is a fact that was recorded.
func always([]claim.Term) bool { return true }

// atLeast is what needs its first evidence to reach a limit.
func atLeast(limit float64) func([]claim.Term) bool {
	return func(t []claim.Term) bool { return t[0].Value >= limit }
}
