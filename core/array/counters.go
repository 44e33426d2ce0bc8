package array

import (
	"fmt"

	"patientheron/core/setup"
)

// counters count what has no better place.
type counters struct {
	operations       int64
	memberOperations int64
	faultsIgnored    int64 // rebuilds of what was well by then, or beyond help
	resent           int64 // operations of hosts that were lost on a path
	recovered        int64 // reads of a member that others stood in for
	rotServed        int64 // rotten places that were read, and nobody knew
	rotFound         int64 // by a scrub
	rotRepaired      int64
	segmentsLost     int64 // of connections
	zonesRefused     int64 // writes that a zone could not take
	answered         [kinds]int64
	spent            [kinds][placeCaches + mostCaches]int64 // nanoseconds of the operations of hosts, by where
}

// Where the time of an operation of a host goes. All of it goes somewhere.
const (
	placeWay        int8 = iota // lines, cores and distance
	placeController             // waiting for the controller and passing it
	placeLimit                  // held back by the limits of the volume, or a controller that fails over
	placeMembers                // or on the way to and between them
	placeFull                   // waiting for room in a cache
	placeCopy                   // on the members, to copy what a snapshot holds or fill a new unit
	placeLookUp                 // on the members, for what memory does not hold of an index
	placeReducing               // in the processors that reduce what is written
	placeFar                    // waiting for the far copy when the near one is safe, or for room to note what goes there
	placeCopying                // on the way for copies inside the array
	placeCaches                 // and the following: answered by a cache
)

// mostCaches is the number of caches that an array may have.
const mostCaches = 4

// spend accounts for the time since an operation came to where it is, and notes where
// it goes next.
func (a *Array) spend(j *job, next int8) {
	if j.purpose == forHost {
		a.counters.spent[j.kind][j.place] += a.now - j.since
		j.since, j.place = a.now, next
	}
}

// spentNames are what the places are called among the counters.
func (a *Array) spentNames() []string {
	names := []string{"under way", "in the controller", "held back", "on the members", "waiting for room", "copying first", "looking up", "being reduced", "on the far copy", "being copied"}
	for _, c := range a.caches {
		names = append(names, "in "+c.spec.Name)
	}
	return names
}

// Counter is one figure from inside the array.
type Counter struct {
	Name  string
	Unit  string // "share", "bytes", "bytes per second", "operations" or "seconds"
	Value float64
	Sum   bool    // it is what happened since then; otherwise a level, or a mean
	Of    float64 // of a mean: the operations, bytes or seconds that it is one of
}

