package workload

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// FeedsKind is the kind of load that reads or writes several streams, each at a rate of
// its own that must be kept: films that are played, cameras that record.
const FeedsKind Kind = "feeds"

// Feeds is the body of a load of feeds. A feed asks for a piece, or for the pieces of a
// frame, at set times, and each has to be there a buffer's time later: a player that has
// read so far ahead then has nothing left, and a camera cannot hold any more.
type Feeds struct {
	Count     int               `json:"count" doc:"Feeds, of all workers together" minimum:"1" maximum:"100000"`
	Rate      quantity.ByteRate `json:"rateBytesPerSecond,omitempty" doc:"Of each feed, where it has no frames" minimum:"0"`
	Frame     quantity.Bytes    `json:"frameBytes,omitempty" doc:"Size of a frame; 0 for feeds without frames" minimum:"0"`
	FrameRate float64           `json:"framesPerSecond,omitempty" doc:"Of each feed" minimum:"0"`
	Piece     quantity.Bytes    `json:"pieceBytes,omitempty" doc:"Bytes that are read or written at a time; 0 means 1 MiB, or a frame where that is smaller" minimum:"0"`
	Buffer    quantity.Seconds  `json:"bufferSeconds,omitempty" doc:"How long after it is asked for a piece may come; 0 means 1 s" minimum:"0" maximum:"3600"`
}

const (
	mostFeeds     = 100_000
	defaultBuffer = quantity.Seconds(1)
)

// completed is f with defaults in place of zeros.
func (f Feeds) completed() Feeds {
	if f.Piece == 0 {
		f.Piece = defaultPiece
		if f.Frame > 0 {
			f.Piece = min(f.Piece, quantity.Bytes(alignUp(int64(f.Frame), Unit)))
		}
	}
	if f.Buffer == 0 {
		f.Buffer = defaultBuffer
	}
	return f
}

// unit is what a feed asks for at once, and how often.
func (f Feeds) unit() (bytes quantity.Bytes, every float64) {
	if f.Frame > 0 {
		return f.Frame, 1 / f.FrameRate
	}
	f = f.completed()
	return f.Piece, float64(f.Piece) / float64(f.Rate)
}

// EachRate is the rate of one feed.
func (f Feeds) EachRate() quantity.ByteRate {
	if f.Frame > 0 {
		return quantity.ByteRate(float64(f.Frame) * f.FrameRate)
	}
	return f.Rate
}

// Asked is how many pieces all feeds ask for in a second.
func (f Feeds) Asked() quantity.OpRate {
	_, every := f.unit()
	return quantity.OpRate(float64(f.pieces()) * float64(f.Count) / every)
}

// AskedUntil is how many pieces all feeds have asked for before a time since their start.
func (f Feeds) AskedUntil(time quantity.Seconds) (sum int64) {
	every, until := f.everyNanoseconds(), int64(time.Duration())
	for n := range int64(f.Count) {
		if begun := f.begins(n); until > begun {
			sum += (until-begun-1)/every + 1
		}
	}
	return sum * f.pieces()
}

func (f Feeds) everyNanoseconds() int64 {
	_, every := f.unit()
	return max(int64(math.Round(every*1e9)), 1)
}

// begins is when a feed begins, in nanoseconds: not all together, which would be a burst
// in every interval.
func (f Feeds) begins(number int64) int64 {
	return f.everyNanoseconds() / int64(f.Count) * number
}

// pieces is how many a unit is read or written in.
func (f Feeds) pieces() int64 {
	bytes, _ := f.unit()
	piece := f.completed().Piece
	return int64((bytes + piece - 1) / piece)
}

// reading is how many of the feeds read; the others write. They are the first.
func (f Feeds) reading(share quantity.Share) int {
	return int(math.Round(float64(f.Count) * float64(share)))
}

// changeFeeds makes s a load of feeds, if it is none yet, and changes it; other specs that
// share its feeds keep theirs.
func (s *Spec) changeFeeds(how func(*Feeds)) {
	feeds := Feeds{Count: 1}
	if s.Feeds != nil {
		feeds = *s.Feeds
	}
	how(&feeds)
	s.Kind, s.Feeds = FeedsKind, &feeds
}

// completeFeeds works out what the load comes to as blocks at a set rate.
func (s *Spec) completeFeeds() {
	f := s.Feeds.completed()
	s.Feeds = &f
	s.Blocks, s.Order, s.Align = Block(f.Piece), Sequential, 0
	s.Streams = (f.Count + max(s.Workers, 1) - 1) / max(s.Workers, 1)
	s.Depth = max(s.Depth, min(2*s.Streams, 4096)) // so that a feed does not wait for others
	s.Rate, s.ByteRate, s.Arrivals = 0, quantity.ByteRate(float64(f.EachRate())*float64(f.Count)), Constant
}

