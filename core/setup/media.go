package setup

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/mechanics"
	"patientheron/core/quantity"
)

// mediaCeilings are those of the members together: of their interfaces and of the
// media in them.
func (s Setup) mediaCeilings(u Use) (hops []Hop) {
	groups := s.Count("media")
	members, allKnown := s.members()
	if !allKnown {
		members = max(members, float64(groups))
	}
	missing := s.Number("layout.missing")
	alive := members - missing
	name := fmt.Sprintf("%g members", alive)
	if alive == 1 {
		name = "1 member"
	}
	unknown := func(why string) []Hop { return append(hops, hop(name, memberStation, 0, why)) }
	if !(alive >= 1) || members > 4096 {
		return unknown("not known; what is told of the members does not fit together")
	}
	if u.Reads > 0 && s.reachesEmpty(u) && (s.Text("pool.unit") != "" || s.Text("tier.size") != "") {
		return unknown("not known; what holds nothing is read without the members")
	}
	g := s.geometry(u)
	var all []medium
	for i := range groups {
		at := fmt.Sprintf("media[%d].", i)
		m := s.medium(u, at)
		if u.Long {
			m.wear(s, u, at, s.Text(at+"kind"))
		}
		if u.runs > 0 {
			m.write.piece *= u.runs
		}
		if m.unknownForLong {
			return unknown(unknownForLong)
		}
		if m.lacks != "" {
			return unknown("not known; tell " + m.lacks + ", or measure the members alone with 'heron look --measure-members'")
		}
		all = append(all, m)
	}
	reads, writes, data := s.costs(g, u)
	if g.parity() > 0 && u.Sequential && s.Text("media[0].kind") == "hard disk" && data > 0 {
		reads.readBytes *= alive / data // parity, and room that is kept free, pass under the heads as well
	}
	total := reads.times(float64(u.Reads)).plus(writes.times(float64(1 - u.Reads)))
	pieces := float64(max(u.Depth, 0)) * max(total.reads, total.writes, 1) // that may wait at all members
	for i := range all {
		among := pieces / alive
		switch {
		case u.Depth == 0:
			among = math.Inf(1)
		case uneven(all): // it gathers where it takes longest
			among = pieces / all[i].count
		}
		all[i].settle(u, among)
	}
	rate, formula := g.rate(u, all, reads, writes, alive)
	if !(rate > 0) || math.IsInf(rate, 0) {
		return unknown("not known; what is told of the members does not fit together")
	}
	return append(hops, hop(name, memberStation, quantity.OpRate(rate), formula))
}

// geometry is the layout of the members.
func (s Setup) geometry(u Use) geometry {
	members, allKnown := s.members()
	if !allKnown {
		members = max(members, float64(s.Count("media")))
	}
	return geometry{level: s.level(), members: int(members), missing: int(s.Number("layout.missing")), chunk: int64(s.Bytes("layout.chunk")), gathers: s.gathers(u)}
}

// costs is what a read and a write ask of the members, and how many of those hold data.
func (s Setup) costs(g geometry, u Use) (reads, writes cost, data float64) {
	if stripe := s.Number("layout.stripe"); stripe > float64(g.parity()) && stripe < float64(g.members) && g.parity() > 0 {
		reads, writes = g.declustered(int(stripe), u)
		return reads, writes, (float64(g.members) - s.Number("layout.spares")) * (stripe - float64(g.parity())) / stripe
	}
	return g.cost(int64(u.Block), false, u.Sequential), g.cost(int64(u.Block), true, u.Sequential), float64(g.members - g.parity())
}

// level is how the members are put together. What btrfs calls raid1 keeps two copies of
// everything, on whichever members.
func (s Setup) level() string {
	if level := s.Text("layout.level"); level != "raid1" || s.Text("layout.madeBy") != "btrfs" {
		return level
	}
	return "raid10"
}

