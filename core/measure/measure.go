// Package measure holds what a measurement produces: latency histograms, the
// series of intervals and the summary, and how parts of them are merged.
//
// It does not issue I/O (package load) and draws no conclusions (package
// judge). The main types are Summary, what one measurement came to, and
// Interval, one point of its series. All times are in seconds, all rates per
// second, all sizes in bytes.
package measure

import (
	"slices"
	"strings"

	"patientheron/core/quantity"
)

// Latency is the distribution of one class of operation in figures. A
// percentile is the smallest recorded value that this share of the operations
// did not exceed, from a histogram with a relative error of at most 0.1 %.
type Latency struct {
	Mean      quantity.Seconds `json:"meanSeconds" doc:"Arithmetic mean"`
	Deviation quantity.Seconds `json:"deviationSeconds" doc:"Standard deviation"`
	Min       quantity.Seconds `json:"minSeconds"`
	P50       quantity.Seconds `json:"p50Seconds" doc:"Median"`
	P90       quantity.Seconds `json:"p90Seconds"`
	P95       quantity.Seconds `json:"p95Seconds"`
	P99       quantity.Seconds `json:"p99Seconds"`
	P999      quantity.Seconds `json:"p999Seconds" doc:"99.9th percentile"`
	P9999     quantity.Seconds `json:"p9999Seconds" doc:"99.99th percentile"`
	Max       quantity.Seconds `json:"maxSeconds"`
}

// Figures is what one class of operation came to in the measured time.
type Figures struct {
	Operations int64             `json:"operations" doc:"Operations completed in the measured time"`
	Bytes      quantity.Bytes    `json:"bytes" doc:"Bytes they moved"`
	Rate       quantity.OpRate   `json:"rate" doc:"Operations per second"`
	Throughput quantity.ByteRate `json:"throughputBytesPerSecond" doc:"Bytes per second"`
	Latency    Latency           `json:"latency" doc:"From the intended start at a set rate, otherwise from the issue, to the completion"`
}

// FeedFigures say whether the pieces of feeds came in time.
type FeedFigures struct {
	Pieces       int64            `json:"pieces"`
	Late         int64            `json:"late" doc:"Pieces that came after they were needed"`
	LateShare    quantity.Share   `json:"lateShare"`
	WorstLate    quantity.Seconds `json:"worstLateSeconds" doc:"By how much the worst of them was late"`
	LongestStall quantity.Seconds `json:"longestStallSeconds" doc:"The longest time in which a feed waited for what was needed already"`
	Usual        quantity.Seconds `json:"usualSeconds" doc:"How long before it was needed half of the pieces were there"`
	Tightest     quantity.Seconds `json:"tightestSeconds" doc:"How long before it was needed the last of them was there; negative when that was late"`
	Behind       quantity.Seconds `json:"behindSeconds,omitempty" doc:"How much of what had been asked for was missing at the end, as the time that the feeds take to ask for it"`
}

// FeedsOf adds up what groups of feeds came to, that asked for so many pieces in the
// measured time, at a rate together, each of which may take as long as a buffer lasts.
func (s *Summary) FeedsOf(asked int64, rate quantity.OpRate, buffer quantity.Seconds) *FeedFigures {
	f := &FeedFigures{Usual: buffer - s.Total.Latency.P50, Tightest: buffer - s.Total.Latency.Max}
	for _, g := range s.Groups {
		f.Pieces += g.Operations
		f.Late += g.Late
		f.WorstLate, f.LongestStall = max(f.WorstLate, g.WorstLate), max(f.LongestStall, g.LongestStall)
	}
	if f.Pieces > 0 {
		f.LateShare = quantity.Share(float64(f.Late) / float64(f.Pieces))
	}
	if rate > 0 && s.Ending == ByTime {
		f.Behind = quantity.Seconds(float64(max(asked-f.Pieces, 0)) / float64(rate))
	}
	return f
}

