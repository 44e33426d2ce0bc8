package setup

import (
	"fmt"
	"slices"
	"strings"
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

// consequences are facts that follow from others: a price changes with what is
// bought, and the rates of media with their kind.
var consequences = []string{"cost.price", "cost.yearlyPower", "link[].driver", "link[].interface", "media[].model"}

// absentMeans lists parts whose absence is a fact of its own: who tells of a
// cache and later tells of none has taken it out.
var absentMeans = []string{"cache", "tier", "replication"}

// Diff tells what changed from before to after.
func Diff(before, after Setup) Difference {
	d := Difference{Changes: []Change{}, Unknown: []Change{}}
	done := map[string]bool{}
	for _, side := range []Setup{before, after} {
		for _, f := range side.Facts {
			name, _, _ := splitKey(f.Key)
			part := Part(f.Key)
			if done[f.Key] || done[part] {
				continue
			}
			was, is := before.Text(f.Key), after.Text(f.Key)
			hadPart, hasPart := before.has(part), after.has(part)
			switch {
			case hadPart != hasPart && (slices.Contains(absentMeans, name) || len(before.Facts) > 0 && len(after.Facts) > 0 && name == "media" && !strings.HasSuffix(part, " 1")):
				done[part] = true
				d.Changes = append(d.Changes, wholePart(part, before, after, hasPart))
			case was == is:
			case was != "" && is != "":
				d.Changes = append(d.Changes, Change{part, f.Key, was, is, true, fmt.Sprintf("%s: %s went from %s to %s", part, label(f.Key), was, is)})
			case was == "":
				d.Unknown = append(d.Unknown, Change{part, f.Key, "", is, false, fmt.Sprintf("%s: %s is %s; before it was not known", part, label(f.Key), is)})
			default:
				d.Unknown = append(d.Unknown, Change{part, f.Key, was, "", false, fmt.Sprintf("%s: %s was %s; now it is not known", part, label(f.Key), was)})
			}
			done[f.Key] = true
		}
	}
	d.count()
	return d
}

// count says how many things changed, and puts it in words.
func (d *Difference) count() {
	media, mtu := false, false
	var words []string
	for _, c := range d.Changes {
		part, _, name := splitKey(c.Key)
		pattern := part + "." + name
		if strings.Contains(c.Key, "[") {
			pattern = part + "[]." + name
		}
		if slices.Contains(consequences, pattern) {
			continue
		}
		// Other media are one thing, however many of their facts differ; so is
		// the MTU, which belongs to both ends.
		if part == "media" {
			if media {
				continue
			}
			media = true
		}
		if name == "mtuHere" || name == "mtuThere" {
			if mtu {
				continue
			}
			mtu = true
		}
		d.Things++
		words = append(words, c.Sentence)
	}
	switch {
	case d.Things == 0 && len(d.Changes) == 0 && len(d.Unknown) == 0:
		d.Words = "Nothing that is known of the setups differs."
	case d.Things == 0 && len(d.Unknown) > 0:
		d.Words = "Nothing that is known of both setups differs. Only one side knows: " + several(d.Unknown) + "."
	case d.Things == 0:
		d.Words = "Nothing that is known of both setups differs but what follows from other things."
	default:
		d.Words = strings.Join(words, "; ") + "."
	}
	if d.Things > 1 {
		d.Caution = fmt.Sprintf("%d things changed at once: a difference in the figures cannot be put down to one of them. Change one thing at a time.", d.Things)
	}
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
	from, verb := before, "is gone"
	if isNew {
		from, verb = after, "is new"
	}
	var facts []string
	for _, f := range from.Facts {
		if Part(f.Key) == part {
			facts = append(facts, fmt.Sprintf("%s %s", label(f.Key), f.Value))
		}
	}
	c := Change{Part: part, Known: true, Sentence: fmt.Sprintf("%s %s (%s)", part, verb, strings.Join(facts, ", "))}
	if isNew {
		c.After = strings.Join(facts, ", ")
	} else {
		c.Before = strings.Join(facts, ", ")
	}
	return c
}

func label(key string) string {
	if field, err := Lookup(key); err == nil {
		return field.Label
	}
	return key
}