// Inside tells what happened inside since the counters of before, which is
// what Totals gave at the time then.
func (a *Array) Inside(before Totals) []Counter {
	now := a.Totals()
	over := float64(now.At - before.At)
	if over <= 0 {
		return nil
	}
	var list []Counter
	add := func(name, unit string, value float64) {
		list = append(list, Counter{Name: name, Unit: unit, Value: value})
	}
	sum := func(name, unit string, value float64) {
		list = append(list, Counter{Name: name, Unit: unit, Value: value, Sum: true})
	}
	mean := func(name, unit string, value, of float64) {
		if of > 0 { // there is none of nothing
			list = append(list, Counter{Name: name, Unit: unit, Value: value / of, Of: of})
		}
	}
	busy := func(name string, now, before float64) {
		mean(name+" busy", "share", min(max(now-before, 0), over)/1e9, over/1e9)
	}
	for i := range now.Busy {
		busy(fmt.Sprintf("member %d", i), now.Busy[i], before.Busy[i])
		if now.Lines[i] > 0 {
			busy(fmt.Sprintf("member %d interface", i), now.Lines[i], before.Lines[i])
		}
		if now.Channels[i] > 0 {
			busy(fmt.Sprintf("member %d channels", i), now.Channels[i], before.Channels[i])
		}
		if m := a.members[i]; m.rebuild != nil {
			add(fmt.Sprintf("member %d rebuilt", i), "share", float64(m.rebuild.upTo)/float64(m.rebuild.size))
			add(fmt.Sprintf("member %d rebuild", i), "bytes per second", float64(max(now.Rebuilt[i]-before.Rebuilt[i], 0))/over*1e9)
		}
		if d := a.members[i].disk; d != nil && d.shingled != nil {
			add(fmt.Sprintf("member %d region in use", i), "share", float64(d.shingled.sum)/float64(d.shingled.size))
		}
		if d := a.members[i].disk; d != nil && d.cache != nil && d.cache.lost > 0 {
			add(fmt.Sprintf("member %d lost", i), "bytes", float64(d.cache.lost))
		}
		if f := a.members[i].flash; f != nil && f.volatile != nil && f.volatile.lost > 0 {
			add(fmt.Sprintf("member %d lost", i), "bytes", float64(f.volatile.lost))
		}
	}
	if programmed := programmed(before, now); programmed > 0 {
		sum("SSDs programmed", "bytes", programmed)
	}
	if worn := a.worn(now); worn > 0 {
		add("most worn SSD", "share", worn)
	}
	for i, c := range a.caches {
		name := c.spec.Name
		hits, misses := now.Hits[i]-before.Hits[i], now.Misses[i]-before.Misses[i]
		mean(name+" hit rate", "share", float64(hits), float64(hits+misses))
		busy(name, now.Caches[i], before.Caches[i])
		add(name+" in use", "share", ratio(float64(c.held()), float64(c.capacity)))
		add(name+" dirty", "bytes", float64(c.soiled+c.passing))
		sum(name+" destaged", "bytes", float64(now.Written[i]-before.Written[i]))
		add(name+" stalled", "operations", float64(len(c.stalled)))
		if c.skipped > 0 {
			add(name+" not kept", "bytes", float64(c.skipped))
		}
		if c.lost > 0 {
			add(name+" lost", "bytes", float64(c.lost))
		}
	}
	if t := a.thin; t != nil {
		add("pool in use", "share", t.used())
		sum("pool copied", "bytes", float64(now.Copied-before.Copied))
		if len(t.held) > 0 {
			add("pool held by snapshots", "bytes", float64(len(t.held))*float64(t.unit))
		}
		if r := t.reduced; r != nil {
			if l := a.described.Thin; l.Throughput > 0 {
				busy("reduction", now.Reduction, before.Reduction)
			}
			mean("pool stored of what was written", "share", float64(now.Kept-before.Kept), float64(now.Taken-before.Taken))
			sum("pool had already", "bytes", float64(now.Repeated-before.Repeated))
			if r.looked > 0 {
				sum("looks at the index on the members", "operations", float64(now.Looked-before.Looked))
			}
		}
		if t.refused > 0 {
			add("writes refused by a full pool", "operations", float64(t.refused))
		}
	}
	if t := a.tier; t != nil {
		all := now.Slow - before.Slow
		for i, count := range now.Fast {
			all += count - before.Fast[i]
		}
		for i := range t.parts {
			add(setup.TierName(i)+" in use", "share", ratio(float64(t.parts[i].used(t)), float64(t.parts[i].slots)))
			mean(setup.TierName(i)+" answered", "share", float64(now.Fast[i]-before.Fast[i]), float64(all))
		}
		sum("tier moved", "bytes", float64(now.Moved-before.Moved))
	}
	for i := range now.Shelves {
		busy(fmt.Sprintf("shelf %d", i), max(now.Shelves[i][0]-before.Shelves[i][0], now.Shelves[i][1]-before.Shelves[i][1]), 0)
	}
	serving := max(a.serving(a.volume.owner), 0)
	for i := range min(len(now.Controllers), len(before.Controllers)) {
		if worked := now.Controllers[i] - before.Controllers[i]; i == serving {
			busy("controller", worked, 0)
		} else if now.Controllers[i] > 0 { // for others
			mean(fmt.Sprintf("controller %d in use", i), "share", min(max(worked, 0), over)/1e9, over/1e9)
		}
	}
	if a.copier.perByte > 0 {
		busy("copies", now.Copies, before.Copies)
	}
	if a.mirror != nil {
		busy("mirror", now.Mirror, before.Mirror)
	}
	if a.described.Limits.any() {
		busy("limit", now.Limit, before.Limit)
	}
	for i := range now.Links {
		busy(fmt.Sprintf("link %d", i), max(now.Links[i][0]-before.Links[i][0], now.Links[i][1]-before.Links[i][1]), 0)
		if now.Links[i][2] > 0 {
			busy(fmt.Sprintf("link %d transport", i), now.Links[i][2], before.Links[i][2])
		}
	}
	for i := range now.Windows {
		if now.Windows[i] == [2]float64{} {
			continue // nothing limits what is under way
		}
		busy(fmt.Sprintf("window %d", i), max(now.Windows[i][0]-before.Windows[i][0], now.Windows[i][1]-before.Windows[i][1]), 0)
	}
	for i := range now.Hosts {
		if l := a.described.Link; l.Slot > 0 {
			busy(fmt.Sprintf("slot %d", i), max(now.Hosts[i][0]-before.Hosts[i][0], now.Hosts[i][1]-before.Hosts[i][1]), 0)
		}
		if l := a.described.Link; l.OwnDisk > 0 {
			busy(fmt.Sprintf("own disk %d", i), now.Hosts[i][2], before.Hosts[i][2])
		}
	}
	if r := a.far; r != nil && r.line.perByte > 0 && (!r.asynchronous || r.journal > 0) {
		busy("far line", now.FarHolds, before.FarHolds)
	}
	if r := a.far; r != nil && r.asynchronous {
		mean("far line in use", "share", min(max(now.Far-before.Far, 0), over)/1e9, over/1e9)
		add("far copy behind", "bytes", float64(r.lagging(a.now)))
		add("far copy lag", "seconds", float64(r.lag(a.now)))
	}
	for i, n := range now.Neighbours {
		name := "neighbour " + a.neighbours[i].spec.Name
		count := float64(n.Answered - before.Neighbours[i].Answered)
		sum(name+" did", "operations", count)
		mean(name+" took", "seconds", (n.Took-before.Neighbours[i].Took)/1e9, count)
	}
	for _, c := range []struct {
		name  string
		count int64
	}{
		{"faults without effect", a.counters.faultsIgnored}, {"operations sent again", a.counters.resent}, {"segments lost", a.counters.segmentsLost}, {"reads recovered", a.counters.recovered}, {"rot served", a.counters.rotServed},
		{"writes refused by zones", a.counters.zonesRefused}, {"rot found", a.counters.rotFound}, {"rot repaired", a.counters.rotRepaired},
	} {
		if c.count > 0 {
			add(c.name, "operations", float64(c.count))
		}
	}
	for kind, verb := range kindNames {
		count := float64(now.Answered[kind] - before.Answered[kind])
		for place, name := range a.spentNames() {
			if spent := now.Spent[kind][place]; spent > 0 { // once some was spent there, also where none is
				mean(verb+" "+name, "seconds", float64(spent-before.Spent[kind][place])/1e9, count)
			}
		}
	}
	return list
}

