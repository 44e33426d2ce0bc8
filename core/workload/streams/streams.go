// Package streams is the kind of load that reads or writes several streams, each at a rate of its
// own that must be kept: films that are played, cameras that record. What a stream asks for has a
// deadline.
//
// Its type is Feeds, the body; each stream is a feed of it.
package streams

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Kind is the kind of load whose streams have deadlines.
const Kind workload.Kind = "feeds"

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
		f.Piece = workload.DefaultPiece
		if f.Frame > 0 {
			f.Piece = min(f.Piece, quantity.Bytes(workload.AlignUp(int64(f.Frame), workload.Unit)))
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

// Of is the body of a load of feeds; nil for a load of another kind.
func Of(s workload.Spec) *Feeds {
	f, _ := s.Body.(*Feeds)
	return f
}

// Change makes s a load of feeds, if it is none yet, and changes it; other loads that share its
// feeds keep theirs.
func Change(s *workload.Spec, how func(*Feeds)) {
	feeds := Feeds{Count: 1}
	if f := Of(*s); f != nil {
		feeds = *f
	}
	how(&feeds)
	s.SetBody(&feeds)
}

// Kind is that of feeds.
func (f *Feeds) Kind() workload.Kind { return Kind }

// Complete works out what the load comes to as blocks at a set rate.
func (f *Feeds) Complete(s *workload.Spec) {
	if f.Count <= 0 {
		return
	}
	f = new(f.completed())
	s.Body = f
	s.Blocks, s.Order, s.Align = workload.Block(f.Piece), workload.Sequential, 0
	s.Streams = (f.Count + max(s.Workers, 1) - 1) / max(s.Workers, 1)
	s.Depth = max(s.Depth, min(2*s.Streams, 4096)) // so that a feed does not wait for others
	s.Rate, s.ByteRate, s.Arrivals = 0, quantity.ByteRate(float64(f.EachRate())*float64(f.Count)), workload.Constant
}

// Groups name the feeds, or what they do where there are many.
func (f *Feeds) Groups(s workload.Spec) (names []string) {
	reading := f.reading(s.Reads)
	if f.Count > workload.MostGroups {
		if reading > 0 {
			names = append(names, fmt.Sprintf("%d that read", reading))
		}
		if reading < f.Count {
			names = append(names, fmt.Sprintf("%d that write", f.Count-reading))
		}
		return names
	}
	for n := range f.Count {
		verb := "reads"
		if n >= reading {
			verb = "writes"
		}
		names = append(names, fmt.Sprintf("feed %d (%s)", n+1, verb))
	}
	return names
}

// Classes are reads, writes, or both.
func (f *Feeds) Classes(s workload.Spec) []measure.Class { return s.Pattern.Classes() }

// Traits are those of a load that keeps deadlines.
func (f *Feeds) Traits(workload.Spec) workload.Traits {
	return workload.Traits{Operations: true, Main: "throughput", Done: "iops", Streams: &workload.Streaming{Count: f.Count, Buffer: f.Buffer}}
}

// Summarize adds up whether pieces came in time.
func (f *Feeds) Summarize(_ workload.Spec, sum *measure.Summary) {
	asked := f.AskedUntil(sum.WarmUp+sum.Measured) - f.AskedUntil(sum.WarmUp)
	sum.Feeds = sum.FeedsOf(asked, f.Asked(), f.Buffer)
}

// InWords says how many pieces were late.
func (f *Feeds) InWords(_ workload.Spec, i measure.Interval) []string {
	late := int64(0)
	for _, g := range i.Groups {
		late += g.Late
	}
	return []string{fmt.Sprintf("%d pieces late", late)}
}

// Source prepares the feeds of one worker.
func (f *Feeds) Source(s workload.Spec, worker int) (workload.Source, error) {
	return newFeeding(s, worker)
}

// Validate reports what cannot be of a load of feeds.
func (f *Feeds) Validate(s workload.Spec) error {
	switch {
	case s.Passes != 0:
		return workload.Invalid("passes", "a load of feeds has no files to go through; leave it out")
	case f.Count < 1 || f.Count > mostFeeds:
		return workload.Invalid("feeds", "it does not say how many; from 1 to %d", mostFeeds)
	case f.Count < s.Workers:
		return workload.Invalid("workers", "%d for %d feeds; each worker has feeds of its own", s.Workers, f.Count)
	case f.Frame == 0 && f.FrameRate == 0 && !(f.Rate > 0 && f.Rate <= 1e12):
		return workload.Invalid("feedRate", "no rate of a feed is given; try 25MB/s, or frames such as 1920x1080/20@25")
	case f.Rate > 0 && f.Frame > 0:
		return workload.Invalid("feedRate", "both a rate and frames are given; keep one")
	case (f.Frame > 0) != (f.FrameRate > 0) || f.Frame < 0 || f.Frame > 4*quantity.GiB || !(f.FrameRate >= 0 && f.FrameRate <= 100_000):
		return workload.Invalid("frames", "%s %g times a second; up to 4 GiB and 100,000 a second", f.Frame, f.FrameRate)
	case f.Piece < 0 || f.Piece > 64*quantity.MiB || f.Piece%workload.Unit != 0:
		return workload.Invalid("piece", "%s; a multiple of 4 KiB up to 64 MiB", f.Piece)
	case !(f.Buffer >= 0 && f.Buffer <= 3600):
		return workload.Invalid("buffer", "%g s; up to an hour", float64(f.Buffer))
	case s.Trims > 0 || s.ByStorage() > 0 || s.Think > 0 || s.SyncEvery > 0 || s.Stride > 0 || s.Skew > 0 || s.HotSpan > 0:
		return workload.Invalid("feeds", "feeds read or write one piece after the other at their rate; leave trims, zeroes, copies, swaps, think, syncEvery, stride and skew out")
	case s.Amount > 0 || s.Steady || s.Margin > 0:
		return workload.Invalid("for", "feeds go on for a time; leave amount, steady and margin out")
	case s.For == 0:
		return workload.Invalid("for", "feeds go on for a time; try --for 60s")
	}
	if region := s.Span / quantity.Bytes(f.Count); s.Span > 0 && region < f.completed().Piece {
		return workload.Invalid("span", "%d feeds leave each %s of the span of %s, less than a piece of %s; use a larger span", f.Count, region, s.Span, f.completed().Piece)
	}
	return nil
}

// Describe says in a few words what a load of feeds does.
func (f *Feeds) Describe(s workload.Spec) string {
	f = new(f.completed())
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
