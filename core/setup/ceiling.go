package setup

import (
	"fmt"
	"math"
	"slices"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	_ "patientheron/core/workload/kinds" // any of which may be asked for
)

// Use is a kind of load, as far as ceilings need to know it.
type Use struct {
	Name       string
	Reads      quantity.Share
	Sequential bool
	Block      quantity.Bytes // on average; 0 where no bytes are moved, or the storage moves them by itself, which nothing is known to limit
	Span       quantity.Bytes // that the load works on; 0 for all there is
	Depth      int            // operations in flight; 0 for as many as help
	Streams    int            // of a sequential one; 0 for one

	Long bool // for long, and not as storage is when it is fresh

	runs float64 // commands for each write, where a cache passes neighbours on together; 0 for one

	HotAccesses quantity.Share // this share of the accesses…
	HotSpan     quantity.Share // …goes to this share of the span, at its beginning; 0 for none
}

// Uses are the four loads that every explanation shows.
var Uses = []Use{
	{Name: "small random reads", Reads: 1, Block: 4 * quantity.KiB},
	{Name: "small random writes", Reads: 0, Block: 4 * quantity.KiB},
	{Name: "large sequential reads", Reads: 1, Sequential: true, Block: quantity.MiB},
	{Name: "large sequential writes", Reads: 0, Sequential: true, Block: quantity.MiB},
}

// UseOf is the use a workload makes of a volume. An order that is neither
// random nor skewed counts as sequential, the best case for the media.
func UseOf(load workload.Spec) Use {
	u := Use{
		Name: load.Describe(), Reads: load.Reads, Block: load.MeanPiece(), Span: load.Span,
		Sequential: load.Order != workload.Random && load.Order != workload.Skewed,
		Depth:      load.Depth * load.Workers, Streams: max(load.Streams, 1) * load.Workers,
	}
	if load.ByStorage() > 0 { // its bytes go nowhere that is known
		u.Block = 0
	}
	if load.Order == workload.Skewed && load.Skew == 0 {
		u.HotAccesses, u.HotSpan = load.HotAccesses, load.HotSpan
	}
	if load.Open() {
		u.Depth = 0 // as many as the rate brings with it
	}
	return u
}

// Measured is u with the mean size of the operations that were counted.
func (u Use) Measured(operations int64, bytes quantity.Bytes) Use {
	if u.Block > 0 && operations > 0 && bytes > 0 {
		u.Block = quantity.Bytes(math.Round(float64(bytes) / float64(operations)))
	}
	return u
}

// Show prints a rate of this use in the unit that suits it: small operations
// as IOPS, large ones as throughput.
func (u Use) Show(r quantity.OpRate) string {
	if u.Sequential || u.Block >= 64*quantity.KiB {
		return quantity.ByteRate(float64(r) * float64(u.Block)).String()
	}
	return r.String()
}

// Hop is one stage on the way of an operation and the most it can pass.
type Hop struct {
	Name    string          `json:"name"`
	Station string          `json:"station" doc:"What its busy share is called among the counters from inside: the beginning of their names"`
	Rate    quantity.OpRate `json:"rate" doc:"Operations per second it can pass at most; 0 when that is not known"`
	Formula string          `json:"formula" doc:"How that is worked out, or what would have to be known"`

	Long        quantity.OpRate `json:"long" doc:"Operations per second it can pass in the long run: flash is being cleaned, the fast region of an SSD is full, and a tier holds only what it has room for. The same as rate where none of that applies; 0 when it is not known"`
	LongFormula string          `json:"longFormula,omitempty" doc:"How that is worked out, where it differs"`

	tiered   bool // the tier is in it, and no cache stands before it
	answered bool // what a cache answers in its place is counted
}

// hop is a stage that passes as much for long as at first.
func hop(name, station string, rate quantity.OpRate, formula string) Hop {
	return Hop{Name: name, Station: station, Rate: rate, Formula: formula, Long: rate}
}

