package workload

import (
	"encoding/json"
	"slices"
)

// Key names a load in all that it does, for how long included: measurements under loads of
// one key are made in the same way.
func (s Spec) Key() string {
	s = s.Alike()
	s.Name = ""
	key, err := json.Marshal(s)
	if err != nil { // which only a number that is none can bring about
		return s.Describe()
	}
	return string(key)
}

// Alike is a load without what may differ between measurements that do the same: what is
// drawn, and how finely it is recorded.
func (s Spec) Alike() Spec {
	s = s.Completed()
	s.Seed, s.Interval = 0, 0
	s.Together = slices.Clone(s.Together)
	for i := range s.Together {
		s.Together[i].Seed, s.Together[i].Interval = 0, 0
	}
	return s
}