// uneven reports whether some members are slower than others.
func uneven(all []medium) bool {
	return slices.ContainsFunc(all, func(m medium) bool { return m.slow != all[0].slow || (m.disk == nil) != (all[0].disk == nil) })
}

// gathers reports whether somebody puts the writes of a stream together: arrays do as
// long as several are under way, the system's own and caches that keep writes always.
func (s Setup) gathers(u Use) bool {
	if s.Text("layout.madeBy") != "" || u.Depth != 1 {
		return true
	}
	for i := range s.Count("cache") {
		if s.Text(fmt.Sprintf("cache[%d].mode", i)) == "write-back" {
			return true
		}
	}
	return false
}

// medium is what one member of a group can do alone: the time that pieces and bytes
// take.
type medium struct {
	count float64
	size  float64
	slow  float64
	lacks string // the key of the fact that is missing

	unknownForLong bool // what its writes come to in the long run

	read, write side
	line        float64 // seconds a byte of the interface, which reads and writes share
	channel     float64 // seconds a byte of the channels of an SSD, by pages; 0 where they carry anything
	carried     float64 // pages that they carry for each that is written
	amplified   float64 // pages programmed for each that is written, where that is worked out
	overlaps    bool    // pieces and bytes are worked on at the same time, as in an SSD

	disk     *mechanics.Disk // where the mechanics are known
	queue    float64
	nearest  float64 // of so many it serves the one that is nearest
	buffer   float64
	caches   bool // it takes writes into memory, and writes them in an order of its own
	shingled bool
	regions  []mechanics.Region
	span     float64 // bytes of one member that are used
}

// side is what reads, or writes, take.
type side struct {
	piece float64 // seconds of each
	byte  float64 // and of each byte
}

// medium reads what is known of a group.
func (s Setup) medium(u Use, at string) medium {
	m := medium{count: max(s.Number(at+"count"), 1), size: float64(s.Bytes(at + "size")), slow: max(s.Number(at+"slow"), 1)}
	isDisk := s.Text(at+"kind") == "hard disk"
	share := 1.0
	if whole := m.size * s.wholeMembers(); u.Span > 0 && whole > float64(u.Span) {
		share = float64(u.Span) / whole
	}
	m.span = share * m.size
	m.regions = regions(share, u)
	if isDisk && s.Number(at+"rpm") > 0 && s.Seconds(at+"seekAverage") > 0 && m.size > 0 {
		m.disk = &mechanics.Disk{
			Capacity: quantity.Bytes(m.size), RPM: s.Number(at + "rpm"), SeekTrack: s.Seconds(at + "seekTrack"), SeekAverage: s.Seconds(at + "seekAverage"),
			SeekFull: s.Seconds(at + "seekFull"), OuterRate: s.ByteRate(at + "readRate"), InnerRate: s.ByteRate(at + "innerRate"), Overhead: s.Seconds(at + "overhead"),
		}
		*m.disk = m.disk.Completed()
		m.caches, m.shingled = s.Is(at+"writeCache"), s.Is(at+"shingled")
		m.queue, m.buffer = max(s.Number(at+"queue"), 1), float64(s.Bytes(at+"buffer"))
		m.read.byte = m.slow / float64(m.disk.OuterRate)
		m.write = m.read
	} else {
		m.told(s, u, at, isDisk, share)
		m.inside(s, u, at)
		if s.Text(at+"kind") == "ssd" && s.reachesEmpty(u) {
			m.read = side{} // what holds nothing is read without its dies
		}
	}
	if rate := float64(s.ByteRate(at + "interface")); rate > 0 {
		m.line = 1 / rate
	}
	return m
}

// reachesEmpty reports whether a use reaches what holds nothing at first.
func (s Setup) reachesEmpty(u Use) bool {
	empty := s.Number("volume.empty")
	room, _ := s.Usable()
	return empty > 0 && (u.Span == 0 || room == 0 || float64(u.Span) > float64(room)*(1-empty))
}

