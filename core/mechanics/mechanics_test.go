package mechanics

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
)

var disk = Disk{Capacity: 4e12}.Completed()

func within(t *testing.T, what string, got, want, tolerance float64) {
	t.Helper()
	if !(math.Abs(got-want) <= want*tolerance) {
		t.Errorf("%s: %.5g, expected %.5g within %g %%", what, got, want, tolerance*100)
	}
}

// The average seek is what the data sheet says, and one place at random costs that
// and half a turn.
func TestPositioningOfOne(t *testing.T) {
	m := New(disk)
	source := rand.New(rand.NewPCG(1, 2))
	sum := 0.0
	const tries = 200_000
	for range tries {
		sum += m.Seek(m.Radius(source.Float64()) - m.Radius(source.Float64()))
	}
	within(t, "average seek", sum/tries, float64(disk.SeekAverage)*1e9, 0.01)
	within(t, "one place at random", m.Positioning(Everywhere, 1), float64(disk.SeekAverage)*1e9+m.Rotation/2, 0.02)
	within(t, "a full seek", m.Seek(1), float64(disk.SeekFull)*1e9, 1e-9)
	within(t, "the outer tracks", m.Rate(0)*1e9, float64(disk.OuterRate), 1e-9)
}

// The shortest of many, against drawing them.
func TestPositioningAgainstDrawing(t *testing.T) {
	m := New(disk)
	source := rand.New(rand.NewPCG(3, 4))
	for _, regions := range [][]Region{Everywhere, {{0, 0.01, 1}}, {{0.2, 0.3, 9}, {0, 1, 1}}} {
		place := func() float64 {
			total := 0.0
			for _, r := range regions {
				total += r.Weight
			}
			at := source.Float64() * total
			for _, r := range regions {
				if at -= r.Weight; at < 0 {
					return m.Radius(r.From + (r.To-r.From)*source.Float64())
				}
			}
			return 1
		}
		for _, among := range []int{1, 4, 32, 200} {
			const tries = 10_000
			sum := 0.0
			for range tries {
				head, best := place(), math.Inf(1)
				for range among {
					best = min(best, m.Seek(place()-head)+source.Float64()*m.Rotation)
				}
				sum += best
			}
			within(t, fmt.Sprintf("the shortest of %d in %v", among, regions), m.Positioning(regions, float64(among)), sum/tries, 0.05)
		}
	}
}

func TestDefaultsFollowWhatIsGiven(t *testing.T) {
	fast := Disk{SeekAverage: 0.0004}.Completed()
	if !(fast.SeekTrack < fast.SeekAverage) {
		t.Errorf("track %v, average %v", fast.SeekTrack, fast.SeekAverage)
	}
	if d := (Disk{InnerRate: 300e6}).Completed(); d.OuterRate < d.InnerRate {
		t.Errorf("outer %v, inner %v", d.OuterRate, d.InnerRate)
	}
}

func BenchmarkPositioning(b *testing.B) {
	m := New(disk)
	for b.Loop() {
		m.Positioning(Everywhere, 32)
	}
}

// No seek that takes as long as is asked goes beyond what is told, and what is told is not far
// beyond it.
func TestReachBoundsSeeks(t *testing.T) {
	for _, sheet := range []Disk{disk, Disk{Capacity: 1e12, RPM: 15000, SeekAverage: 0.0035}.Completed(), Disk{Capacity: 4e6, SeekTrack: 0.008, SeekAverage: 0.0081}.Completed()} {
		m := New(sheet)
		source := rand.New(rand.NewPCG(5, 6))
		for range 100_000 {
			distance := source.Float64()
			if source.IntN(2) == 0 {
				distance = math.Pow(distance, 6)
			}
			if time := m.Seek(distance); m.Reach(time) < distance {
				t.Fatalf("a seek over %g takes %g, and %g is told to be beyond reach", distance, time, m.Reach(time))
			}
		}
		if time := m.Seek(0.2); m.Reach(time) > 0.25 && m.Seek(0.25) > time*1.02 {
			t.Errorf("what takes %g goes no further than 0.2, and %g is told", time, m.Reach(time))
		}
	}
}
