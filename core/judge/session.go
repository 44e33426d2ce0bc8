package judge

import (
	"fmt"
	"slices"
	"strings"

	"patientheron/core/claim"
)

// offerCut needs what is in effect and what was offered of each key.
var offerCut = saysBy("offer-cut-down", Info, func(t []claim.Term) bool {
	for i := 0; i < len(t); i += 2 {
		if t[i].Shown == t[i+1].Shown {
			return false
		}
	}
	return len(t) > 0
}, func(t []claim.Term) string {
	var words []string
	for i := 0; i < len(t); i += 2 {
		words = append(words, fmt.Sprintf("%s is %s (offered: %s)", strings.TrimSuffix(t[i].Of, " in effect"), t[i].Shown, t[i+1].Shown))
	}
	return "The target negotiated less than was offered: " + strings.Join(words, "; ") + "."
})

// offersCut says which keys of its sessions the target did not take as they were offered:
// what was set on this host then has no effect, and has to be set on the other side.
func offersCut(o Observed) []Finding {
	var keys []string
	var evidence []Evidence
	for _, s := range o.Summary.Sessions {
		for _, k := range s.Keys {
			if k.Cut != "target" || slices.Contains(keys, k.Key) {
				continue
			}
			keys = append(keys, k.Key)
			evidence = append(evidence, named(k.Key+" in effect", k.InEffect), named(k.Key+" as offered", k.Offered))
		}
	}
	return offerCut.of(everything, "Change it on the target: a setting on this host alone has no effect.", evidence...)
}