// UseCeilings is the hops of a setup for one use.
type UseCeilings struct {
	Use   string         `json:"use"`
	Block quantity.Bytes `json:"blockBytes"`
	Large bool           `json:"large" doc:"Its rates are better shown as throughput"`
	Hops  []Hop          `json:"hops" doc:"From the initiator to the media, caches aside"`
	Limit string         `json:"limit" doc:"Name of the hop with the lowest ceiling; empty when none is known"`
	Long  string         `json:"longLimit,omitempty" doc:"Name of the hop with the lowest ceiling for long; empty when that is not known"`
	Next  string         `json:"next" doc:"Name of the hop that would limit after it"`
}

// Explained is the hops of s for each of Uses.
func (s Setup) Explained() []UseCeilings {
	explained := make([]UseCeilings, len(Uses))
	for i, u := range Uses {
		explained[i] = s.For(u)
	}
	return explained
}

// For is the hops of s for one use.
func (s Setup) For(u Use) UseCeilings {
	c := UseCeilings{Use: u.Name, Block: u.Block, Large: u.Sequential || u.Block >= 64*quantity.KiB, Hops: s.Ceilings(u)}
	if limit := Limit(c.Hops); limit != nil {
		c.Limit = limit.Name
		if next := Next(c.Hops, limit.Name); next != nil {
			c.Next = next.Name
		}
	}
	if limit := ForLong(c.Hops); limit != nil {
		c.Long = limit.Name
	}
	return c
}

// Limit is the hop with the lowest known ceiling; nil when none is known.
func Limit(hops []Hop) *Hop { return Next(hops, "") }

// ForLong is the hop with the lowest ceiling for long; nil when none is known, or when one that is
// known at first is not known for long: it may be the lowest then.
func ForLong(hops []Hop) *Hop {
	var lowest *Hop
	for i := range hops {
		switch h := &hops[i]; {
		case h.Rate > 0 && h.Long == 0:
			return nil
		case h.Long > 0 && (lowest == nil || h.Long < lowest.Long):
			lowest = h
		}
	}
	return lowest
}

// Next is the hop with the lowest known ceiling of those not called past.
func Next(hops []Hop, past string) *Hop {
	var lowest *Hop
	for i := range hops {
		if hops[i].Name != past && hops[i].Rate > 0 && (lowest == nil || hops[i].Rate < lowest.Rate) {
			lowest = &hops[i]
		}
	}
	return lowest
}

// The stations of hops.
const (
	linkStation       = "link"
	limitStation      = "limit"
	controllerStation = "controller"
	memberStation     = "member"
	reductionStation  = "reduction"
	shelfStation      = "shelf"
)

// Behind reports whether the hop is behind all caches, which can answer without it.
func (h Hop) Behind() bool {
	return (h.Station == memberStation || h.Station == reductionStation || h.Station == shelfStation) && !h.tiered
}

// Ceilings lists the hops of an operation from the initiator to the media with
// the most each can pass of a use for long, tiers and the drives' own buffers aside:
// those, and caches, can answer without what is behind them. A hop about
// which something but not enough is known is listed with a rate of 0.
func (s Setup) Ceilings(u Use) []Hop {
	hops := s.ceilings(u)
	if !s.wears(u) {
		return hops
	}
	u.Long = true
	long := s.ceilings(u)
	for i := range hops {
		h := &hops[i]
		at := slices.IndexFunc(long, func(l Hop) bool { return l.Name == h.Name })
		if at < 0 { // it rests on one of which too little is known
			h.Long, h.LongFormula = 0, "not known; it depends on what is behind it"
			continue
		}
		if h.Long = long[at].Rate; !long[at].answered {
			h.Long = min(h.Rate, h.Long)
		}
		if long[at].Rate != h.Rate {
			h.LongFormula = long[at].Formula
		}
	}
	return hops
}

