package claim

import (
	"math"
	"testing"
)

var more = Declare("more", func(t []Term) bool { return len(t) == 2 && t[1].Value > t[0].Value }, func(t []Term) string { return t[1].Of + " does more than " + t[0].Of })

// What the terms do not bear is not said, and what is said can be checked by anybody later.
func TestOnlyWhatIsBorneIsSaid(t *testing.T) {
	a, b := Term{Of: "a", Value: 1}, Term{Of: "b", Value: 2}
	said := Add(Add(nil, more, a, b), more, b, a)
	if len(said) != 1 || Clauses(said) != "B does more than a." || Sentences(said)[0] != Clauses(said) {
		t.Fatalf("%+v", said)
	}
	if err := said[0].Check(); err != nil {
		t.Error(err)
	}
	for what, spoil := range map[string]func(*Claim){
		"its kind":          func(c *Claim) { c.Kind = "less" },
		"its evidence":      func(c *Claim) { c.Terms = []Term{b, a} },
		"its words":         func(c *Claim) { c.Words = "a does more than b" },
		"no number":         func(c *Claim) { c.Terms = []Term{{Of: "a", Value: math.Inf(-1)}, b} },
		"a turned interval": func(c *Claim) { c.Terms = []Term{a, {Of: "b", Value: 2, Low: 3, High: 1}} },
	} {
		c := said[0]
		if spoil(&c); c.Check() == nil {
			t.Errorf("%s was changed and is not missed", what)
		}
	}
	if Clauses(nil) != "" || Names([]Term{a, b, a, b, a}, 2) != "a, b, 3 more" || Names([]Term{a, b, a}, 2) != "a, b, a" {
		t.Error(Names([]Term{a, b, a, b, a}, 2), Names([]Term{a, b, a}, 2))
	}
}