// FileGroup is what the whole files of one group came to. Its rates are over the time that
// its own files took where all files were gone through, and over the measured time
// otherwise.
type FileGroup struct {
	Name string           `json:"name"`
	Took quantity.Seconds `json:"tookSeconds" doc:"From when the first of them began to when the last ended"`

	Late         int64            `json:"late,omitempty" doc:"Of feeds: pieces that came after they were needed"`
	WorstLate    quantity.Seconds `json:"worstLateSeconds,omitempty" doc:"By how much the worst of them did"`
	LongestStall quantity.Seconds `json:"longestStallSeconds,omitempty" doc:"The longest time in which a feed waited for what was needed already"`
	Figures
}

// Fault counts operations that failed in one way.
type Fault struct {
	Kind  string `json:"kind" doc:"What went wrong, such as 'i/o error' or 'no space'"`
	Of    string `json:"of,omitempty" doc:"Of a load of files: the class of operation that failed, such as renames"`
	Count int64  `json:"count"`
	First string `json:"first" doc:"The first one in full: operation, place and the system's answer"`
}

// Ending says why a measurement ended.
type Ending string

// The endings.
const (
	ByTime     Ending = "time"    // the asked time was over
	ByAmount   Ending = "amount"  // the asked amount was moved
	ByPasses   Ending = "passes"  // all files were gone through as often as asked
	ByPatience Ending = "steady"  // it settled, or its mean was known well enough
	ByStop     Ending = "stopped" // the user or the service stopped it
	ByFailure  Ending = "failure" // an operation failed and the workload says to end
)

// Summary is what one measurement came to. Classes never share a histogram; Total
// adds the operations and bytes of those that move the load's, and merges their
// histograms.
type Summary struct {
	Measured quantity.Seconds `json:"measuredSeconds" doc:"Length of the measured time, without the warm-up"`
	WarmUp   quantity.Seconds `json:"warmUpSeconds" doc:"Time at the start that was kept out of these figures: what was asked for, and the phases before the last one"`
	Ending   Ending           `json:"ending" enum:"time,amount,passes,steady,stopped,failure" doc:"Why the measurement ended"`

	Total   Figures           `json:"total" doc:"What moved bytes of the load: reads and writes, not flushes and trims; of a load that moves none, whole files"`
	Classes map[Class]Figures `json:"classes" doc:"By class of operation: reads, writes, flushes, trims, and those on files; those that the load asks for"`

	Feeds  *FeedFigures  `json:"feeds,omitempty" doc:"Of a load of feeds: whether their pieces came in time"`
	Stores *StoreFigures `json:"stores,omitempty" doc:"Of a load of key-value stores: what they did for their requests"`
	Groups []FileGroup   `json:"groups,omitempty" doc:"Figures by group. Stores: puts, gets, scans and write stalls. Feeds: each feed, or readers and writers if there are many. Files: whole files by class, by task if there are several, and by pass if there are several"`

	Service  *Latency          `json:"service,omitempty" doc:"At a set rate: latency counted from the real issue, beside the honest one from the intended start"`
	IssueLag *quantity.Seconds `json:"issueLagSeconds,omitempty" doc:"At a set rate: mean time by which operations were issued late although a slot was free; the generator's own fault"`

	Faults     []Fault `json:"faults,omitempty" doc:"Failed operations by kind; they are in no other figure"`
	Retries    int64   `json:"retries,omitempty" doc:"Operations issued again because the system asked for it (EAGAIN, EINTR)"`
	Pieces     int64   `json:"pieces,omitempty" doc:"Operations that the system moved in more than one piece; their latency is that of the whole"`
	Unanswered int64   `json:"unanswered,omitempty" doc:"Operations still without an answer when the measurement gave up waiting"`

	Phases *Phases `json:"phases,omitempty" doc:"The phases it had; absent for stored measurements of before"`

	Steadiness     *Steadiness      `json:"steadiness,omitempty" doc:"How even the rate was; absent for fewer than three intervals"`
	CPUPerOp       quantity.Seconds `json:"cpuPerOperationSeconds,omitempty" doc:"CPU time of this host for one operation, the engine's own included; 0 where no host works, or it was not recorded"`
	WorkerCPUPerOp quantity.Seconds `json:"workerCpuPerOperationSeconds,omitempty" doc:"CPU time of the workers' threads alone for one operation; 0 where it was not recorded"`
	CoreWait       quantity.Share   `json:"coreWaitShare,omitempty" doc:"Share of the workers' time in which their threads were ready to run and waited for a core; latencies include it"`
	Stolen         quantity.Share   `json:"stolenShare,omitempty" doc:"Share of this host's CPU time that a hypervisor gave to others meanwhile"`
	Patience       *Patience        `json:"patience,omitempty" doc:"When the load asked to wait until it settled or its mean was known: what came of it"`

	Inside []Counter `json:"inside,omitempty" doc:"What the volume tells of its inside, over all of the measured time"`

	Unwritten quantity.Share `json:"unwrittenShare,omitempty" doc:"Share of the span that had never been written when the measurement began; known of files and of loop devices over files"`

	StoodStill *StoodStill `json:"stoodStill,omitempty" doc:"Pauses of the engine itself; absent when there were none"`

	Interface string    `json:"interface" doc:"How operations were handed over: io_uring, threads (the portable fallback), iSCSI, or none for the null volume"`
	Sessions  []Session `json:"sessions,omitempty" doc:"Over a network: what host and target agreed on"`
}

