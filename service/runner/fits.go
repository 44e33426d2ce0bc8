package runner

import (
	"errors"
	"fmt"

	"patientheron/core/load"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/host"
	"patientheron/resource"
	"patientheron/storage"
)

// ErrMemory is given when a load's buffers do not fit into memory.
var ErrMemory = errors.New("not enough memory")

// Fits reports a load whose buffers would take more than three quarters of the
// memory that is left, with a depth that would fit. Simulated arrays keep one
// buffer for all operations of a worker.
func Fits(spec workload.Spec, volume resource.Volume) error {
	left, err := host.MemoryLeft()
	if err != nil {
		return nil // what cannot be looked at stops nobody
	}
	return fits(spec, volume, left/4*3)
}

func fits(spec workload.Spec, volume resource.Volume, most quantity.Bytes) error {
	needs := func(depth int) quantity.Bytes {
		of := spec
		of.Depth = depth
		if storage.TraitsOf(volume.Kind).Virtual {
			of.Depth = 1
		}
		return load.Memory(of)
	}
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
		ErrMemory, spec.Workers, spec.Depth, spec.LargestBlock(), needs(spec.Depth), most, next)
}
