package setup

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

// FactField is one thing that may be known of a setup. Its key is that of a Fact
// with "[]" in the place of the number of a repeated part.
type FactField struct {
	Key     string   `json:"key"`
	Part    string   `json:"part" doc:"Heading it stands under"`
	Label   string   `json:"label"`
	Kind    string   `json:"kind" enum:"text,choice,size,throughput,rate,time,number,whole,truth"`
	Choices []string `json:"choices,omitempty"`
	Hint    string   `json:"hint,omitempty"`
}

// Fields lists all fields in the order in which they are shown.
func Fields() []FactField { return fields }

// parts are the parts of a setup in order, with their headings.
var parts = []struct{ name, label string }{
	{"media", "media"}, {"layout", "layout"}, {"volume", "volume"}, {"controller", "controller"}, {"cache", "cache"}, {"pool", "pool"}, {"tier", "tier"}, {"lowerTier", "lower tier"}, {"neighbour", "neighbour"},
	{"fileSystem", "file system"}, {"pageCache", "page cache"}, {"link", "link"}, {"transport", "transport"}, {"session", "session"}, {"counters", "counters"}, {"replication", "replication"},
	{"queue", "block queue"}, {"host", "host"}, {"power", "power"}, {"tuning", "tuning"}, {"cost", "cost"},
}

func partLabel(name string) string {
	for _, p := range parts {
		if p.name == name {
			return p.label
		}
	}
	return name
}

// free are the parts that take any name: knobs differ from product to product.
var free = []string{"session", "tuning"}

