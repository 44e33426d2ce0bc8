package array

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// What a key of an array file means depends on what stands beside it. These tables say where each
// key means something; everywhere else it is refused, so that nothing that a file states is left
// unused. A key that stands in no table means something wherever it may stand.

// keysOfMedia are keys of members of some media alone.
var keysOfMedia = map[string][]Medium{
	"rpm": {HardDisk}, "seekTrack": {HardDisk}, "seekAverage": {HardDisk}, "seekFull": {HardDisk},
	"outerRate": {HardDisk}, "innerRate": {HardDisk}, "overhead": {HardDisk}, "queue": {HardDisk}, "readAhead": {HardDisk},
	"shingled": {HardDisk}, "band": {HardDisk}, "region": {HardDisk},

	"dies": {Flash}, "eraseTime": {Flash}, "blockPages": {Flash}, "fastRegion": {Flash}, "fastProgram": {Flash},
	"overProvision": {Flash}, "compresses": {Flash}, "cycles": {Flash}, "channels": {Flash}, "channelRate": {Flash},

	"readTime": {Flash, LowLatency}, "programTime": {Flash, LowLatency}, "units": {LowLatency},

	"writeCaching": {HardDisk, Flash}, "zone": {HardDisk, Flash}, "openZones": {HardDisk, Flash},
	"writeBuffer": {HardDisk},
}

// besideOf is what a key of members needs beside it, and whether it is there.
var besideOf = map[string]struct {
	needs string
	has   func(Group) bool
}{
	"writeBuffer": {"writeCaching: true", func(g Group) bool { return g.WriteCaching }},
	"band":        {"shingled: true", func(g Group) bool { return g.Shingled }},
	"region":      {"shingled: true", func(g Group) bool { return g.Shingled }},
	"fastProgram": {"fastRegion: its size", func(g Group) bool { return g.FastRegion > 0 }},
	"channelRate": {"channels: how many there are", func(g Group) bool { return g.Channels > 0 }},
	"openZones":   {"zone: the size of each", func(g Group) bool { return g.Zone > 0 }},
}

// keysOfFaults are the keys of each kind of fault, beside its time.
var keysOfFaults = map[FaultKind][]string{
	MemberFails: {"member"}, ShelfFails: {"shelf"}, MemberSlows: {"member", "factor", "for"}, MemberErrors: {"member", "share", "extra", "for"},
	BitsRot: {"member", "count"}, Scrub: {"rate"}, RebuildBegin: {"member", "rate"}, PowerCut: {},
	CacheFails: {"cache", "for"}, CacheReturns: {"cache"}, BatteryFails: {"cache", "for"}, BatteryReturns: {"cache"},
	PathDrops: {"path", "for", "count", "every"}, PathReturns: {"path"}, PathLoses: {"path", "share", "for"}, ControllerFails: {"controller", "for"}, ControllerReturns: {"controller"}, FailOver: {"for"}, ReplicaStops: {"for"}, Spike: {"for", "extra"},
	Transport: {"perByte", "perOp"}, Snapshot: {}, SnapshotGoes: {}, TierLeaves: {},
}

// Idle reports why a key that a file states means nothing in this array; "" where it is used. Keys
// are named as in errors, such as "members[0].rpm", and are told of where they say something: what
// they say is neither zero nor false.
func (d Description) Idle(key string) string {
	part, name := cutKey(key)
	switch at, list := numbered(part); {
	case list == "members" && at < len(d.Members):
		return d.Members[at].idle(name)
	case part == "tier.members" && d.Tier != nil:
		return d.Tier.Members.idle(name)
	case list == "tier.lower" && strings.HasSuffix(part, "].members") && d.Tier != nil && at < len(d.Tier.Lower):
		return d.Tier.Lower[at].Members.idle(name)
	case list == "caches" && at < len(d.Caches):
		return d.Caches[at].idle(name)
	case list == "faults" && at < len(d.Faults):
		return d.Faults[at].Idle(name)
	case part == "controller" && (name == "takeover" || name == "owner") && d.Controller.Count < 2:
		return "it is of controllers of which one takes over from another; add count: how many there are"
	case part == "controller" && (name == "mirrorRate" || name == "mirrorTime") && !slices.ContainsFunc(d.Caches, func(c Cache) bool { return c.Mirrored }):
		return "it is of what goes from one controller's memory to another's, and no cache is mirrored; add mirrored: true to one"
	case key == "replica.journal" && d.Replica != nil && d.Replica.Mode != Asynchronous:
		return "nothing waits to be copied where every write is; leave it out, or set mode: asynchronous"
	case part == "link" && (name == "window" || name == "loss") && d.Link.Rate > 0 && d.Link.RoundTrip == 0:
		return "what is acknowledged at once waits for nothing; add roundTrip: how long that takes"
	case part == "link" && (name == "perByte" || name == "perOp" || name == "combined" || name == "failover") && d.Link.Rate == 0:
		return "it is of a link, and there is none; add rate: what the line carries"
	}
	return ""
}

// cutKey splits a key into the part it stands in and its own name.
func cutKey(key string) (part, name string) {
	cut := strings.LastIndexByte(key, '.')
	return key[:max(cut, 0)], key[cut+1:]
}

// numbered is a part of a list by its number, and the list; of what is no such part the list is
// "".
func numbered(part string) (at int, list string) {
	list, rest, found := strings.Cut(part, "[")
	if !found {
		return 0, ""
	}
	rest, _, _ = strings.Cut(rest, "]")
	at, err := strconv.Atoi(rest)
	if err != nil {
		return 0, ""
	}
	return at, list
}

func (g Group) idle(key string) string {
	if media, some := keysOfMedia[key]; some && !slices.Contains(media, g.Medium) {
		if key == "writeBuffer" && g.Medium == Flash {
			return "an ssd holds as much as its dies program at a time; leave it out"
		}
		return fmt.Sprintf("it is of a %s, and these are %s; leave it out", orWords(media), g.Medium)
	}
	if beside, some := besideOf[key]; some && !beside.has(g) {
		return "it means nothing alone; add " + beside.needs
	}
	return ""
}

func (c Cache) idle(key string) string {
	switch key {
	case "dirtyLimit", "protected", "log":
		if c.Mode != WriteBack {
			return fmt.Sprintf("it is about what is dirty, and a %s cache keeps nothing dirty; leave it out, or set mode: write-back", c.Mode)
		}
	case "index":
		if c.Devices == 0 {
			return "it is of a cache of devices, and this one is memory; leave it out, or say how many devices"
		}
	}
	return ""
}

// Idle reports why a key means nothing for this kind of fault; "" where it is used.
func (f Fault) Idle(key string) string {
	used, known := keysOfFaults[f.Kind]
	if !known || key == "kind" || key == "at" || slices.Contains(used, key) {
		if key == "every" && f.Count < 2 {
			return "it is how often a path drops that drops more than once; add count: how often"
		}
		return ""
	}
	if len(used) == 0 {
		return fmt.Sprintf("%q takes nothing but a time; leave it out", f.Kind)
	}
	return fmt.Sprintf("%q takes %s; leave it out", f.Kind, strings.Join(used, ", "))
}

// orWords are media as alternatives.
func orWords(media []Medium) string {
	words := make([]string, len(media))
	for i, m := range media {
		words[i] = string(m)
	}
	return strings.Join(words, " or ")
}