// worn is how much of the programs that its pages stand is used of the SSD that is worn
// most.
func (a *Array) worn(now Totals) (most float64) {
	for i, m := range a.members {
		if m.group.Cycles > 0 {
			most = max(most, float64(now.Programmed[i])/(float64(m.group.Cycles)*m.flash.physicalBytes()))
		}
	}
	return most
}

// programmed is what all SSDs together programmed since before, cleaning included: what
// wears them out.
func programmed(before, now Totals) (bytes float64) {
	for i := range min(len(before.Programmed), len(now.Programmed)) {
		bytes += float64(now.Programmed[i] - before.Programmed[i])
	}
	return bytes
}

func ratio(part, whole float64) float64 {
	if whole == 0 {
		return 0
	}
	return part / whole
}

// Totals are running counters at one moment.
type Totals struct {
	At                    int64
	Busy, Lines, Channels []float64    // of each member, its interface and its channels, nanoseconds
	Hits, Misses, Written []int64      // of each cache; written out in bytes
	Fast                  []int64      // operations that each tier answered
	Slow, Moved           int64        // operations past the tiers; bytes they moved
	Caches                []float64    // of each cache, nanoseconds its own line was busy
	Shelves               [][2]float64 // of each, nanoseconds: to its members and from them
	Limit                 float64
	Controllers           []float64 // of each, nanoseconds
	Copies                float64   // inside the array
	Mirror                float64   // the way between them
	Far, FarHolds         float64
	Neighbours            []NeighbourTotals
	Copied                int64        // bytes of a thin volume that were written with what they left as it is
	Reduction             float64      // of the processors that reduce what is written, nanoseconds
	Taken, Kept, Repeated int64        // bytes that units came to as they were written, as they were stored, and of those that were there already
	Looked                int64        // looks at an index that memory has no room for
	Programmed            []int64      // bytes that each SSD has programmed
	Rebuilt               []int64      // bytes of each member that were made anew, in its present rebuild
	Answered              [kinds]int64 // operations of hosts
	Spent                 [kinds][placeCaches + mostCaches]int64
	Links                 [][3]float64 // of each: out, in, and the core that does the transport
	Windows               [][2]float64 // of each connection, nanoseconds that its window was in use: there and back
	Hosts                 [][3]float64 // of each: its slot, out and in, and its own disk
}

