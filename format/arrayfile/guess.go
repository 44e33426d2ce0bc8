package arrayfile

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/array"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// ErrUnknown is wrapped by errors about a setup of which too little is known.
var ErrUnknown = errors.New("too little is known of the setup")

// Guess is an array file for what is known of a setup: its media, layout, caches, controller and
// link, with rates and times where facts tell them. What no fact tells takes its default. It
// fails with an error that wraps ErrUnknown and names the facts to tell.
func Guess(name string, s setup.Setup) ([]byte, error) {
	var out bytes.Buffer
	fmt.Fprintf(&out, "name: %q\n", name)
	var lacks, members []string
	for i := range max(s.Count("media"), 1) {
		text, missing := guessedMembers(s, fmt.Sprintf("media[%d].", i))
		lacks = append(lacks, missing...)
		members = append(members, text)
	}
	level := s.Text("layout.level")
	if len(members) > 1 || s.Number("media[0].count") > 1 {
		if level == "" {
			lacks = append(lacks, "layout.level")
		}
	} else if level == "" || level == "single" {
		level = string(array.Concatenation)
	}
	if len(lacks) > 0 {
		return nil, fmt.Errorf("%w: tell %s (with 'heron setup tell', or on its Look page), or write an array file", ErrUnknown, strings.Join(lacks, ", "))
	}
	fmt.Fprintf(&out, "members: [%s]\n", strings.Join(members, ", "))
	layout := flow{}
	layout.add("level", level)
	if s.Text("layout.groups") != "" { // of which the members of a stripe follow
		layout.copied(s, "layout.", "chunk", "groups")
	} else {
		layout.copied(s, "layout.", "chunk", "stripe", "spares")
	}
	layout.copied(s, "layout.", "hotSpares", "rebuildRate")
	fmt.Fprintf(&out, "layout: %s\n", layout)
	for i := range s.Count("cache") {
		if cache := guessedCache(s, fmt.Sprintf("cache[%d].", i)); cache != nil {
			if i == 0 {
				out.WriteString("caches:\n")
			}
			fmt.Fprintf(&out, "  - %s\n", cache)
		}
	}
	part := func(name, of string, keys ...string) {
		var f flow
		f.copied(s, of, keys...)
		if len(f) > 0 {
			fmt.Fprintf(&out, "%s: %s\n", name, f)
		}
	}
	part("controller", "controller.", "operations", "throughput")
	if limits := guessedLimits(s); len(limits) > 0 {
		fmt.Fprintf(&out, "limits: %s\n", limits)
	}
	if s.Text("link[0].rate") != "" {
		var link flow
		link.copied(s, "link[0].", "rate", "count", "hosts", "roundTrip", "slot")
		if here, there := s.Text("link[0].mtuHere"), s.Text("link[0].mtuThere"); here != "" {
			link.add("mtu", fmt.Sprintf("[%s, %s]", here, cmp.Or(there, here)))
		}
		link.add("perOp", s.Text("transport.operationTime"))
		link.add("perByte", s.Text("transport.byteTime"))
		fmt.Fprintf(&out, "link: %s\n", link)
	}
	if _, err := Read(out.Bytes()); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnknown, placeless(err))
	}
	return out.Bytes(), nil
}

// guessedLimits are what the array allows the volume, or else what this host's system allows those
// who use it.
func guessedLimits(s setup.Setup) (f flow) {
	f.copied(s, "volume.", "operations", "throughput")
	for _, side := range [][3]string{{"reads", "volume.reads", "queue.readsMost"}, {"writes", "volume.writes", "queue.writesMost"}, {"readRate", "volume.readRate", "queue.readMost"}, {"writtenRate", "volume.writtenRate", "queue.writtenMost"}} {
		f.add(side[0], cmp.Or(s.Text(side[1]), s.Text(side[2])))
	}
	return f
}

// flow is a mapping on one line.
type flow []string

func (f flow) String() string { return "{" + strings.Join(f, ", ") + "}" }

func (f *flow) add(key, value string) {
	if value != "" {
		*f = append(*f, key+": "+value)
	}
}

// copied takes over facts under their own names.
func (f *flow) copied(s setup.Setup, at string, keys ...string) {
	for _, key := range keys {
		f.add(key, s.Text(at+key))
	}
}

// guessedMembers is one group of members, and the facts that it lacks.
func guessedMembers(s setup.Setup, at string) (text string, lacks []string) {
	kind := s.Text(at + "kind")
	for _, key := range []string{"kind", "size"} {
		if s.Text(at+key) == "" {
			lacks = append(lacks, at+key)
		}
	}
	medium := array.Medium(kind)
	if kind == "memory" { // which answers without a wait, as nothing else does
		medium = array.LowLatency
	}
	var f flow
	f.add("count", fmt.Sprint(max(s.Number(at+"count"), 1)))
	f.add("medium", string(medium))
	f.add("capacity", s.Text(at+"size"))
	if medium == array.HardDisk {
		f.copied(s, at, "rpm", "seekTrack", "seekAverage", "seekFull", "innerRate", "overhead", "slow")
		f.add("outerRate", s.Text(at+"readRate"))
		if s.Is(at + "shingled") {
			f.add("shingled", "true")
		}
		return f.String(), lacks
	}
	guessedFlash(s, at, medium, &f)
	return f.String(), lacks
}

// guessedFlash makes of the random rates of a data sheet how many pages are read or programmed at
// a time.
func guessedFlash(s setup.Setup, at string, medium array.Medium, f *flow) {
	f.add("interface", cmp.Or(s.Text(at+"interface"), s.Text(at+"readRate")))
	part, read, program := "dies", quantity.Seconds(70e-6), quantity.Seconds(600e-6)
	if medium == array.LowLatency {
		part, read, program = "units", 10e-6, 10e-6
	}
	at4K := [2]float64{float64(s.OpRate(at + "randomReadRate")), float64(s.OpRate(at + "randomWriteRate"))}
	if at4K[0] == 0 {
		return
	}
	many := min(max(int(at4K[0]*float64(read)+0.5), 1), 256)
	f.add(part, fmt.Sprint(many))
	f.add("readTime", timeText(float64(many)/at4K[0]))
	if at4K[1] > 0 {
		program = quantity.Seconds(float64(many) / at4K[1])
	}
	f.add("programTime", timeText(float64(program)))
}

func timeText(seconds float64) string {
	text, err := quantity.Seconds(seconds).MarshalYAML()
	if err != nil {
		return ""
	}
	return string(text)
}

// guessedCache is a cache; nil where its size is not known.
func guessedCache(s setup.Setup, at string) flow {
	if s.Text(at+"size") == "" {
		return nil
	}
	var f flow
	f.add("name", fmt.Sprintf("%q", cmp.Or(s.Text(at+"name"), "cache")))
	f.copied(s, at, "size", "devices", "bypass", "throughput", "hitTime")
	mode := s.Text(at + "mode")
	if !slices.Contains([]string{string(array.ReadOnly), string(array.WriteBack), string(array.WriteThrough)}, mode) {
		mode = string(array.WriteThrough)
	}
	f.add("mode", mode)
	if s.Is(at + "protected") {
		f.add("protected", "true")
	}
	return f
}
