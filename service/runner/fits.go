package runner

import (
	"fmt"

	"patientheron/core/load"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/host"
	"patientheron/resource"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// Spare is the memory that a run may take: three quarters of what is left; 0 when that
// cannot be looked at.
func Spare() quantity.Bytes {
	left, err := host.MemoryLeft()
	if err != nil {
		return 0
	}
	return left / 4 * 3
}

// Fits reports a load whose buffers would take more than three quarters of the
// memory that is left, with a depth that would fit. Simulated arrays keep one
// buffer for all operations of a worker.
// Several loads at once share it.
func Fits(spec workload.Spec, on resource.Volume, atOnce int) error {
	if !storage.TraitsOf(on.Kind).Virtual {
		if err := hasThreads(spec.Completed(), atOnce, host.ThreadsLeft(), host.DescriptorsLeft()); err != nil {
			return err
		}
	}
	if most := Spare() / quantity.Bytes(max(atOnce, 1)); most > 0 {
		return fits(spec.Completed(), on, most)
	}
	return nil // what cannot be looked at stops nobody
}

// threadsBeside is how many threads are left to what else the service does.
const threadsBeside = 32

// hasThreads reports workers that this process may not have threads or descriptors for: each
// has a thread, the kernel may start another for its ring, and each has descriptors of its own.
func hasThreads(spec workload.Spec, atOnce int, threads, descriptors host.Room) error {
	workers := int64(spec.Workers) * int64(max(atOnce, 1))
	if need := 2*workers + threadsBeside; need > threads.Left {
		return fmt.Errorf("%w: %d workers take %d threads with those beside them, and %d more are allowed by %s; use at most %d workers, or raise that limit",
			volume.ErrLimit, workers, need, threads.Left, threads.By, max(threads.Left-threadsBeside, 0)/2)
	}
	each := int64(8)
	for _, part := range spec.Parts() {
		each = max(each, 8+2*int64(part.Traits().Handles))
	}
	if need := workers * each; need > descriptors.Left {
		return fmt.Errorf("%w: %d workers open up to %d files, and %d more are allowed by %s; use fewer workers or less depth, or raise that limit", volume.ErrLimit, workers, need, descriptors.Left, descriptors.By)
	}
	return nil
}

func fits(spec workload.Spec, on resource.Volume, most quantity.Bytes) error {
	needs := func(depth int) quantity.Bytes {
		if storage.TraitsOf(on.Kind).Virtual {
			depth = 1
		}
		return load.Memory(spec.Shallower(depth))
	}
	if keeps := spec.Keeps(); keeps > most {
		return fmt.Errorf("%w: the keys of its stores take %s, and %s of memory can be spared; use larger values, or a smaller span", volume.ErrMemory, keeps, most)
	}
	most -= spec.Keeps()
	if needs(spec.Depth) <= most {
		return nil
	}
	depth := spec.Depth
	for depth > 0 && needs(depth) > most {
		depth /= 2
	}
	next := fmt.Sprintf("use depth %d, or smaller blocks", depth)
	if depth == 0 {
		next = "use smaller blocks, or fewer workers"
	}
	return fmt.Errorf("%w: the buffers for workers × depth = %d × %d and blocks of %s take %s, and %s of memory can be spared; %s",
		volume.ErrMemory, spec.Workers, spec.Depth, spec.LargestBlock(), needs(spec.Depth), most, next)
}