var fields = []FactField{
	{Key: "media[].kind", Label: "kind", Kind: "choice", Choices: []string{"hard disk", "ssd", "low-latency nvme", "memory"}},
	{Key: "media[].count", Label: "count", Kind: "whole"},
	{Key: "media[].size", Label: "size of each", Kind: "size"},
	{Key: "media[].model", Label: "model", Kind: "text"},
	{Key: "media[].randomReadRate", Label: "random reads", Kind: "rate", Hint: "4 KiB, of one alone, at best"},
	{Key: "media[].randomWriteRate", Label: "random writes", Kind: "rate", Hint: "4 KiB, of one alone, at best"},
	{Key: "media[].readRate", Label: "sequential reads", Kind: "throughput", Hint: "of one alone, at best"},
	{Key: "media[].writeRate", Label: "sequential writes", Kind: "throughput", Hint: "of one alone, at best"},
	{Key: "media[].interface", Label: "interface", Kind: "throughput", Hint: "what the interface of one carries"},
	{Key: "media[].channels", Label: "channels", Kind: "whole", Hint: "between the dies of an SSD and the rest of it"},
	{Key: "media[].channelRate", Label: "rate of a channel", Kind: "throughput"},
	{Key: "media[].rpm", Label: "turns a minute", Kind: "number", Hint: "of a hard disk: with the seek times its random rates are worked out"},
	{Key: "media[].seekTrack", Label: "seek to the next track", Kind: "time"},
	{Key: "media[].seekAverage", Label: "average seek", Kind: "time"},
	{Key: "media[].seekFull", Label: "seek across all", Kind: "time"},
	{Key: "media[].innerRate", Label: "sequential rate of the inner tracks", Kind: "throughput"},
	{Key: "media[].overhead", Label: "time of a command", Kind: "time"},
	{Key: "media[].queue", Label: "commands it orders by position", Kind: "whole"},
	{Key: "media[].buffer", Label: "memory that keeps what was read", Kind: "size"},
	{Key: "media[].slow", Label: "times slower than it should be", Kind: "number"},
	{Key: "media[].shingled", Label: "shingled, managed by the drive", Kind: "truth"},
	{Key: "media[].writeCache", Label: "volatile write cache", Kind: "truth"},
	{Key: "media[].writeBuffer", Label: "size of that", Kind: "size"},
	{Key: "media[].band", Label: "band", Kind: "size", Hint: "of a shingled disk"},
	{Key: "media[].region", Label: "region for what cannot be written in place", Kind: "size"},
	{Key: "media[].zone", Label: "zone", Kind: "size", Hint: "where the host manages them"},
	{Key: "media[].openZones", Label: "zones that may be written in part", Kind: "whole"},
	{Key: "media[].dies", Label: "dies", Kind: "whole"},
	{Key: "media[].units", Label: "operations at a time", Kind: "whole"},
	{Key: "media[].readTime", Label: "time of a read", Kind: "time", Hint: "of one page"},
	{Key: "media[].programTime", Label: "time of a program", Kind: "time"},
	{Key: "media[].eraseTime", Label: "time of an erase", Kind: "time"},
	{Key: "media[].overProvision", Label: "spare space as a share", Kind: "number"},
	{Key: "media[].blockPages", Label: "pages of a block", Kind: "whole"},
	{Key: "media[].cycles", Label: "programs that a page stands", Kind: "whole"},
	{Key: "media[].fastRegion", Label: "region that is written fast", Kind: "size"},
	{Key: "media[].fastProgram", Label: "time of a program there", Kind: "time"},
	{Key: "media[].compresses", Label: "compresses", Kind: "truth"},
	{Key: "layout.level", Label: "level", Kind: "choice", Choices: []string{"single", "concatenation", "raid0", "raid1", "raid10", "raid5", "raid6"}},
	{Key: "layout.chunk", Label: "chunk", Kind: "size"},
	{Key: "layout.stripe", Label: "members of a stripe", Kind: "whole", Hint: "where it is declustered: fewer than there are"},
	{Key: "layout.groups", Label: "groups side by side", Kind: "whole", Hint: "each with parity of its own: RAID 50 and 60"},
	{Key: "layout.hotSpares", Label: "spare members that take over by themselves", Kind: "whole"},
	{Key: "layout.rebuildRate", Label: "rate of making a member anew", Kind: "throughput"},
	{Key: "layout.spares", Label: "members whose room is kept free", Kind: "whole"},
	{Key: "layout.shelves", Label: "shelves", Kind: "whole", Hint: "that the members stand in, each behind an expander"},
	{Key: "layout.shelved", Label: "members in them", Kind: "choice", Choices: []string{"in order", "in turn"}},
	{Key: "layout.shelfRate", Label: "what a shelf carries", Kind: "throughput", Hint: "in each direction"},
	{Key: "layout.missing", Label: "members missing", Kind: "whole"},
	{Key: "layout.faults", Label: "what goes wrong", Kind: "text", Hint: "in virtual time"},
	{Key: "layout.madeBy", Label: "made by", Kind: "text"},
	{Key: "volume.usable", Label: "usable capacity", Kind: "size", Hint: "what is left for data; worked out of media and layout where it is not told"},
	{Key: "volume.operations", Label: "operations allowed", Kind: "rate", Hint: "a limit that the array sets to the volume"},
	{Key: "volume.throughput", Label: "throughput allowed", Kind: "throughput"},
	{Key: "volume.reads", Label: "reads allowed", Kind: "rate"},
	{Key: "volume.writes", Label: "writes allowed", Kind: "rate"},
	{Key: "volume.readRate", Label: "throughput of reads allowed", Kind: "throughput"},
	{Key: "volume.writtenRate", Label: "throughput of writes allowed", Kind: "throughput"},
	{Key: "volume.burst", Label: "burst", Kind: "time", Hint: "how much work may be saved up"},
	{Key: "volume.empty", Label: "share that holds nothing at first", Kind: "number"},
	{Key: "controller.count", Label: "controllers", Kind: "whole", Hint: "of which any carries on alone"},
	{Key: "controller.owner", Label: "owner of the volume", Kind: "whole", Hint: "among the controllers, from 0"},
	{Key: "controller.takeover", Label: "takes over within", Kind: "time"},
	{Key: "controller.mirrorRate", Label: "rate between controllers", Kind: "throughput", Hint: "by which mirrored caches are"},
	{Key: "controller.mirrorTime", Label: "time between controllers", Kind: "time"},
	{Key: "controller.copyRate", Label: "rate of offloaded copies", Kind: "throughput"},
	{Key: "controller.operations", Label: "operations at most", Kind: "rate"},
	{Key: "controller.throughput", Label: "throughput at most", Kind: "throughput"},
	{Key: "controller.policy", Label: "cache policy", Kind: "choice", Choices: []string{"write-back", "write-through"}},
	{Key: "controller.memory", Label: "memory", Kind: "size"},
	{Key: "controller.battery", Label: "battery", Kind: "truth"},
	{Key: "controller.busGeneration", Label: "PCIe generation", Kind: "whole"},
	{Key: "controller.busLanes", Label: "PCIe lanes", Kind: "whole"},
	{Key: "controller.busGenerationMost", Label: "PCIe generation it could use", Kind: "whole"},
	{Key: "controller.busLanesMost", Label: "PCIe lanes it could use", Kind: "whole"},
	{Key: "cache[].name", Label: "name", Kind: "text"},
	{Key: "cache[].medium", Label: "medium", Kind: "choice", Choices: []string{"memory", "ssd"}},
	{Key: "cache[].mode", Label: "mode", Kind: "choice", Choices: []string{"read-only", "write-back", "write-through"}},
	{Key: "cache[].size", Label: "size", Kind: "size"},
	{Key: "cache[].devices", Label: "devices", Kind: "whole"},
	{Key: "cache[].protected", Label: "protected", Kind: "truth", Hint: "what is dirty survives a power cut and one device"},
	{Key: "cache[].mirrored", Label: "mirrored", Kind: "truth", Hint: "another controller holds what is dirty as well"},
	{Key: "cache[].bypass", Label: "goes past it from", Kind: "size", Hint: "operations of at least this size"},
	{Key: "cache[].throughput", Label: "throughput", Kind: "throughput", Hint: "of what it answers"},
	{Key: "cache[].hitTime", Label: "time of a hit", Kind: "time"},
	{Key: "cache[].block", Label: "block", Kind: "size"},
	{Key: "cache[].fetch", Label: "fetches", Kind: "text"},
	{Key: "cache[].readAhead", Label: "read-ahead", Kind: "size"},
	{Key: "cache[].dirtyLimit", Label: "share that may be dirty", Kind: "number"},
	{Key: "cache[].pinned", Label: "pinned", Kind: "size", Hint: "of the beginning of the volume"},
	{Key: "cache[].index", Label: "memory for the entry of a block", Kind: "size"},
	{Key: "cache[].logThroughput", Label: "throughput of its log", Kind: "throughput"},
	{Key: "cache[].logTime", Label: "time of a flush to its log", Kind: "time"},
	{Key: "pool.unit", Label: "unit", Kind: "size", Hint: "what a thin volume takes at a time"},
	{Key: "pool.size", Label: "room", Kind: "size"},
	{Key: "pool.offered", Label: "size that hosts see", Kind: "size"},
	{Key: "pool.zeroing", Label: "writes zeros around a first write", Kind: "truth"},
	{Key: "pool.compresses", Label: "compresses", Kind: "truth"},
	{Key: "pool.deduplicates", Label: "deduplicates", Kind: "truth"},
	{Key: "pool.throughput", Label: "throughput of what reduces", Kind: "throughput"},
	{Key: "pool.index", Label: "memory for the index", Kind: "size"},
	{Key: "pool.snapshotEvery", Label: "snapshot every", Kind: "time"},
	{Key: "pool.snapshotsKept", Label: "snapshots kept", Kind: "whole"},
	{Key: "tier.size", Label: "size", Kind: "size"},
	{Key: "tier.count", Label: "members", Kind: "whole"},
	{Key: "tier.level", Label: "level", Kind: "choice", Choices: []string{"concatenation", "raid0", "raid1", "raid10", "raid5", "raid6"}},
	{Key: "tier.extent", Label: "extent", Kind: "size", Hint: "what is moved at a time"},
	{Key: "tier.every", Label: "looks for what is hot every", Kind: "time"},
	{Key: "tier.rate", Label: "rate of moving", Kind: "throughput"},
	{Key: "tier.off", Label: "stays on the members below", Kind: "text", Hint: "ranges in bytes"},
	{Key: "tier.windows", Label: "moves in", Kind: "text", Hint: "times of day"},
	{Key: "lowerTier[].size", Label: "size", Kind: "size", Hint: "of what lies between the tier and the members below"},
	{Key: "lowerTier[].count", Label: "members", Kind: "whole"},
	{Key: "lowerTier[].level", Label: "level", Kind: "choice", Choices: []string{"concatenation", "raid0", "raid1", "raid10", "raid5", "raid6"}},
	{Key: "neighbour[].name", Label: "name", Kind: "text", Hint: "another volume on the same storage"},
	{Key: "neighbour[].size", Label: "size", Kind: "size"},
	{Key: "neighbour[].owner", Label: "controller that owns it", Kind: "whole"},
	{Key: "neighbour[].writes", Label: "share of writes", Kind: "number"},
	{Key: "neighbour[].block", Label: "block", Kind: "size"},
	{Key: "neighbour[].order", Label: "order", Kind: "choice", Choices: []string{"random", "sequential"}},
	{Key: "neighbour[].depth", Label: "operations in flight", Kind: "whole"},
	{Key: "neighbour[].rate", Label: "rate", Kind: "rate"},
	{Key: "neighbour[].at", Label: "begins at", Kind: "time"},
	{Key: "neighbour[].for", Label: "goes on for", Kind: "time"},
	{Key: "fileSystem.type", Label: "type", Kind: "text"},
	{Key: "fileSystem.options", Label: "mount options", Kind: "text"},
	{Key: "fileSystem.block", Label: "block", Kind: "size"},
	{Key: "fileSystem.features", Label: "features", Kind: "text"},
	{Key: "fileSystem.group", Label: "group of blocks", Kind: "size"},
	{Key: "fileSystem.journal", Label: "journal", Kind: "size"},
	{Key: "fileSystem.commit", Label: "commits every", Kind: "time"},
	{Key: "fileSystem.memory", Label: "memory for names and attributes", Kind: "size"},
	{Key: "fileSystem.call", Label: "CPU time of a call", Kind: "time"},
	{Key: "pageCache.size", Label: "size", Kind: "size"},
	{Key: "pageCache.throughput", Label: "throughput", Kind: "throughput"},
	{Key: "pageCache.dirty", Label: "share that may wait to be written", Kind: "number"},
	{Key: "pageCache.background", Label: "share from which on it is written", Kind: "number"},
	{Key: "pageCache.age", Label: "written after", Kind: "time"},
	{Key: "pageCache.ahead", Label: "read-ahead", Kind: "size"},
	{Key: "link[].rate", Label: "line rate", Kind: "throughput", Hint: "125MB/s for one gigabit"},
	{Key: "link[].count", Label: "links", Kind: "whole"},
	{Key: "link[].hosts", Label: "hosts with such links", Kind: "whole"},
	{Key: "link[].combined", Label: "combined as", Kind: "choice", Choices: []string{"hashed bundle", "multipath"}},
	{Key: "link[].mtuHere", Label: "MTU at this end", Kind: "whole"},
	{Key: "link[].mtuThere", Label: "MTU at the other end", Kind: "whole"},
	{Key: "link[].roundTrip", Label: "round trip", Kind: "time"},
	{Key: "link[].window", Label: "window of a connection", Kind: "size", Hint: "what may be under way without an acknowledgement"},
	{Key: "link[].loss", Label: "share of segments lost", Kind: "number"},
	{Key: "link[].slot", Label: "slot that the links share", Kind: "throughput", Hint: "in each direction"},
	{Key: "link[].ownDisk", Label: "disk of the host itself", Kind: "throughput", Hint: "what is written comes from it, and what is read goes there"},
	{Key: "link[].failover", Label: "fails over after", Kind: "time"},
	{Key: "link[].interface", Label: "network interface", Kind: "text"},
	{Key: "link[].driver", Label: "driver", Kind: "text"},
	{Key: "transport.protocol", Label: "protocol", Kind: "choice", Choices: []string{"local", "iscsi", "nvme", "nfs", "smb", "other"}},
	{Key: "transport.address", Label: "address of the storage", Kind: "text"},
	{Key: "transport.options", Label: "options", Kind: "text"},
	{Key: "transport.operationTime", Label: "CPU time of an operation", Kind: "time", Hint: "on the one core that a connection has"},
	{Key: "transport.byteTime", Label: "CPU time of a byte", Kind: "time"},
	{Key: "transport.connections", Label: "connections", Kind: "whole"},
	{Key: "counters.address", Label: "address", Kind: "text", Hint: "where the storage tells its counters in the text format of Prometheus, such as http://filer.example:9264/metrics; they are read while it is measured"},
	{Key: "replication.mode", Label: "mode", Kind: "choice", Choices: []string{"synchronous", "asynchronous"}},
	{Key: "replication.kilometres", Label: "distance in km", Kind: "number"},
	{Key: "replication.rate", Label: "line rate", Kind: "throughput"},
	{Key: "replication.service", Label: "time of a write over there", Kind: "time"},
	{Key: "replication.journal", Label: "journal", Kind: "size", Hint: "what may wait to be copied before writes wait"},
	{Key: "queue.scheduler", Label: "scheduler", Kind: "text"},
	{Key: "queue.readAhead", Label: "read-ahead", Kind: "size"},
	{Key: "queue.depth", Label: "requests", Kind: "whole"},
	{Key: "queue.readsMost", Label: "reads at most", Kind: "rate", Hint: "a limit set for this process, such as io.max of its control group"},
	{Key: "queue.writesMost", Label: "writes at most", Kind: "rate"},
	{Key: "queue.readMost", Label: "read at most", Kind: "throughput"},
	{Key: "queue.writtenMost", Label: "written at most", Kind: "throughput"},
	{Key: "host.memory", Label: "memory", Kind: "size"},
	{Key: "host.cpu", Label: "CPU", Kind: "text"},
	{Key: "host.cores", Label: "cores", Kind: "whole"},
	{Key: "host.numaNodes", Label: "NUMA nodes", Kind: "whole"},
	{Key: "host.kernel", Label: "kernel", Kind: "text"},
	{Key: "host.governor", Label: "CPU frequency governor", Kind: "text"},
	{Key: "power.protected", Label: "protected", Kind: "truth", Hint: "an uninterruptible supply or the like"},
	{Key: "cost.price", Label: "price", Kind: "number"},
	{Key: "cost.yearlyPower", Label: "power in kWh a year", Kind: "number"},
	{Key: "cost.rackUnits", Label: "rack units", Kind: "number"},
}

