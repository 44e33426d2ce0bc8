package localfile

import (
	"errors"

	"patientheron/core/load"
	"patientheron/core/workload"
)

// beside are the loads of a measurement that are at once, of which some work on files: each
// opened by itself.
type beside struct {
	parts  []load.Volume // by the number of the load
	blocks load.Volume   // that those of blocks have between them; nil where there are none
}

// useFiles opens the trees for a load, and what is there of blocks where loads of blocks are
// beside those of files.
func (v *Volume) useFiles(spec workload.Spec) (load.Volume, error) {
	if !spec.Several() {
		return v.trees[0].open(spec)
	}
	b, trees := &beside{}, v.trees
	for _, p := range spec.Completed().Parts() {
		var part load.Volume
		var err error
		switch {
		case p.Traits().OnFiles:
			part, err = trees[0].open(p)
			trees = trees[1:]
		case b.blocks == nil:
			b.blocks, err = v.useBlocks(blocksOf(spec))
			part = b.blocks
		default:
			part = b.blocks
		}
		if err != nil {
			return nil, errors.Join(err, b.Close())
		}
		b.parts = append(b.parts, part)
	}
	return b, nil
}

// blocksOf is a load without those of files among several at once, of which there are
// others.
func blocksOf(spec workload.Spec) workload.Spec {
	all := spec.Together
	spec.Together = nil
	for _, p := range all {
		if !p.Traits().OnFiles {
			spec.Together = append(spec.Together, p)
		}
	}
	return spec.Completed()
}

// Facts are those of what is there of blocks, if anything is.
func (b *beside) Facts() (facts load.Facts) {
	if b.blocks != nil {
		facts = b.blocks.Facts()
	} else {
		for _, p := range b.parts {
			facts.Size += p.Facts().Size
		}
		facts.Alignment = 1
	}
	facts.Files = true
	return facts
}

// Open makes a queue for a worker of one of the loads.
func (b *beside) Open(options load.QueueOptions) (load.Queue, error) {
	return b.parts[options.Part].Open(options)
}

// Close closes what was opened.
func (b *beside) Close() error {
	var errs []error
	closed := false
	for _, p := range b.parts {
		if p == b.blocks {
			if closed {
				continue
			}
			closed = true
		}
		errs = append(errs, p.Close())
	}
	return errors.Join(errs...)
}