// mostGroups is how many feeds have figures of their own.
const mostGroups = 64

// groups name the feeds, or what they do where there are many.
func (s Spec) feedGroups() (names []string) {
	reading := s.Feeds.reading(s.Reads)
	if s.Feeds.Count > mostGroups {
		if reading > 0 {
			names = append(names, fmt.Sprintf("%d that read", reading))
		}
		if reading < s.Feeds.Count {
			names = append(names, fmt.Sprintf("%d that write", s.Feeds.Count-reading))
		}
		return names
	}
	for n := range s.Feeds.Count {
		verb := "reads"
		if n >= reading {
			verb = "writes"
		}
		names = append(names, fmt.Sprintf("feed %d (%s)", n+1, verb))
	}
	return names
}

// feedsBody is a load of feeds as a Body.
type feedsBody struct {
	Pattern
	spec Spec
}

func (b feedsBody) Traits() Traits {
	f := b.spec.Feeds
	return Traits{Operations: true, Main: "throughput", Done: "iops", Streams: &Streaming{Count: f.Count, Buffer: f.Buffer}}
}

// Summarize adds up whether pieces came in time.
func (b feedsBody) Summarize(sum *measure.Summary) {
	f := b.spec.Feeds
	asked := f.AskedUntil(sum.WarmUp+sum.Measured) - f.AskedUntil(sum.WarmUp)
	sum.Feeds = sum.FeedsOf(asked, f.Asked(), f.Buffer)
}

// InWords says how many pieces were late.
func (b feedsBody) InWords(i measure.Interval) []string {
	late := int64(0)
	for _, g := range i.Groups {
		late += g.Late
	}
	return []string{fmt.Sprintf("%d pieces late", late)}
}

func (b feedsBody) Groups() []string { return b.spec.feedGroups() }

func (b feedsBody) Source(s Spec, worker int) (Source, error) { return newFeeding(s, worker) }

// validateFeeds reports what cannot be of a load of feeds.
func (s Spec) validateFeeds() error {
	f := s.Feeds
	switch {
	case f == nil || f.Count < 1 || f.Count > mostFeeds:
		return invalid("feeds", "it does not say how many; from 1 to %d", mostFeeds)
	case f.Count < s.Workers:
		return invalid("workers", "%d for %d feeds; each worker has feeds of its own", s.Workers, f.Count)
	case f.Frame == 0 && f.FrameRate == 0 && !(f.Rate > 0 && f.Rate <= 1e12):
		return invalid("feedRate", "no rate of a feed is given; try 25MB/s, or frames such as 1920x1080/20@25")
	case f.Rate > 0 && f.Frame > 0:
		return invalid("feedRate", "both a rate and frames are given; keep one")
	case (f.Frame > 0) != (f.FrameRate > 0) || f.Frame < 0 || f.Frame > 4*quantity.GiB || !(f.FrameRate >= 0 && f.FrameRate <= 100_000):
		return invalid("frames", "%s %g times a second; up to 4 GiB and 100,000 a second", f.Frame, f.FrameRate)
	case f.Piece < 0 || f.Piece > 64*quantity.MiB || f.Piece%Unit != 0:
		return invalid("piece", "%s; a multiple of 4 KiB up to 64 MiB", f.Piece)
	case !(f.Buffer >= 0 && f.Buffer <= 3600):
		return invalid("buffer", "%g s; up to an hour", float64(f.Buffer))
	case s.Trims > 0 || s.ByStorage() > 0 || s.Think > 0 || s.SyncEvery > 0 || s.Stride > 0 || s.Skew > 0 || s.HotSpan > 0:
		return invalid("feeds", "feeds read or write one piece after the other at their rate; leave trims, zeroes, copies, swaps, think, syncEvery, stride and skew out")
	case s.Amount > 0 || s.Steady || s.Margin > 0:
		return invalid("for", "feeds go on for a time; leave amount, steady and margin out")
	case s.For == 0:
		return invalid("for", "feeds go on for a time; try --for 60s")
	}
	if region := s.Span / quantity.Bytes(f.Count); s.Span > 0 && region < f.completed().Piece {
		return invalid("span", "%d feeds leave each %s of the span of %s, less than a piece of %s; use a larger span", f.Count, region, s.Span, f.completed().Piece)
	}
	return nil
}