func init() {
	for _, part := range []string{"tier", "lowerTier[]"} {
		at := slices.IndexFunc(fields, func(f FactField) bool { return f.Key == part+".level" })
		fields = slices.Insert(fields, at+1, tierFields(part)...)
	}
	for i := range fields {
		part, _, _ := strings.Cut(fields[i].Key, ".")
		fields[i].Part = partLabel(strings.TrimSuffix(part, "[]"))
	}
}

// Lookup finds the field of a key such as "media[0].count".
func Lookup(key string) (FactField, error) {
	part, index, name := splitKey(key)
	pattern := part + "." + name
	if index >= 0 {
		pattern = part + "[]." + name
	}
	if i := slices.IndexFunc(fields, func(f FactField) bool { return f.Key == pattern }); i >= 0 && index < 64 {
		return fields[i], nil
	}
	if slices.Contains(free, part) && index < 0 && name != "" && !strings.ContainsAny(name, ".[]: \n\t") && len(name) <= 80 {
		return FactField{Key: key, Part: partLabel(part), Label: name, Kind: "text"}, nil
	}
	return FactField{}, &mistake.Error{Of: ErrInvalid, Field: key, Reason: "is not a fact of a setup; there are " + known(part)}
}

// known lists what may be said about a part, or the parts.
func known(part string) string {
	var names []string
	for _, f := range fields {
		if p, _, name := splitKey(strings.Replace(f.Key, "[]", "[0]", 1)); p == part {
			names = append(names, name)
		}
	}
	if names == nil {
		for _, p := range parts {
			names = append(names, p.name)
		}
	}
	return strings.Join(names, ", ")
}