// ceilings lists the hops of a use, fresh or for long: the same ones.
func (s Setup) ceilings(u Use) []Hop {
	if u.Block == 0 {
		return nil
	}
	var hops []Hop
	for i := range s.Count("link") {
		hops = append(hops, s.linkCeilings(u, fmt.Sprintf("link[%d].", i), i)...)
	}
	if most := s.limitCeiling(u); most != nil {
		hops = append(hops, *most)
	}
	hops = append(hops, s.allowedCeilings(u)...)
	hops = append(hops, s.controllerCeilings(u)...)
	var members []Hop
	if s.Count("media") > 0 {
		members = s.tierCeiling(u, s.mediaCeilings(u))
	}
	if u.Long && len(members) == 1 {
		if h := s.behindCache(u); h != nil {
			members[0] = *h
		}
	}
	var shelves []Hop
	if most := s.shelvesCeiling(u); most != nil && len(members) > 0 {
		shelves = append(shelves, *most)
	}
	pool := s.poolCeiling(u, members)
	hops = append(append(append(hops, s.cacheCeilings(u, members)...), pool...), append(shelves, members...)...)
	if line := s.farCeiling(u, hops); line != nil {
		hops = append(hops, *line)
	}
	return hops
}

// farCeiling is that of the line to a far copy, which every write passes; nil where nothing limits
// it. A journal takes what the other hops pass at first.
func (s Setup) farCeiling(u Use, others []Hop) *Hop {
	rate := s.ByteRate("replication.rate")
	if rate == 0 || u.Reads >= 1 {
		return nil
	}
	most := quantity.OpRate(float64(rate) / float64(u.Block) / float64(1-u.Reads))
	formula := fmt.Sprintf("%s ÷ %s for every write", rate, u.Block)
	if s.Text("replication.mode") == "asynchronous" {
		journal, limit := s.Bytes("replication.journal"), Limit(others)
		if journal == 0 || limit == nil {
			return nil
		}
		if !u.Long && limit.Rate > most {
			most, formula = limit.Rate, fmt.Sprintf("as much as %s passes, until its journal of %s is full", limit.Name, journal)
		}
	}
	return new(hop("far line", "far line", most, formula))
}

// poolCeiling is that of the processors of a pool that stores less than is written. How
// much less reaches the members, and where it lies there, depends on the content, so
// that nothing is known of them.
func (s Setup) poolCeiling(u Use, members []Hop) (hops []Hop) {
	if s.Text("pool.compresses") != "yes" && s.Text("pool.deduplicates") != "yes" {
		return nil
	}
	for i := range members {
		members[i].Rate, members[i].Long, members[i].Formula = 0, 0, "depends on how much of what is written is stored"
	}
	if rate := s.ByteRate("pool.throughput"); rate > 0 {
		hops = append(hops, hop("reduction", reductionStation, quantity.OpRate(float64(rate)/float64(u.Block)), fmt.Sprintf("%s ÷ %s", rate, u.Block)))
	}
	return hops
}

// cacheCeilings are those of the caches' own memory or devices: every write that one
// keeps passes it, and reads come out of the caches or from the members.
func (s Setup) cacheCeilings(u Use, members []Hop) (hops []Hop) {
	sum, known, words := 0.0, s.Text("tier.size") == "" && len(members) == 1 && members[0].Rate > 0, ""
	last := ""
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		rate, name := s.ByteRate(at+"throughput"), s.Text(at+"name")
		if rate == 0 || name == "" {
			known = false
			continue
		}
		most := float64(rate) / float64(u.Block)
		sum, last = sum+most, name
		words += fmt.Sprintf("%s ÷ %s from %s + ", rate, u.Block, name)
		if bypass := s.Bytes(at + "bypass"); s.Text(at+"mode") == "write-back" && u.Reads < 1 && (bypass == 0 || u.Block < bypass) {
			hops = append(hops, hop(name, name, quantity.OpRate(most/float64(1-u.Reads)), fmt.Sprintf("%s ÷ %s for every write", rate, u.Block)))
		}
	}
	if most := s.mirrorCeiling(u); most != nil {
		hops = append(hops, *most)
	}
	if known && sum > 0 && u.Reads > 0 {
		hops = append(hops, hop("caches and members", last, quantity.OpRate((sum+float64(members[0].Rate))/float64(u.Reads)), words+fmt.Sprintf("%s from the members", members[0].Rate)))
	}
	return hops
}

