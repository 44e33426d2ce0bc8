package streams

import (
	"strconv"

	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func init() {
	workload.Register(Kind, workload.Registration{
		New: func() workload.Body { return &Feeds{} }, Heading: "Streams with deadlines", Fields: fields,
		Takes: []string{"reads", "span", "offset", "compressible", "duplicate"},
		Words: "Streams with deadlines. Block size, order, number of streams and rates are derived from these",
	})
}

var fields = []workload.Field{
	workload.OwnField("feeds", "feeds", "number of streams with deadlines: each has to keep a rate of its own", strconv.Atoi, func(f *Feeds) *int { return &f.Count }, Change, Of),
	workload.OwnField("feedRate", "feed-rate", "rate of each feed, such as 25MB/s", quantity.ParseByteRate, func(f *Feeds) *quantity.ByteRate { return &f.Rate }, Change, Of),
	workload.NewField("frames", "frames", "frames of each feed instead of a rate: raster, bits of a pixel and frames a second, such as hd1080/20@25, or 8MiB@24", setFrames, func(s *workload.Spec) string { return formatFrames(Of(*s)) }),
	workload.OwnField("feedPiece", "feed-piece", "bytes of a feed read or written at a time (default: 1MiB, or a frame)", quantity.ParseBytes, func(f *Feeds) *quantity.Bytes { return &f.Piece }, Change, Of),
	workload.OwnField("buffer", "buffer", "deadline of a piece, from the moment it is requested (default: 1s)", quantity.ParseSeconds, func(f *Feeds) *quantity.Seconds { return &f.Buffer }, Change, Of),
}

func setFrames(s *workload.Spec, text string) error {
	bytes, rate, err := parseFrames(text)
	if err != nil {
		return err
	}
	Change(s, func(f *Feeds) { f.Frame, f.FrameRate = bytes, rate })
	return nil
}