// splitKey cuts "media[1].count" into "media", 1, "count"; the index is -1
// where there is none.
func splitKey(key string) (part string, index int, name string) {
	part, name, _ = strings.Cut(key, ".")
	if head, number, found := strings.Cut(part, "["); found {
		if n, err := strconv.Atoi(strings.TrimSuffix(number, "]")); err == nil && n >= 0 {
			return head, n, name
		}
	}
	return part, -1, name
}

// compareKeys orders keys as Fields does, a repeated part as a block.
func compareKeys(a, b string) int {
	partA, indexA, nameA := splitKey(a)
	partB, indexB, nameB := splitKey(b)
	return cmp.Or(
		cmp.Compare(partRank(partA), partRank(partB)), cmp.Compare(indexA, indexB),
		cmp.Compare(nameRank(partA, nameA), nameRank(partB, nameB)), cmp.Compare(nameA, nameB))
}

func partRank(part string) int {
	for i, p := range parts {
		if p.name == part {
			return i
		}
	}
	return len(parts)
}

func nameRank(part, name string) int {
	i := slices.IndexFunc(fields, func(f FactField) bool { return f.Key == part+"."+name || f.Key == part+"[]."+name })
	if i < 0 {
		return len(fields)
	}
	return i
}

// normal brings a value into its usual form.
func (f FactField) normal(text string) (string, error) {
	write := func(value interface{ MarshalYAML() ([]byte, error) }, err error) (string, error) {
		if err != nil {
			return "", err
		}
		written, err := value.MarshalYAML()
		return string(written), err
	}
	switch f.Kind {
	case "size":
		value, err := quantity.ParseBytes(text)
		return write(value, err)
	case "throughput":
		value, err := quantity.ParseByteRate(text)
		return write(value, err)
	case "rate":
		value, err := quantity.ParseOpRate(text)
		return write(value, err)
	case "time":
		value, err := quantity.ParseSeconds(text)
		return write(value, err)
	case "number":
		value, err := parseNumber(text)
		return strconv.FormatFloat(value, 'f', -1, 64), err
	case "whole":
		value, err := strconv.ParseUint(text, 10, 31)
		if err != nil {
			return "", fmt.Errorf("%q is not a whole number", text)
		}
		return strconv.FormatUint(value, 10), nil
	case "truth":
		switch strings.ToLower(text) {
		case "yes", "true":
			return "yes", nil
		case "no", "false":
			return "no", nil
		}
		return "", fmt.Errorf("%q; yes or no", text)
	case "choice":
		if !slices.Contains(f.Choices, text) {
			return "", fmt.Errorf("%q; one of %s", text, strings.Join(f.Choices, ", "))
		}
	}
	return plain(text), nil
}