// describeFeeds says in a few words what a load of feeds does.
func (s Spec) describeFeeds() string {
	f := s.Feeds.completed()
	feeds := "1 feed"
	if f.Count > 1 {
		feeds = fmt.Sprintf("%d feeds", f.Count)
	}
	text := fmt.Sprintf("%s of %s", feeds, f.EachRate())
	if f.Frame > 0 {
		text = fmt.Sprintf("%s of %s frames a second of %s (%s each)", feeds, strconv.FormatFloat(f.FrameRate, 'g', 6, 64), f.Frame, f.EachRate())
	}
	switch reading := f.reading(s.Reads); reading {
	case f.Count:
		text += ", read"
	case 0:
		text += ", written"
	default:
		text += fmt.Sprintf(", %d read and %d written", reading, f.Count-reading)
	}
	text += ", buffer " + f.Buffer.String()
	if s.Span > 0 {
		text += ", span " + s.Span.String()
	}
	if s.Cached {
		text += ", cached"
	}
	return text
}

// Raster is a public picture format.
type Raster struct {
	Name          string
	Width, Height int
	Source        string
}

// Rasters are those that have names: Recommendations ITU-R BT.601, BT.709 and BT.2020,
// SMPTE ST 296, and the containers of SMPTE ST 428-1.
var Rasters = []Raster{
	{"sd576", 720, 576, "ITU-R BT.601"}, {"sd486", 720, 486, "ITU-R BT.601"},
	{"hd720", 1280, 720, "SMPTE ST 296"}, {"hd1080", 1920, 1080, "ITU-R BT.709"},
	{"uhd2160", 3840, 2160, "ITU-R BT.2020"}, {"uhd4320", 7680, 4320, "ITU-R BT.2020"},
	{"cinema1080", 2048, 1080, "SMPTE ST 428-1"}, {"cinema2160", 4096, 2160, "SMPTE ST 428-1"},
}

// parseFrames reads frames such as "1920x1080/20@25" or "hd1080/20@25": raster, bits of
// each pixel, frames a second. "8MiB@24" gives the size itself.
func parseFrames(text string) (bytes quantity.Bytes, rate float64, err error) {
	size, often, found := strings.Cut(strings.TrimSpace(text), "@")
	if !found {
		return 0, 0, fmt.Errorf("%q does not say how many frames a second; write it like hd1080/20@25 (raster, bits of a pixel, frames a second) or 8MiB@24", text)
	}
	if rate, err = quantity.ParseNumber(often); err != nil {
		return 0, 0, err
	}
	raster, bits, hasBits := strings.Cut(size, "/")
	if !hasBits {
		bytes, err = quantity.ParseBytes(size)
		return bytes, rate, err
	}
	width, height, err := pixels(raster)
	if err != nil {
		return 0, 0, err
	}
	depth, err := quantity.ParseNumber(bits)
	if err != nil || !(depth > 0 && depth <= 256) {
		return 0, 0, fmt.Errorf("%q is no number of bits of a pixel; 20 for ten bits with half the colour, 30 for ten bits of three colours", bits)
	}
	return quantity.Bytes(math.Ceil(float64(width) * float64(height) * depth / 8)), rate, nil
}

func pixels(text string) (width, height int, err error) {
	for _, r := range Rasters {
		if r.Name == text {
			return r.Width, r.Height, nil
		}
	}
	across, down, found := strings.Cut(text, "x")
	width, err = strconv.Atoi(across)
	if err == nil && found {
		height, err = strconv.Atoi(down)
	}
	if !found || err != nil || width < 1 || height < 1 || width > 100_000 || height > 100_000 {
		names := make([]string, len(Rasters))
		for i, r := range Rasters {
			names[i] = r.Name
		}
		return 0, 0, fmt.Errorf("%q is no raster; write it like 1920x1080, or one of %s", text, strings.Join(names, ", "))
	}
	return width, height, nil
}

// formatFrames writes frames the way parseFrames reads them.
func formatFrames(f *Feeds) string {
	if f == nil || f.Frame == 0 {
		return ""
	}
	size, _ := f.Frame.MarshalYAML() // cannot fail
	return string(size) + "@" + strconv.FormatFloat(f.FrameRate, 'f', -1, 64)
}

// feeding is the work of one worker of a load of feeds: every so many of them, those that
// are due first in front.
type feeding struct {
	spec    Spec
	every   int64 // nanoseconds between two units
	pieces  int64 // of a unit
	unit    int64 // bytes
	piece   int64
	buffer  int64 // nanoseconds
	feeds   []feed
	queue   []int32 // heap of feeds by when their next piece is due
	flying  []flyingPiece
	free    []int32
	content *Content
	many    bool // groups are by what feeds do
	done    Whole
}

// feed is one stream.
type feed struct {
	number int
	write  bool
	start  int64 // of its region
	length int64 // of it, in whole units
	offset int64 // in the region
	within int64 // pieces of the unit under way that were asked for
	due    int64

	// It stands still from when a piece is needed that is not there until that comes.
	stallStart, stallEnd int64
}

