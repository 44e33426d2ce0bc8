package stores

import (
	"errors"
	"math"
	"strings"
	"testing"

	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func storesLoad(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span = 256 * quantity.MiB
	s.SetBody(&Stores{Count: 2, Requests: []RequestShare{{PutRequest, 1}, {GetRequest, 1}}, Value: fileset.Sizes{Fixed: 400}, Memtable: quantity.MiB})
	if change != nil {
		change(&s)
	}
	return s
}

// Stores keep to spans of their own, none issues what lies outside of them, and each is
// asked as the mix says.
func TestStoresKeepToTheirSpans(t *testing.T) {
	s := storesLoad(func(s *workload.Spec) {
		Of(*s).Count, s.Workers, s.Offset, Of(*s).Requests = 3, 2, 1<<20, append(Of(*s).Requests, RequestShare{ScanRequest, 0.5})
	})
	room := Of(s).room(s.Span)
	counts, seen := [4]int{}, map[int64]bool{}
	for worker := range 2 {
		source, err := workload.NewSource(s, worker)
		if err != nil {
			t.Fatal(err)
		}
		var under []workload.Access
		for now := range int64(60_000) {
			for source.Due() == 0 {
				var a workload.Access
				source.Next(&a)
				if a.Class != measure.Flush {
					store := (a.Offset - 1<<20) / room
					if int(store)%2 != worker || a.Offset+int64(a.Length) > 1<<20+(store+1)*room || a.Length > storePiece {
						t.Fatalf("worker %d: %+v in rooms of %d", worker, a, room)
					}
					seen[store] = true
				}
				under = append(under, a)
			}
			a := under[0]
			under = under[1:]
			for whole := source.Completed(&a, now, nil); whole != nil; whole = whole.More {
				counts[whole.Group]++
				if whole.Began > now || whole.Group != 3 && whole.Bytes == 0 {
					t.Fatalf("%+v at %d", whole, now)
				}
			}
		}
		if most := s.Completed().Depth; len(under) > most {
			t.Errorf("%d operations are under way, in a queue of %d", len(under), most)
		}
	}
	all := float64(counts[0] + counts[1] + counts[2])
	for group, share := range []float64{0.4, 0.4, 0.2} {
		if got := float64(counts[group]) / all; math.Abs(got-share) > 0.02 {
			t.Errorf("%s are %.3f of all, asked for %.3f", storeGroups[group], got, share)
		}
	}
	if len(seen) != 3 {
		t.Errorf("%d of 3 stores did something", len(seen))
	}
}

func TestStoresThatCannotBe(t *testing.T) {
	for field, change := range map[string]func(*workload.Spec){
		"stores":     func(s *workload.Spec) { Of(*s).Count = 0 },
		"workers":    func(s *workload.Spec) { s.Workers = 3 },
		"requests":   func(s *workload.Spec) { Of(*s).Requests = nil },
		"value":      func(s *workload.Spec) { Of(*s).Value.Fixed = quantity.MiB },
		"memtable":   func(s *workload.Spec) { Of(*s).Memtable = quantity.KiB },
		"levelRatio": func(s *workload.Spec) { Of(*s).LevelRatio = 1 },
		"log":        func(s *workload.Spec) { Of(*s).Log = "sometimes" },
		"span":       func(s *workload.Spec) { s.Span = 32 * quantity.MiB },
		"zone":       func(s *workload.Spec) { Of(*s).Zone = 4097 },
		"keySkew":    func(s *workload.Spec) { Of(*s).Skew = math.NaN() },
		"amount":     func(s *workload.Spec) { s.Amount = quantity.GiB },
		"clients":    func(s *workload.Spec) { Of(*s).Clients = 1000 },
		"kind":       func(s *workload.Spec) { s.Kind = workload.BlockKind },
	} {
		var wrong *mistake.Error
		if err := storesLoad(change).Validate(); !errors.As(err, &wrong) || wrong.Field != field {
			t.Errorf("%s: %v", field, err)
		}
	}
	if err := storesLoad(func(s *workload.Spec) { s.Span, Of(*s).Value.Fixed = 100*quantity.GiB, 100 }).Validate(); err == nil || !strings.Contains(err.Error(), "use larger values") {
		t.Errorf("too many keys: %v", err)
	}
	if err := storesLoad(func(s *workload.Spec) { s.Workers, Of(*s).Count, s.Span = 1, 1, 100*quantity.GiB }).Validate(); err == nil || !strings.Contains(err.Error(), "use larger values") {
		t.Errorf("too many keys of one store: %v", err)
	}
	if err := storesLoad(nil).Validate(); err != nil {
		t.Error(err)
	}
	want := "2 stores, put:1,get:1, values of 400 B, 16 clients, log group-commit, span 256 MiB"
	if got := storesLoad(nil).Describe(); got != want {
		t.Errorf("%s, want %s", got, want)
	}
}