// plain keeps a text on one line and within bounds: what a system tells may be
// anything.
func plain(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\uFFFD' {
			return '·'
		}
		return r
	}, strings.ToValidUTF8(text, "·"))
	if runes := []rune(text); len(runes) > 200 {
		text = string(runes[:199]) + "…"
	}
	return text
}

func parseNumber(text string) (float64, error) {
	value, err := quantity.ParseNumber(text)
	if err != nil || value < 0 {
		return 0, fmt.Errorf("%q is not a number from zero", text)
	}
	return value, nil
}

// fewest members of each layout.
var fewest = map[string]float64{"raid1": 2, "raid10": 4, "raid5": 3, "raid6": 4}

// Validate reports the first combination of facts that cannot be, as a
// *mistake.Error.
func (s Setup) Validate() error {
	members, allKnown := s.members()
	level := s.Text("layout.level")
	switch least := fewest[level]; {
	case allKnown && members < least:
		return mistake.In(ErrInvalid, "layout.level", "%s of %g members; it needs at least %g", level, members, least)
	case allKnown && level == "raid10" && math.Mod(members, 2) != 0 && s.Text("layout.madeBy") != "btrfs":
		return mistake.In(ErrInvalid, "layout.level", "raid10 of %g members; it needs an even number", members)
	case level == "single" && allKnown && members > 1:
		return mistake.In(ErrInvalid, "layout.level", "single with %g members; say how they are laid out", members)
	case allKnown && s.Number("layout.missing") >= members && members > 0 && s.Text("layout.missing") != "":
		return mistake.In(ErrInvalid, "layout.missing", "%s of %g members; something must be left", s.Text("layout.missing"), members)
	}
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		if s.Text(at+"mode") == "write-back" && s.Is(at+"protected") && s.Text(at+"medium") == "ssd" && s.Text(at+"devices") == "1" {
			return &mistake.Error{Of: ErrInvalid, Field: at + "protected", Reason: "one device cannot protect what is dirty: when it fails, that is lost; use two, or say no"}
		}
	}
	for i := range s.Count("link") {
		at := fmt.Sprintf("link[%d].", i)
		for _, end := range []string{"mtuHere", "mtuThere"} {
			if mtu := s.Number(at + end); s.Text(at+end) != "" && (mtu < 576 || mtu > 65536) {
				return mistake.In(ErrInvalid, at+end, "%g; from 576 to 65536", mtu)
			}
		}
		if s.Text(at+"combined") != "" && s.Text(at+"count") == "1" {
			return &mistake.Error{Of: ErrInvalid, Field: at + "combined", Reason: "one link is not combined with another; say how many there are"}
		}
	}
	for i := range 1 + s.Count("lowerTier") {
		if key := TierAt(i) + "level"; s.Text(key) == "raid0" || s.Text(key) == "concatenation" {
			return &mistake.Error{Of: ErrInvalid, Field: key, Reason: s.Text(key) + " has no redundancy, and a tier holds the only copy of its data"}
		}
	}
	return nil
}

// members is how many members there are in all, and whether every group says
// so.
func (s Setup) members() (sum float64, known bool) {
	groups := s.Count("media")
	known = groups > 0
	for i := range groups {
		n := s.Number(fmt.Sprintf("media[%d].count", i))
		sum, known = sum+n, known && n > 0
	}
	return sum, known
}