// mirrorCeiling is that of the way between controllers, which every write passes that a mirrored cache
// keeps; nil where none is known, or where writes go past it.
func (s Setup) mirrorCeiling(u Use) *Hop {
	rate := s.ByteRate("controller.mirrorRate")
	if rate == 0 || u.Reads >= 1 {
		return nil
	}
	times := 0.0
	for i := range s.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		if bypass := s.Bytes(at + "bypass"); bypass > 0 && u.Block >= bypass {
			continue // and meets the next one
		}
		if s.Text(at+"mode") == "write-back" {
			times = float64(truth(s.Is(at + "mirrored")))
			break // what it keeps comes to no other one for now
		}
	}
	if times == 0 {
		return nil
	}
	return new(hop("mirror", "mirror", quantity.OpRate(float64(rate)/float64(u.Block)/float64(1-u.Reads)), fmt.Sprintf("%s ÷ %s for every write", rate, u.Block)))
}

// linkCeilings are those of the line and of the transport's work on one core
// for each connection. A line is full duplex: reads and writes do not share
// it. Of a hashed bundle one flow uses one line (IEEE 802.1AX, 5.2.4).
func (s Setup) linkCeilings(u Use, at string, number int) (hops []Hop) {
	name := "link"
	if number > 0 {
		name = fmt.Sprintf("link %d", number+1)
	}
	links := max(s.Number(at+"hosts"), 1)
	if s.Text(at+"combined") == "multipath" {
		links *= max(s.Number(at+"count"), 1)
	}
	rate := s.ByteRate(at + "rate")
	if rate == 0 {
		hops = append(hops, hop(name, linkStation, 0, "the line rate is not known; tell "+at+"rate"))
	} else {
		mtu := s.mtu(at)
		payload := PayloadShare(int(mtu))
		busier := max(u.Reads, 1-u.Reads)
		formula := fmt.Sprintf("%g × %s × %s payload at MTU %g ÷ %s", links, rate, payload, mtu, u.Block)
		if busier < 1 {
			formula += fmt.Sprintf(" ÷ %s in the busier direction", busier)
		}
		hops = append(hops, hop(name, linkStation, quantity.OpRate(float64(rate)*float64(payload)*links/float64(u.Block)/float64(busier)), formula))
	}
	hops = append(hops, s.hostCeilings(u, at)...)
	connections := max(s.Number("transport.connections"), links)
	if most := s.windowCeiling(u, at, connections); most != nil && number == 0 {
		hops = append(hops, *most)
	}
	if cost := float64(s.Seconds("transport.operationTime")) + float64(s.Seconds("transport.byteTime"))*float64(u.Block); cost > 0 && number == 0 {
		hops = append(hops, hop("transport", linkStation, quantity.OpRate(connections/cost),
			fmt.Sprintf("%g connections ÷ %s of one core for each operation", connections, quantity.Seconds(cost))))
	}
	return hops
}

// hostCeilings are those of what all links of a host share: the slot, in each direction,
// and a disk of its own, for both.
func (s Setup) hostCeilings(u Use, at string) (hops []Hop) {
	hosts := max(s.Number(at+"hosts"), 1)
	if slot := s.ByteRate(at + "slot"); slot > 0 {
		busier := max(u.Reads, 1-u.Reads)
		formula := fmt.Sprintf("%g × %s ÷ %s", hosts, slot, u.Block)
		if busier < 1 {
			formula += fmt.Sprintf(" ÷ %s in the busier direction", busier)
		}
		hops = append(hops, hop("slot", "slot", quantity.OpRate(float64(slot)*hosts/float64(u.Block)/float64(busier)), formula))
	}
	if disk := s.ByteRate(at + "ownDisk"); disk > 0 {
		hops = append(hops, hop("own disk", "own disk", quantity.OpRate(float64(disk)*hosts/float64(u.Block)), fmt.Sprintf("%g × %s ÷ %s", hosts, disk, u.Block)))
	}
	return hops
}

// lane is what one lane of a PCI Express generation carries after its coding,
// 8b/10b up to the second and 128b/130b up to the fifth, in bytes per second
// in each direction (PCI Express Base Specification; the sixth uses flits of
// 256 bytes with 242 of them for data).
var lane = []float64{0, 2.5e9 * 8 / 10 / 8, 5e9 * 8 / 10 / 8, 8e9 * 128 / 130 / 8, 16e9 * 128 / 130 / 8, 32e9 * 128 / 130 / 8, 64e9 * 242 / 256 / 8}