// StoodStill is when the engine itself did not run: its process was stopped, had no core, or
// the host was suspended.
type StoodStill struct {
	At    quantity.Seconds `json:"atSeconds" doc:"When the longest pause of the engine began, since the first operation could be issued"`
	Worst quantity.Seconds `json:"worstSeconds" doc:"How long that was"`
	Total quantity.Seconds `json:"totalSeconds" doc:"All such times together"`
}

// Steadiness is how even a rate was from interval to interval.
type Steadiness struct {
	Intervals  int              `json:"intervals"`
	Interval   quantity.Seconds `json:"intervalSeconds" doc:"Length of each"`
	Variation  quantity.Share   `json:"variation" doc:"Standard deviation of the rates as a share of their mean"`
	Worst      quantity.OpRate  `json:"worst" doc:"Rate of the slowest interval"`
	WorstShare quantity.Share   `json:"worstShare" doc:"The same as a share of the median"`
	Slow       int              `json:"slow" doc:"Intervals with less than half the median rate"`
}

// Patience is what came of a measurement that was to last until it settled, or
// until its mean was known well enough.
type Patience struct {
	Steady bool             `json:"steady" doc:"The rate stood still at the end"`
	Cut    quantity.Seconds `json:"cutSeconds" doc:"Time after the asked warm-up that was cut off as warm-up too, because the rate had not settled yet"`
	Margin quantity.Share   `json:"margin,omitempty" doc:"Half the width of the mean rate's 95 % interval as a share of it; absent when there was too little to tell"`
	Words  string           `json:"words" doc:"Which condition ended it"`
}

// Flow is one class of operation in one interval.
type Flow struct {
	Operations int64             `json:"operations"`
	Bytes      quantity.Bytes    `json:"bytes"`
	Rate       quantity.OpRate   `json:"rate"`
	Throughput quantity.ByteRate `json:"throughputBytesPerSecond"`
	Mean       quantity.Seconds  `json:"meanSeconds"`
	P50        quantity.Seconds  `json:"p50Seconds"`
	P99        quantity.Seconds  `json:"p99Seconds"`
	Max        quantity.Seconds  `json:"maxSeconds"`
	Late       int64             `json:"late,omitempty" doc:"Of feeds: pieces that came after they were needed"`
}