// inside takes the dies and the channels of an SSD apart, where both are known: they are at work on
// different pages at a time, so that each is a limit of its own.
func (m *medium) inside(s Setup, u Use, at string) {
	channels, rate := s.Number(at+"channels"), float64(s.ByteRate(at+"channelRate"))
	dies, read, program := s.Number(at+"dies"), float64(s.Seconds(at+"readTime")), float64(s.Seconds(at+"programTime"))
	if channels == 0 || rate == 0 || dies == 0 || read == 0 || program == 0 || s.Is(at+"compresses") {
		return
	}
	if fast := float64(s.Seconds(at + "fastProgram")); s.Bytes(at+"fastRegion") > 0 && fast > 0 {
		program = min(program, fast)
	}
	m.channel, m.carried = 1/(channels*rate), 1
	of := func(time float64) side {
		each := m.slow * time / dies
		if u.Sequential {
			return side{byte: each / pageSize}
		}
		return side{each, each / pageSize}
	}
	m.read, m.write = of(read), of(program)
}

// wholeMembers is the number of members of all groups.
func (s Setup) wholeMembers() float64 {
	members, _ := s.members()
	return max(members, 1)
}

// arm is the share of a random operation's time on a hard disk that is spent seeking
// and so shrinks with the span, by the square root of the distance (Ruemmler and
// Wilkes 1994).
const arm = 2.0 / 3

// told takes the rates that somebody told or measured.
func (m *medium) told(s Setup, u Use, at string, isDisk bool, share float64) {
	m.overlaps = !isDisk
	one := func(random, sequential string) (t side, lacks string) {
		streaming, rate := float64(s.ByteRate(at+sequential)), float64(s.OpRate(at+random))
		if streaming > 0 {
			t.byte = m.slow / streaming
		}
		switch {
		case u.Sequential && streaming == 0:
			return t, at + sequential
		case u.Sequential:
			return t, ""
		case rate == 0:
			return t, at + random
		}
		t.piece = m.slow / rate
		switch {
		case isDisk:
			// The rate is of operations of 4 KiB; what goes beyond that streams.
			t.piece = max(t.piece*(1-arm+arm*math.Sqrt(share))-4096*t.byte, 0)
		case streaming == 0:
			t.byte = t.piece / 4096
		}
		return t, ""
	}
	var lacksReads, lacksWrites string
	m.read, lacksReads = one("randomReadRate", "readRate")
	m.write, lacksWrites = one("randomWriteRate", "writeRate")
	switch {
	case u.Reads > 0 && lacksReads != "":
		m.lacks = lacksReads
	case u.Reads < 1 && lacksWrites != "":
		m.lacks = lacksWrites
	case u.Reads == 0 && lacksReads != "": // a small write to parity has to read first
		m.read = m.write
	}
}

// regions are the parts of a member that are used.
func regions(share float64, u Use) []mechanics.Region {
	if u.HotSpan <= 0 || u.HotSpan >= 1 || u.HotAccesses <= 0 {
		return []mechanics.Region{{From: 0, To: share, Weight: 1}}
	}
	cut := share * float64(u.HotSpan)
	return []mechanics.Region{{From: 0, To: cut, Weight: float64(u.HotAccesses)}, {From: cut, To: share, Weight: max(float64(1-u.HotAccesses), 1e-6)}}
}

// cachedWrites is how many writes a drive keeps in its memory to choose from.
const cachedWrites = 1024

// settle works out what a piece takes when so many wait at a time.
func (m *medium) settle(u Use, among float64) {
	if m.disk == nil || u.Sequential {
		return
	}
	waiting := min(max(among, 1), m.queue)
	model := mechanics.New(*m.disk)
	positioning := model.Positioning(m.regions, waiting) / 1e9
	hit := 0.0
	if m.buffer > 0 && m.span > 0 {
		hit = min(m.buffer/m.span, 1)
	}
	m.nearest = waiting
	m.read.piece = m.slow * (float64(m.disk.Overhead) + (1-hit)*positioning)
	if m.caches {
		positioning = model.Positioning(m.regions, max(waiting, cachedWrites)) / 1e9
	}
	m.write.piece = m.slow * (float64(m.disk.Overhead) + positioning)
	if m.shingled { // it takes them in the order in which they come, as long as there is room
		m.write.piece = 0
	}
}