// Bus is what a PCI Express link carries in each direction after its coding;
// 0 when the generation is not known.
func Bus(generation, lanes int) quantity.ByteRate {
	if generation < 1 || generation >= len(lane) {
		return 0
	}
	return quantity.ByteRate(lane[generation] * float64(lanes))
}

// limitCeiling is that of the limits set for this process on a device.
func (s Setup) limitCeiling(u Use) *Hop {
	return s.sidesCeiling(u, "I/O limit", [2]string{"queue.readsMost", "queue.writesMost"}, [2]string{"queue.readMost", "queue.writtenMost"})
}

// sidesCeiling is that of limits each for reads or writes alone, so that a mix is limited by the
// side that reaches its own first; nil where none is set.
func (s Setup) sidesCeiling(u Use, name string, rates, throughputs [2]string) *Hop {
	lowest, formula := math.Inf(1), ""
	for i, side := range []struct {
		share quantity.Share
		verb  string
	}{{u.Reads, "reads"}, {1 - u.Reads, "writes"}} {
		if side.share <= 0 {
			continue
		}
		of := ""
		if side.share < 1 {
			of = fmt.Sprintf(" ÷ %s of them", side.share)
		}
		if most := s.OpRate(rates[i]); most > 0 && float64(most)/float64(side.share) < lowest {
			lowest, formula = float64(most)/float64(side.share), fmt.Sprintf("%s of %s allowed%s", most, side.verb, of)
		}
		if most := s.ByteRate(throughputs[i]); most > 0 && float64(most)/float64(u.Block)/float64(side.share) < lowest {
			lowest, formula = float64(most)/float64(u.Block)/float64(side.share), fmt.Sprintf("%s of %s allowed ÷ %s%s", most, side.verb, u.Block, of)
		}
	}
	if formula == "" {
		return nil
	}
	return new(hop(name, limitStation, quantity.OpRate(lowest), formula))
}

// allowedCeilings is what the array allows the volume for long.
func (s Setup) allowedCeilings(u Use) (hops []Hop) {
	limit, formula := math.Inf(1), ""
	if most := s.OpRate("volume.operations"); most > 0 {
		limit, formula = float64(most), fmt.Sprintf("%s allowed", most)
	}
	if most := s.ByteRate("volume.throughput"); most > 0 && float64(most)/float64(u.Block) < limit {
		limit, formula = float64(most)/float64(u.Block), fmt.Sprintf("%s allowed ÷ %s", most, u.Block)
	}
	if formula != "" {
		hops = append(hops, hop("allowed", limitStation, quantity.OpRate(limit), formula))
	}
	if most := s.sidesCeiling(u, "allowed apart", [2]string{"volume.reads", "volume.writes"}, [2]string{"volume.readRate", "volume.writtenRate"}); most != nil {
		hops = append(hops, *most)
	}
	return hops
}

func (s Setup) controllerCeilings(u Use) (hops []Hop) {
	block := float64(u.Block)
	generation, lanes := s.Number("controller.busGeneration"), s.Number("controller.busLanes")
	if bus := Bus(int(generation), int(lanes)); bus > 0 {
		busier := float64(max(u.Reads, 1-u.Reads))
		hops = append(hops, hop("bus", controllerStation, quantity.OpRate(float64(bus)/block/busier),
			fmt.Sprintf("PCIe generation %g × %g lanes = %s after coding ÷ %s", generation, lanes, bus, u.Block)))
	}
	limit, formula := math.Inf(1), ""
	if most := s.OpRate("controller.operations"); most > 0 {
		limit, formula = float64(most), fmt.Sprintf("%s at most", most)
	}
	if t := s.ByteRate("controller.throughput"); t > 0 && float64(t)/block < limit {
		limit, formula = float64(t)/block, fmt.Sprintf("%s ÷ %s", t, u.Block)
	}
	if formula != "" {
		hops = append(hops, hop("controller", controllerStation, quantity.OpRate(limit), formula))
	}
	return hops
}