type flyingPiece struct {
	feed int32
	due  int64
}

func newFeeding(spec Spec, worker int) (*feeding, error) {
	spec = spec.Completed()
	if err := spec.Validate(); err != nil {
		return nil, err
	}
	if spec.Span == 0 {
		return nil, invalid("span", "is not known")
	}
	f := spec.Feeds
	unit, every := f.unit()
	w := &feeding{
		spec: spec, every: f.everyNanoseconds(), pieces: f.pieces(), unit: int64(unit), piece: int64(f.Piece),
		buffer: int64(f.Buffer.Duration()), flying: make([]flyingPiece, spec.Depth), many: f.Count > mostGroups,
	}
	if every*1e9 < 1 {
		return nil, invalid("feedRate", "%s comes to more than a piece every nanosecond; use larger pieces", f.EachRate())
	}
	for i := range w.flying {
		w.free = append(w.free, int32(i))
	}
	reading := f.reading(spec.Reads)
	region := alignDown(int64(spec.Span)/int64(f.Count), Unit)
	for n := worker; n < f.Count; n += spec.Workers {
		one := feed{number: n, write: n >= reading, start: int64(spec.Offset) + int64(n)*region, length: region}
		one.due = f.begins(int64(n))
		w.feeds = append(w.feeds, one)
		w.queue = append(w.queue, int32(len(w.feeds)-1))
	}
	for i := len(w.queue)/2 - 1; i >= 0; i-- {
		w.sink(i)
	}
	if spec.Writes() {
		w.content = NewContent(spec, worker)
	}
	return w, nil
}

func (w *feeding) before(a, b int32) bool {
	x, y := &w.feeds[a], &w.feeds[b]
	return x.due < y.due || x.due == y.due && x.number < y.number
}

// sink moves the feed at a place of the heap down to where it belongs.
func (w *feeding) sink(i int) {
	for {
		child := 2*i + 1
		if child+1 < len(w.queue) && w.before(w.queue[child+1], w.queue[child]) {
			child++
		}
		if child >= len(w.queue) || !w.before(w.queue[child], w.queue[i]) {
			return
		}
		w.queue[i], w.queue[child] = w.queue[child], w.queue[i]
		i = child
	}
}

// Due is when the next piece of any feed is asked for.
func (w *feeding) Due() int64 { return w.feeds[w.queue[0]].due }

// Next gives that piece.
func (w *feeding) Next(a *Access) int64 {
	f := &w.feeds[w.queue[0]]
	slot := w.free[len(w.free)-1]
	w.free = w.free[:len(w.free)-1]
	w.flying[slot] = flyingPiece{w.queue[0], f.due}
	*a = Access{Class: measure.Read, Handle: slot, Offset: f.start + f.offset, Length: int(w.piece)}
	if f.write {
		a.Class = measure.Write
	}
	if left := w.unit - f.within*w.piece; left < w.piece { // the last of a unit
		a.Length = int(alignUp(left, Unit))
	}
	if f.within++; f.within == w.pieces {
		f.within = 0
		f.due += w.every
	}
	if f.offset += int64(a.Length); f.offset+w.piece > f.length {
		f.offset = 0
	}
	w.sink(0)
	return w.Due()
}

// Fill makes the bytes of a piece.
func (w *feeding) Fill(buffer []byte) { w.content.Fill(buffer) }

// Completed tells whether a piece came in time, and how long its feed has been standing.
func (w *feeding) Completed(a *Access, now int64, err error) *Whole {
	piece := w.flying[a.Handle]
	w.free = append(w.free, a.Handle)
	f := &w.feeds[piece.feed]
	w.done = Whole{Group: f.number, Bytes: int64(a.Length), Began: piece.due, Piece: true}
	if w.many {
		w.done.Group = 0
		if f.write && w.spec.Feeds.reading(w.spec.Reads) > 0 {
			w.done.Group = 1
		}
	}
	if deadline := piece.due + w.buffer; now > deadline {
		if deadline > f.stallEnd { // another stall than the one before
			f.stallStart = deadline
		}
		f.stallStart, f.stallEnd = min(f.stallStart, deadline), max(f.stallEnd, now)
		w.done.Late, w.done.Stall = now-deadline, f.stallEnd-f.stallStart
	}
	if err != nil {
		return nil
	}
	return &w.done
}

// Words says what an operation is about.
func (w *feeding) Words(a Access) string {
	return fmt.Sprintf("%s of %d bytes at offset %d of feed %d", a.Class.Verb(), a.Length, a.Offset, w.feeds[w.flying[a.Handle].feed].number+1)
}

func (w *feeding) Over() bool { return false }

func (w *feeding) Without(Access, error) bool { return false }