// time is the seconds that a member spends on a cost: its media or its interface,
// whichever takes longest.
func (m *medium) time(c cost) float64 { return max(m.onMedia(c), m.onLine(c), m.onChannels(c)) }

// onChannels is what the channels of an SSD take, which carry whole pages.
func (m *medium) onChannels(c cost) float64 {
	return (max(c.readBytes, c.reads*pageSize) + m.carried*max(c.writtenBytes, c.writes*pageSize)) * m.channel
}

func (m *medium) onMedia(c cost) float64 {
	if m.overlaps {
		return max(c.reads*m.read.piece, c.readBytes*m.read.byte) + max(c.writes*m.write.piece, c.writtenBytes*m.write.byte)
	}
	return c.reads*m.read.piece + c.readBytes*m.read.byte + c.writes*m.write.piece + c.writtenBytes*m.write.byte
}

func (m *medium) onLine(c cost) float64 { return (c.readBytes + c.writtenBytes) * m.line }

// rate is the most operations a second that the members together can do, and how that
// is worked out.
func (g geometry) rate(u Use, all []medium, reads, writes cost, alive float64) (float64, string) {
	r, w := float64(u.Reads), float64(1-u.Reads)
	mean := reads.times(r).plus(writes.times(w))
	slowest := slices.MaxFunc(all, func(x, y medium) int {
		if x.time(mean) < y.time(mean) {
			return -1
		}
		return 1
	})
	switch {
	case g.level == "raid1" || g.level == "raid10":
		return g.mirrored(u, all, reads, writes, alive)
	case g.level == "concatenation" || g.level == "single":
		return concatenated(u, all, mean)
	}
	return alive / slowest.time(mean), fmt.Sprintf("%g × 1 s ÷ (%s)", alive, mean.words(&slowest))
}

// mirrored is the rate of sets of copies: of each, reads go wherever there is time
// left by the writes, which all of them do. The set that is slowest limits.
func (g geometry) mirrored(u Use, all []medium, reads, writes cost, alive float64) (float64, string) {
	sets, copies := 1.0, int(alive)
	if g.level == "raid10" {
		sets, copies = float64(g.members/2), 2
	}
	one := writes.times(1 / float64(max(copies, 1))) // of the copies
	var members []*medium
	for i := range all {
		for range int(all[i].count) {
			members = append(members, &all[i])
		}
	}
	lowest := math.Inf(1)
	for first := 0; first+copies <= len(members) && copies > 0; first += copies {
		set := members[first : first+copies]
		for _, resource := range []func(*medium, cost) float64{(*medium).onMedia, (*medium).onLine, (*medium).onChannels} {
			lowest = min(lowest, sets*rateOfSet(set, resource, float64(u.Reads), reads, one))
		}
	}
	return lowest, fmt.Sprintf("%g × %d copies × 1 s ÷ (%s)", sets, copies, reads.times(float64(u.Reads)).plus(writes.times(float64(1-u.Reads))).words(&all[0]))
}

// rateOfSet is the rate at which one resource of a set of copies can work: with X
// operations a second, of which each member writes all that is written, the reads
// that fit in the rest of its time add up to those of X.
func rateOfSet(set []*medium, resource func(*medium, cost) float64, share float64, reads, write cost) float64 {
	sum, busy, longest, free := 0.0, 0.0, 0.0, false
	for _, m := range set {
		tr, tw := resource(m, reads), resource(m, write)
		free = free || tr == 0 // reads ask nothing of it
		sum += 1 / tr
		busy += tw / tr
		longest = max(longest, tw)
	}
	rate := sum / (share + (1-share)*busy)
	if free {
		rate = math.Inf(1)
	}
	if share < 1 && longest > 0 {
		rate = min(rate, 1/((1-share)*longest))
	}
	return rate
}