// Interval is one point of a measurement's series.
type Interval struct {
	Index    int              `json:"index" doc:"Number from 0, warm-up included"`
	Start    quantity.Seconds `json:"startSeconds" doc:"Since the first operation could be issued"`
	Length   quantity.Seconds `json:"lengthSeconds"`
	WarmUp   bool             `json:"warmUp" doc:"Whether it is kept out of the summary"`
	Classes  map[Class]Flow   `json:"classes" doc:"By class of operation: reads, writes, flushes, trims, and those on files; those that the load asks for"`
	Groups   []Flow           `json:"groups,omitempty" doc:"Of loads of files and feeds: whole files or pieces, group by group as the summary names them; absent for more than 64 groups"`
	InFlight int              `json:"inFlight" doc:"Operations without an answer at the end of the interval"`
	Failed   int64            `json:"failed" doc:"Operations that failed"`
	Spread   []Cell           `json:"spread,omitempty" doc:"How many operations fell into which tenth of a decade of latency, from short to long"`
	Beside   []Beside         `json:"beside,omitempty" doc:"What each host that took part and its devices did meanwhile"`
	Zones    string           `json:"zones,omitempty" doc:"Of simulated media with zones that hosts write in order: how full each is at the end of the interval, or of several beside each other, a digit from 0, empty, to 9, full"`
	Inside   []Counter        `json:"inside,omitempty" doc:"What the volume tells of its inside: of a simulated array, its members, caches, controller and links"`
}

// Pace is what moved bytes of the load in an interval: all that is needed to tell
// the phases of a measurement, and little to keep.
type Pace struct {
	Start, Length quantity.Seconds
	Operations    int64
	Bytes         quantity.Bytes
	Waited        quantity.Seconds // latencies of all operations together
	Stores        []Counter        // of a load that waits: how full what stores on the way is, and how much of it answered
}

// Stores are the counters that tell whether what stores on the way is at rest: how much of
// what was asked it answered, and how full it is.
func (i Interval) Stores() (of []Counter) {
	for _, c := range i.Inside {
		level := c.Over == "" && (c.Unit == "bytes" || c.Unit == "share") && !slices.ContainsFunc(onlyRising, func(end string) bool { return strings.HasSuffix(c.Name, end) })
		if level || c.Over == Means && c.Unit == "share" && !strings.HasSuffix(c.Name, " busy") {
			of = append(of, c)
		}
	}
	return of
}

// onlyRising are ends of names of levels that rise for as long as anything is done.
var onlyRising = []string{" not kept", " lost", "worn SSD"}

// Pace is the pace of an interval: of what moves bytes, or of whole files where nothing
// does.
func (i Interval) Pace() Pace {
	p, moves := Pace{Start: i.Start, Length: i.Length}, i.moves()
	for class, flow := range i.Classes {
		if class.Moves() || class == File && !moves {
			p.Operations += flow.Operations
			p.Bytes += flow.Bytes
			p.Waited += quantity.Seconds(flow.Operations) * flow.Mean
		}
	}
	return p
}

// moves reports whether any class moves bytes of the load.
func (i Interval) moves() bool {
	for class := range i.Classes {
		if class.Moves() {
			return true
		}
	}
	return false
}

// Rate is in operations per second; zero for an interval without length.
func (p Pace) Rate() float64 {
	if p.Length <= 0 {
		return 0
	}
	return float64(p.Operations) / float64(p.Length)
}

// Moved is the flow of all that moves bytes of the load, or of whole files where nothing
// does, without its latencies.
func (i Interval) Moved() (f Flow) {
	moves := i.moves()
	for class := range EachClass() {
		if one, counted := i.Classes[class]; counted && (class.Moves() || class == File && !moves) {
			f.Operations += one.Operations
			f.Bytes += one.Bytes
			f.Rate += one.Rate
			f.Throughput += one.Throughput
			f.Max = max(f.Max, one.Max)
		}
	}
	return f
}

// Cores are the busy shares of the cores of all hosts.
func (i Interval) Cores() (shares []quantity.Share) {
	for _, b := range i.Beside {
		shares = append(shares, b.CPU...)
	}
	return shares
}

// Devices are those of all hosts.
func (i Interval) Devices() (devices []Device) {
	for _, b := range i.Beside {
		devices = append(devices, b.Devices...)
	}
	return devices
}

// Cell counts the operations of one tenth of a decade of latency.
type Cell struct {
	Tenth int   `json:"tenth" doc:"Ten times the decimal logarithm of the latency in nanoseconds, rounded down"`
	Count int64 `json:"count"`
}

