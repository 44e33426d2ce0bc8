package setup

import (
	"fmt"
	"slices"
	"strings"

	"patientheron/core/quantity"
)

// Identity is what tells a file or a device, with what it holds, from any
// other. Consent to overwrite is given for one, and is worth nothing for
// another that stands in its place. What a kind of storage does not have is
// empty.
type Identity struct {
	Device     string         `json:"device" doc:"Number of the block device, or of the file system that a file is on, as major:minor"`
	Serial     string         `json:"serial,omitempty"`
	WWN        string         `json:"wwn,omitempty" doc:"World wide name"`
	Behind     string         `json:"behind,omitempty" doc:"What a virtual device stands for: the file of a loop device, the UUID of a mapped or RAID device, or the sequence number of the disk"`
	Size       quantity.Bytes `json:"sizeBytes"`
	Inode      uint64         `json:"inode,omitempty" doc:"Of a file"`
	Generation uint64         `json:"generation,omitempty" doc:"Of a file whose file system counts how often an inode is used anew"`
	Born       string         `json:"born,omitempty" doc:"When a file was made, where its file system keeps that"`
	Holds      []string       `json:"holds,omitempty" doc:"What is recognised on it"`
	UUID       string         `json:"uuid,omitempty" doc:"Of what it holds"`
	Head       string         `json:"head" doc:"SHA-256 of its first MiB"`
	Tail       string         `json:"tail" doc:"SHA-256 of its last MiB"`
}

// HoldsInWords names what is recognised, or nothing.
func (i Identity) HoldsInWords() string { return strings.Join(i.Holds, ", ") }

// Differences says in words how another identity, found later, differs; none
// when it is the same. A UUID counts where both are known: it takes a tool to
// read it, which may come and go.
func (i Identity) Differences(later Identity) []string {
	var words []string
	add := func(what, before, now string) {
		if before != now {
			words = append(words, fmt.Sprintf("its %s was %s and is %s", what, orNone(before), orNone(now)))
		}
	}
	add("device number", i.Device, later.Device)
	add("serial number", i.Serial, later.Serial)
	add("world wide name", i.WWN, later.WWN)
	add("backing", i.Behind, later.Behind)
	add("size", i.Size.Full(), later.Size.Full())
	add("inode", numbered(i.Inode), numbered(later.Inode))
	add("inode's generation", numbered(i.Generation), numbered(later.Generation))
	add("time of birth", i.Born, later.Born)
	if !slices.Equal(i.Holds, later.Holds) {
		add("content", i.HoldsInWords(), later.HoldsInWords())
	}
	if i.UUID != "" && later.UUID != "" {
		add("UUID", i.UUID, later.UUID)
	}
	if i.Head != later.Head {
		words = append(words, "its first MiB was written since")
	}
	if i.Tail != later.Tail {
		words = append(words, "its last MiB was written since")
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
