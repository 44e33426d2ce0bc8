package judge

import (
	"fmt"
	"slices"
	"strings"
)

// offersCut says which keys of its sessions the target did not take as they were offered:
// what was set on this host then has no effect, and has to be set on the other side.
func offersCut(o Observed) (findings []Finding) {
	var words, keys []string
	for _, s := range o.Summary.Sessions {
		for _, k := range s.Keys {
			if k.Cut != "target" || slices.Contains(keys, k.Key) {
				continue
			}
			keys = append(keys, k.Key)
			words = append(words, fmt.Sprintf("%s is %s, and %s was offered", k.Key, k.InEffect, k.Offered))
		}
	}
	if len(keys) == 0 {
		return nil
	}
	return []Finding{{
		Kind: "offer-cut-down", Weight: Info, Figure: "all",
		Sentence: "The target did not take all that was offered: " + strings.Join(words, "; ") + ".",
		Next:     "To try more, change it on the target; what is set on this host alone has no effect.",
		Evidence: []Evidence{{"keys that the target did not take as offered", float64(len(keys))}},
	}}
}
