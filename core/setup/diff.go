package setup

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Change is one difference between two setups.
type Change struct {
	Part     string `json:"part" doc:"Which part of the setup, such as 'cache 1'"`
	Key      string `json:"key,omitempty" doc:"Of the fact that differs; empty when a whole part is new or gone"`
	Before   string `json:"before,omitempty" doc:"Empty when it was not known"`
	After    string `json:"after,omitempty" doc:"Empty when it is not known"`
	Known    bool   `json:"known" doc:"Both sides are known; otherwise it may be the knowledge that differs"`
	Sentence string `json:"sentence"`
}

// Difference is what changed from one setup to another.
type Difference struct {
	Changes []Change `json:"changes" doc:"What really differs"`
	Unknown []Change `json:"unknown" doc:"What only one side knows, so that it may or may not differ"`
	Things  int      `json:"things" doc:"How many things changed; what follows from another change counts with it"`
	Words   string   `json:"words" doc:"The difference in a sentence"`
	Caution string   `json:"caution,omitempty" doc:"Set when more than one thing changed"`
}

// consequences are facts that mostly follow from others of their part: the rates of
// media from their model, the driver from the interface. They count for themselves
// when nothing else of their part differs.
var consequences = []string{"link[].driver", "link[].interface", "host.kernel"}

// beside are parts and facts whose changes do not make figures differ, and count as no
// thing.
var beside = []string{"cost", "counters", "volume.usable", "controller.count"}

// Beside keeps the facts that do not make figures differ, such as the price.
func (s Setup) Beside() Setup {
	return Setup{slices.DeleteFunc(slices.Clone(s.Facts), func(f Fact) bool { return !isBeside(f.Key) })}
}

// DegradedOf reports whether s is another setup with some of its members missing.
func (s Setup) DegradedOf(whole Setup) bool {
	missing := s.Number("layout.missing")
	if missing == 0 || whole.Number("layout.missing") > 0 {
		return false
	}
	there, _ := s.members()
	if all, _ := whole.members(); there != all && there+missing != all {
		return false
	}
	back := Setup{slices.DeleteFunc(slices.Clone(s.Facts), func(f Fact) bool { return f.Key == "layout.missing" })}
	for i := range whole.Count("media") {
		if at := fmt.Sprintf("media[%d].count", i); back.Text(at) != "" {
			back.Know(at, whole.Text(at), Read, time.Time{})
		}
	}
	return Diff(whole, back).Alike()
}

func isBeside(key string) bool {
	part, _, _ := splitKey(key)
	return slices.Contains(beside, part) || slices.Contains(beside, key)
}

// together are parts of which all changes are one thing, however many facts differ:
// other media are other media.
var together = []string{"media", "host"}

// weights orders parts by how much they can matter, the media first.
var weights = []string{"media", "layout", "cache", "pool", "tier", "lowerTier", "controller", "link", "transport", "session", "replication", "queue", "fileSystem", "pageCache", "tuning", "host", "power", "cost", "counters"}

// Diff tells what changed from before to after, what can matter most first. Where
// everything is known of both, because they are made up, a part that only one has is
// new or gone; so are caches, tiers and replication anywhere, since who tells of one
// and later tells of none has taken it out. Any other fact that only one side knows
// may or may not differ.
func Diff(before, after Setup) Difference {
	d := Difference{Changes: []Change{}, Unknown: []Change{}}
	madeUp := before.madeUp() && after.madeUp()
	done := map[string]bool{}
	for _, side := range []Setup{before, after} {
		for _, f := range side.Facts {
			name, _, _ := splitKey(f.Key)
			part := Part(f.Key)
			if done[f.Key] || done[part] {
				continue
			}
			done[f.Key] = true
			whole := madeUp && !isBeside(f.Key) // a price that is not told is not none
			was, is := before.Text(f.Key), after.Text(f.Key)
			hadPart, hasPart := before.has(part), after.has(part)
			absence := whole || slices.Contains(absentMeans, name) || len(before.Facts) > 0 && len(after.Facts) > 0 && name == "media" && !strings.HasSuffix(part, " 1")
			switch {
			case hadPart != hasPart && absence:
				done[part] = true
				d.Changes = append(d.Changes, wholePart(part, before, after, hasPart))
			case was == is:
			case was != "" && is != "" || whole:
				d.Changes = append(d.Changes, Change{Part: part, Key: f.Key, Before: was, After: is, Known: true}.said())
			default:
				d.Unknown = append(d.Unknown, Change{Part: part, Key: f.Key, Before: was, After: is}.said())
			}
		}
	}
	for _, changes := range [][]Change{d.Changes, d.Unknown} {
		slices.SortStableFunc(changes, func(a, b Change) int { return weight(a.Part) - weight(b.Part) })
	}
	d.count()
	return d
}

// absentMeans lists parts whose absence is a fact of its own.
var absentMeans = []string{"cache", "pool", "tier", "lowerTier", "replication"}

// weight is the place of a part, as Part names it, among weights.
func weight(part string) int {
	i := slices.IndexFunc(weights, func(name string) bool {
		return part == partLabel(name) || strings.HasPrefix(part, partLabel(name)+" ")
	})
	if i < 0 {
		return len(weights)
	}
	return i
}

// madeUp reports whether everything is known of a setup that can make figures differ.
func (s Setup) madeUp() bool {
	mayDiffer := func(f Fact) bool { return !isBeside(f.Key) && !strings.HasPrefix(f.Key, "host.") }
	return slices.ContainsFunc(s.Facts, func(f Fact) bool { return f.Origin == Simulated }) &&
		!slices.ContainsFunc(s.Facts, func(f Fact) bool { return f.Origin != Simulated && mayDiffer(f) })
}