// Counter is one figure from inside a volume over one interval.
type Counter struct {
	Name  string  `json:"name"`
	Unit  string  `json:"unit" doc:"share, bytes, operations, or seconds of each operation"`
	Value float64 `json:"value"`

	Over Over    `json:"over,omitempty" enum:"sum,mean" doc:"How values of several intervals are combined: added up, or averaged with 'of' as their weight. Absent for levels, which are averaged over time"`
	Of   float64 `json:"of,omitempty" doc:"What a mean is of in the interval: operations, bytes or seconds"`
}

// accounted are the kinds of operations whose time an array accounts for.
var accounted = []string{"reads", "writes", "flushes", "trims", "copies"}

// Spent says of a counter that is a part of the time of each operation of a kind of which kind,
// such as "reads", and where that was spent; is is false of any other counter.
func (c Counter) Spent() (kind, where string, is bool) {
	kind, where, _ = strings.Cut(c.Name, " ")
	return kind, where, c.Unit == "seconds" && where != "" && slices.Contains(accounted, kind)
}

// OfTier reports a counter that is the share of all operations that one of several tiers answered.
func (c Counter) OfTier() bool {
	return c.Name == "tier answered" || strings.HasPrefix(c.Name, "lower tier ") && strings.HasSuffix(c.Name, " answered")
}

// Over says how the values of a counter over several intervals go together.
type Over string

// The ways. A level has none.
const (
	Sums  Over = "sum"
	Means Over = "mean"
)

// Beside is what one host and its devices did during one interval.
type Beside struct {
	Host        string            `json:"host,omitempty" doc:"Name of the host"`
	CPU         []quantity.Share  `json:"cpuShares" doc:"Busy share of each core of this host"`
	Stolen      quantity.Share    `json:"stolenShare,omitempty" doc:"Share of this host's CPU time that a hypervisor gave to others"`
	EngineCores float64           `json:"engineCores" doc:"Cores' worth of CPU time this process used"`
	WorkerCores float64           `json:"workerCores,omitempty" doc:"Cores' worth of CPU time that the threads of the workers used: the engine's own part of it"`
	WorkerWaits float64           `json:"workerWaits,omitempty" doc:"How many of the workers' threads, on average, were ready to run and waited for a core"`
	Available   quantity.Bytes    `json:"memoryAvailableBytes"`
	PageCache   quantity.Bytes    `json:"pageCacheBytes"`
	NetReceived quantity.ByteRate `json:"networkReceivedBytesPerSecond" doc:"All interfaces but loopback"`
	NetSent     quantity.ByteRate `json:"networkSentBytesPerSecond"`
	Devices     []Device          `json:"devices,omitempty" doc:"Counters of the block devices behind the volume, where there are any"`
}

// Device is what the kernel's counters say a block device did during one
// interval.
type Device struct {
	Name         string            `json:"name"`
	ReadRate     quantity.OpRate   `json:"readRate"`
	WriteRate    quantity.OpRate   `json:"writeRate"`
	Read         quantity.ByteRate `json:"readBytesPerSecond"`
	Written      quantity.ByteRate `json:"writtenBytesPerSecond"`
	ReadBytes    quantity.Bytes    `json:"readBytes" doc:"Read since the look before, which may lie a little off the interval"`
	WrittenBytes quantity.Bytes    `json:"writtenBytes"`
	InFlight     int64             `json:"inFlight"`
	Busy         quantity.Share    `json:"busyShare" doc:"Share of the interval during which at least one request was in flight"`
}

// Per turns a count and a size over a length of time into figures.
func Per(operations, bytes int64, over quantity.Seconds) (quantity.OpRate, quantity.ByteRate) {
	if over <= 0 {
		return 0, 0
	}
	return quantity.OpRate(float64(operations) / float64(over)), quantity.ByteRate(float64(bytes) / float64(over))
}

// CutWarmUp marks every interval that lies within the given time from the
// start as warm-up: how much that was may be known only at the end.
func CutWarmUp(series []Interval, warmUp quantity.Seconds) {
	for i := range series {
		if series[i].Start+series[i].Length/2 < warmUp {
			series[i].WarmUp = true
		}
	}
}
