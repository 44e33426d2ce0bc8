// Package claim makes sentences of evidence. A claim is a value: what is said, and the terms that
// it is said of, each with what was found. Its words are made last, from the terms alone, and it
// is made only where the terms bear it, so that no sentence says what its own figures do not.
//
// What kinds of claim there are, and what each needs, is declared by those who make them:
//
//	var slower = claim.Declare("slower-with-more", func(t []claim.Term) bool {
//		return len(t) == 2 && t[1].Value < t[0].Value
//	}, func(t []claim.Term) string {
//		return "beyond " + t[0].Of + " the rate falls"
//	})
//
//	said = claim.Add(said, slower, best, last)
package claim

import (
	"fmt"
	"math"
	"strings"
)

// Claim is one thing that is said.
type Claim struct {
	Kind  string `json:"kind" doc:"Stable name of what is said"`
	Terms []Term `json:"terms" doc:"What it is said of"`
	Words string `json:"words"`
}

// Term is one thing that a claim is about, with what was found of it.
type Term struct {
	Of    string  `json:"of,omitempty" doc:"What it is: a setup, a stage, a value of a sweep, a parameter"`
	Value float64 `json:"value,omitempty"`
	Low   float64 `json:"low,omitempty" doc:"Ends of the 95 % interval, where that is known"`
	High  float64 `json:"high,omitempty"`
	Shown string  `json:"shown,omitempty" doc:"The value as people read it"`
	State string  `json:"state,omitempty" doc:"A verdict or an outcome that was found of it"`
}

// Kind is a kind of claim.
type Kind struct {
	name  string
	bears func([]Term) bool
	words func([]Term) string
}

var kinds = map[string]Kind{}

// Declare declares a kind of claim: whether terms bear it, and how they are put in words. It is
// called once for each name, when the program begins.
func Declare(name string, bears func([]Term) bool, words func([]Term) string) Kind {
	if _, taken := kinds[name]; taken {
		panic("two kinds of claim are called " + name)
	}
	k := Kind{name, bears, words}
	kinds[name] = k
	return k
}

// Add adds a claim of a kind to others where its terms bear it.
func Add(claims []Claim, k Kind, terms ...Term) []Claim {
	if !k.bears(terms) {
		return claims
	}
	return append(claims, Claim{k.name, terms, k.words(terms)})
}

// Check reports a claim that its terms do not bear, whose words are not those of its terms, or
// whose terms are no numbers.
func (c Claim) Check() error {
	k, known := kinds[c.Kind]
	switch {
	case !known:
		return fmt.Errorf("there is no kind of claim %q", c.Kind)
	case !k.bears(c.Terms):
		return fmt.Errorf("%s: its terms do not bear it: %+v", c.Kind, c.Terms)
	case k.words(c.Terms) != c.Words:
		return fmt.Errorf("%s: its words are not those of its terms: %q", c.Kind, c.Words)
	}
	for _, t := range c.Terms {
		if math.IsNaN(t.Value) || math.IsInf(t.Value, 0) || t.Low > t.High {
			return fmt.Errorf("%s: a term is no number, or its interval none: %+v", c.Kind, t)
		}
	}
	return nil
}

// Clauses are all claims as clauses of one sentence, with a capital letter and a full stop.
func Clauses(claims []Claim) string { return sentence(joined(claims, "; ")) }

// Words are all claims as a list within a sentence.
func Words(claims []Claim) string { return joined(claims, ", ") }

func joined(claims []Claim, between string) string {
	words := make([]string, len(claims))
	for i, c := range claims {
		words[i] = c.Words
	}
	return strings.Join(words, between)
}

// Sentences are all claims as sentences of their own.
func Sentences(claims []Claim) []string {
	all := []string{}
	for _, c := range claims {
		all = append(all, sentence(c.Words))
	}
	return all
}

func sentence(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + strings.TrimSuffix(text[1:], ".") + "."
}

// Names are what terms are called, the first few of many, as in a sentence.
func Names(terms []Term, most int) string {
	names := make([]string, 0, len(terms))
	for _, t := range terms {
		names = append(names, t.Of)
	}
	if len(names) > most+1 {
		names = append(names[:most], fmt.Sprintf("%d more", len(terms)-most))
	}
	return strings.Join(names, ", ")
}

// All reports whether something holds of all terms, of which there is one at least.
func All(terms []Term, holds func(Term) bool) bool {
	for _, t := range terms {
		if !holds(t) {
			return false
		}
	}
	return len(terms) > 0
}