// concatenated is the rate of members one behind the other: a stream is on one of
// them, and random accesses go to each by its size.
func concatenated(u Use, all []medium, mean cost) (float64, string) {
	fastest := slices.MinFunc(all, func(x, y medium) int {
		if x.time(mean) < y.time(mean) {
			return -1
		}
		return 1
	})
	if u.Sequential && u.Streams <= 1 {
		return 1 / fastest.time(mean), fmt.Sprintf("1 s ÷ (%s), one member at a time", mean.words(&fastest))
	}
	whole, lowest := 0.0, math.Inf(1)
	for _, m := range all {
		whole += m.count * max(m.size, 1)
	}
	span := whole
	if u.Span > 0 && float64(u.Span) < whole {
		span = float64(u.Span)
	}
	at := 0.0
	used := 0.0
	for _, m := range all {
		for range int(m.count) {
			if share := min(max(span-at, 0), max(m.size, 1)) / span; share > 0 {
				used++
				if !u.Sequential {
					lowest = min(lowest, 1/(share*m.time(mean)))
				}
			}
			at += max(m.size, 1)
		}
	}
	if u.Sequential {
		return min(used, float64(u.Streams)) / fastest.time(mean), fmt.Sprintf("%g streams × 1 s ÷ (%s)", min(used, float64(u.Streams)), mean.words(&fastest))
	}
	return lowest, fmt.Sprintf("%g members used × 1 s ÷ (%s)", used, mean.words(&fastest))
}

// words say what an operation costs a member: the time of its media, or of its
// interface where that takes longer.
func (c cost) words(m *medium) string {
	if on := m.onChannels(c); on > max(m.onMedia(c), m.onLine(c)) {
		return fmt.Sprintf("%s over channels of %s", quantity.Bytes(on/m.channel), quantity.ByteRate(1/m.channel))
	}
	if line := m.onLine(c); line > m.onMedia(c) {
		return fmt.Sprintf("%s over an interface of %s", quantity.Bytes(c.readBytes+c.writtenBytes), quantity.ByteRate(1/m.line))
	}
	var parts []string
	add := func(pieces, bytes float64, t side, verb string) {
		if pieces <= 0 {
			return
		}
		text := verb
		if math.Abs(pieces-1) > 0.005 {
			text = fmt.Sprintf("%.3g %ss", pieces, verb)
		}
		switch {
		case m.disk == nil && t.piece > 0: // rates that were told
			each := t.piece + t.byte*bytes/pieces
			if m.overlaps {
				each = max(t.piece, t.byte*bytes/pieces)
			}
			text += fmt.Sprintf(" at %s", quantity.OpRate(1/each))
		case t.piece > 0:
			text += fmt.Sprintf(" of %s", quantity.Seconds(t.piece))
			if m.nearest > 1 {
				text += fmt.Sprintf(" (nearest of %.3g)", m.nearest)
			}
			if bytes*t.byte > pieces*t.piece/100 {
				text += fmt.Sprintf(" with %s at %s", quantity.Bytes(bytes), quantity.ByteRate(1/t.byte))
			}
		case t.byte > 0:
			text += fmt.Sprintf(" with %s at %s", quantity.Bytes(bytes), quantity.ByteRate(1/t.byte))
		}
		parts = append(parts, text)
	}
	add(c.reads, c.readBytes, m.read, "read")
	add(c.writes, c.writtenBytes, m.write, "write")
	words := strings.Join(parts, " + ")
	if m.amplified > 1.005 && c.writes > 0 {
		words += fmt.Sprintf(", each page programmed %s times", quantity.Digits(m.amplified))
	}
	return words
}
