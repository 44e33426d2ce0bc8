package setup

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/quantity"
)

// UnknownContent names content that nothing recognises.
const UnknownContent = "unknown content"

// Identity is what tells a file or a device, with what it holds, from any
// other. Consent to overwrite is given for one, and is worth nothing for
// another that stands in its place. What a kind of storage does not have is
// empty.
type Identity struct {
	Device     string         `json:"device" doc:"Number of the block device, or of the file system that a file is on, as major:minor"`
	Serial     string         `json:"serial,omitempty"`
	WWN        string         `json:"wwn,omitempty" doc:"World wide name"`
	Behind     string         `json:"behind,omitempty" doc:"What a virtual device stands for: the file of a loop device, the UUID of a mapped or RAID device, or the sequence number of the disk"`
	Below      string         `json:"below,omitempty" doc:"What it stands on, layer by layer down to the media"`
	Size       quantity.Bytes `json:"sizeBytes"`
	Inode      uint64         `json:"inode,omitempty" doc:"Of a file"`
	Generation uint64         `json:"generation,omitempty" doc:"Of a file whose file system counts how often an inode is used anew"`
	Born       string         `json:"born,omitempty" doc:"When a file was made, where its file system keeps that"`
	Holds      []string       `json:"holds,omitempty" doc:"What is recognised on it"`
	UUID       string         `json:"uuid,omitempty" doc:"Of what it holds"`
	Head       string         `json:"head" doc:"SHA-256 of its first MiB"`
	Tail       string         `json:"tail" doc:"SHA-256 of its last MiB"`
	Between    []byte         `json:"between,omitempty" doc:"Digests of pieces between these, eight bytes each"`
}

// Range is a range of bytes; End is behind the last.
type Range struct{ Start, End quantity.Bytes }

func (r Range) touches(start, end quantity.Bytes) bool { return r.Start < end && start < r.End }

const (
	// EndLength is how much of the start and of the end is digested as a whole.
	EndLength = 1 << 20
	// PlaceLength is how much is digested at each place between, and PlaceDigest how many
	// bytes its digest has.
	PlaceLength = 4 << 10
	PlaceDigest = 8
)

// Places are where storage of a size is looked at between its first and its last MiB: where
// partitions begin that somebody makes, and where file systems write first on these; the
// rest is spread evenly.
func Places(size quantity.Bytes) (places []quantity.Bytes) {
	const mib, most = quantity.Bytes(1 << 20), 64
	add := func(at quantity.Bytes) {
		if at >= EndLength && at+PlaceLength <= size-EndLength {
			places = append(places, at)
		}
	}
	begin := func(at quantity.Bytes) { add(at); add(at + 64<<10) }
	for i := range quantity.Bytes(most) {
		begin((i + 1) * mib)
		begin(size / most * i / mib * mib)
		add(size / most * i / PlaceLength * PlaceLength)
	}
	for at := 2 * most * mib; at < size; at *= 2 {
		begin(at)
	}
	slices.Sort(places)
	return slices.Compact(places)
}

// HoldsInWords names what is recognised, or nothing.
func (i Identity) HoldsInWords() string { return strings.Join(i.Holds, ", ") }

// Differences says in words how another identity, found later, differs; none
// when it is the same. A UUID counts where both are known: it takes a tool to
// read it, which may come and go.
func (i Identity) Differences(later Identity) []string { return i.ChangedBeside(nil, later) }

// ChangedBeside says in words what of an identity, found later, is not what was written into
// some ranges meanwhile: these may hold anything then, but nothing that is recognised and was
// not there before, since what is written by a load is not recognised.
func (i Identity) ChangedBeside(written []Range, later Identity) (words []string) {
	add := func(what, before, now string) {
		if before != now {
			words = append(words, fmt.Sprintf("its %s was %s and is %s", what, orNone(before), orNone(now)))
		}
	}
	wrote := func(start, end quantity.Bytes) bool {
		return slices.ContainsFunc(written, func(r Range) bool { return r.touches(start, end) })
	}
	add("device number", i.Device, later.Device)
	add("serial number", i.Serial, later.Serial)
	add("world wide name", i.WWN, later.WWN)
	add("backing", i.Behind, later.Behind)
	add("ground", i.Below, later.Below)
	add("size", i.Size.Full(), later.Size.Full())
	add("inode", numbered(i.Inode), numbered(later.Inode))
	add("inode's generation", numbered(i.Generation), numbered(later.Generation))
	add("time of birth", i.Born, later.Born)
	switch {
	case len(written) == 0 && !slices.Equal(i.Holds, later.Holds):
		add("content", i.HoldsInWords(), later.HoldsInWords())
	case len(written) > 0:
		for _, name := range later.Holds {
			if name != UnknownContent && !slices.Contains(i.Holds, name) {
				words = append(words, fmt.Sprintf("%s is on it, which was not there before", name))
			}
		}
	}
	if i.UUID != "" && later.UUID != "" {
		add("UUID", i.UUID, later.UUID)
	}
	if i.Head != later.Head && !wrote(0, EndLength) {
		words = append(words, "its first MiB was written since")
	}
	if i.Tail != later.Tail && !wrote(i.Size-EndLength, i.Size) {
		words = append(words, "its last MiB was written since")
	}
	if len(i.Between) != len(later.Between) {
		return words
	}
	for n, at := range Places(i.Size) {
		from, to := n*PlaceDigest, (n+1)*PlaceDigest
		if to <= len(i.Between) && !bytes.Equal(i.Between[from:to], later.Between[from:to]) && !wrote(at, at+PlaceLength) {
			return append(words, fmt.Sprintf("what lies at %s was written since", at))
		}
	}
	return words
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func numbered(n uint64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}