// NeighbourTotals is what a neighbour was answered, and the nanoseconds that took together.
type NeighbourTotals struct {
	Answered int64
	Took     float64
}

// Totals reads the running counters.
func (a *Array) Totals() Totals {
	t := Totals{At: a.now, Answered: a.counters.answered, Spent: a.counters.spent, Limit: a.allowances.busyUntil(a.now)}
	for _, m := range a.members {
		programmed, channels := int64(0), 0.0
		if m.flash != nil {
			programmed, channels = m.flash.programmed*pageSize, m.flash.channelTime()
		}
		t.Channels = append(t.Channels, channels)
		rebuilt := int64(0)
		if m.rebuild != nil {
			rebuilt = m.rebuild.upTo
		}
		t.Programmed, t.Rebuilt = append(t.Programmed, programmed), append(t.Rebuilt, rebuilt)
		t.Busy, t.Lines = append(t.Busy, m.busyTime(a.now)), append(t.Lines, m.line.busy)
	}
	for i := range a.controllers {
		t.Controllers = append(t.Controllers, a.controllers[i].busyUntil(a.now))
	}
	t.Copies = a.copier.busyUntil(a.now)
	if a.mirror != nil {
		t.Mirror = a.mirror.line.busyUntil(a.now)
	}
	if a.described.Shelves.Rate > 0 {
		for i := range a.shelves {
			t.Shelves = append(t.Shelves, [2]float64{a.shelves[i].out.busyUntil(a.now), a.shelves[i].in.busyUntil(a.now)})
		}
	}
	for _, c := range a.caches {
		t.Hits, t.Misses, t.Written = append(t.Hits, c.hits), append(t.Misses, c.misses), append(t.Written, c.written)
		t.Caches = append(t.Caches, c.line.busyUntil(a.now))
	}
	if a.thin != nil {
		t.Copied = a.thin.copied
		if r := a.thin.reduced; r != nil {
			t.Reduction, t.Taken, t.Kept, t.Repeated, t.Looked = r.processors.busyUntil(a.now), r.taken, r.kept, r.repeated, r.looked
		}
	}
	if a.tier != nil {
		for i := range a.tier.parts {
			t.Fast = append(t.Fast, a.tier.parts[i].answered)
		}
		t.Slow, t.Moved = a.tier.passed, a.tier.movedBytes
	}
	for _, h := range a.hosts {
		t.Hosts = append(t.Hosts, [3]float64{h.slotOut.busyUntil(a.now), h.slotIn.busyUntil(a.now), h.disk.busyUntil(a.now)})
		t.Links = append(t.Links, h.links(a.now, a.described.Link.Connections)...)
		for _, p := range h.paths {
			t.Windows = append(t.Windows, [2]float64{p.there.busyUntil(a.now), p.back.busyUntil(a.now)})
		}
	}
	for _, nb := range a.neighbours {
		t.Neighbours = append(t.Neighbours, NeighbourTotals{nb.answered, nb.took})
	}
	if a.far != nil {
		t.Far, t.FarHolds = a.far.busyUntil(a.now), a.far.holdsBack(a.now)
	}
	return t
}

// WriteAmplification is what a member programmed for each page it was asked to
// write; zero when it is no SSD or was not written to.
func (a *Array) WriteAmplification(member int) float64 {
	f := a.members[member].flash
	if f == nil || f.hostPages == 0 {
		return 0
	}
	return float64(f.programmed) / float64(f.hostPages)
}