// Alike reports that nothing is known to differ that can make figures differ, and nothing
// is known of one side alone that may.
func (d Difference) Alike() bool {
	return d.Things == 0 && !slices.ContainsFunc(d.Unknown, func(c Change) bool { return !isBeside(c.Key) })
}

// count says how many things changed, and puts all of them in words, those of one part
// in one sentence.
func (d *Difference) count() {
	var order []string
	parts := map[string][]Change{}
	for _, c := range d.Changes {
		if parts[c.Part] == nil {
			order = append(order, c.Part)
		}
		parts[c.Part] = append(parts[c.Part], c)
	}
	var words []string
	for _, part := range order {
		words = append(words, ofPart(parts[part]))
		d.Things += things(parts[part])
	}
	switch {
	case len(d.Changes) == 0 && len(d.Unknown) == 0:
		d.Words = "The known facts of the setups are the same."
	case len(d.Changes) == 0:
		d.Words = "The facts known of both setups are the same. Only one side knows: " + several(d.Unknown) + "."
	default:
		d.Words = strings.Join(words, "; ") + "."
	}
	if d.Things > 1 {
		d.Caution = fmt.Sprintf("%d things changed at once: a difference in the figures cannot be put down to one of them. Change one thing at a time.", d.Things)
	}
}

// things counts the changes of one part.
func things(changes []Change) (n int) {
	changes = slices.DeleteFunc(slices.Clone(changes), func(c Change) bool { return isBeside(c.Key) })
	if len(changes) == 0 {
		return 0
	}
	name, _, _ := splitKey(changes[0].Key)
	if slices.Contains(together, name) || changes[0].Key == "" {
		return 1
	}
	mtu, following := false, 0
	for _, c := range changes {
		part, index, name := splitKey(c.Key)
		if index >= 0 {
			part += "[]"
		}
		switch {
		case slices.Contains(consequences, part+"."+name):
			following++
		case name == "mtuHere" || name == "mtuThere": // which belongs to both ends
			if !mtu {
				n++
			}
			mtu = true
		default:
			n++
		}
	}
	if n == 0 && following > 0 {
		return 1
	}
	return n
}

// ofPart puts the changes of one part in one sentence.
func ofPart(changes []Change) string {
	if len(changes) == 1 {
		return changes[0].Sentence
	}
	var words []string
	for i, c := range changes {
		rest := strings.TrimPrefix(c.Sentence, c.Part+": ")
		if i > 0 {
			rest = strings.Replace(rest, " went from ", " from ", 1)
		}
		words = append(words, rest)
	}
	return changes[0].Part + ": " + strings.Join(fewOf(words), ", ")
}

// mostInSentence is how many facts of a part stand in a sentence; the changes hold all.
const mostInSentence = 8

// fewOf keeps the first words, which are the ones that can matter most, and counts the rest.
func fewOf(words []string) []string {
	if len(words) <= mostInSentence+1 {
		return words
	}
	return append(words[:mostInSentence:mostInSentence], fmt.Sprintf("and %d facts more", len(words)-mostInSentence))
}

// several puts the first few changes in words.
func several(changes []Change) string {
	var words []string
	for i, c := range changes {
		if i == 3 && len(changes) > 4 {
			words = append(words, fmt.Sprintf("%d more", len(changes)-i))
			break
		}
		words = append(words, c.Sentence)
	}
	return strings.Join(words, "; ")
}

func (s Setup) has(part string) bool {
	return slices.ContainsFunc(s.Facts, func(f Fact) bool { return Part(f.Key) == part })
}

// wholePart describes a part that is only on one side.
func wholePart(part string, before, after Setup, isNew bool) Change {
	facts := func(of Setup) string {
		var all []string
		for _, f := range of.Facts {
			if Part(f.Key) == part {
				all = append(all, fmt.Sprintf("%s %s", label(f.Key), f.Value))
			}
		}
		return strings.Join(all, factsBetween)
	}
	if isNew {
		return Change{Part: part, After: facts(after), Known: true}.said()
	}
	return Change{Part: part, Before: facts(before), Known: true}.said()
}

// factsBetween is what stands between the facts of a part.
const factsBetween = ", "

// said puts a change in words, which are made of what it holds alone.
func (c Change) said() Change {
	few := func(facts string) string {
		return strings.Join(fewOf(strings.Split(facts, factsBetween)), factsBetween)
	}
	switch {
	case c.Key == "" && c.Before == "":
		c.Sentence = fmt.Sprintf("%s is new (%s)", c.Part, few(c.After))
	case c.Key == "":
		c.Sentence = fmt.Sprintf("%s is gone (%s)", c.Part, few(c.Before))
	case c.Known:
		c.Sentence = fmt.Sprintf("%s: %s went from %s to %s", c.Part, label(c.Key), orNone(c.Before), orNone(c.After))
	case c.Before == "":
		c.Sentence = fmt.Sprintf("%s: %s is %s; before it was not known", c.Part, label(c.Key), c.After)
	default:
		c.Sentence = fmt.Sprintf("%s: %s was %s; now it is not known", c.Part, label(c.Key), c.Before)
	}
	return c
}

func label(key string) string {
	if field, err := Lookup(key); err == nil {
		return field.Label
	}
	return key
}
