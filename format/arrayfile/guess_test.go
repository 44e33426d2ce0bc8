package arrayfile

import (
	"testing"
	clock "time"

	"patientheron/core/setup"
)

// What is known of limits, groups of parity and spares is in a guess as it is.
func TestGuessesTakeOverLimitsAndGroups(t *testing.T) {
	const text = `members: {count: 8, medium: hard disk, capacity: 1TB}
layout: {level: raid5, chunk: 32KiB, groups: 2, hotSpares: 1, rebuildRate: 80MB/s}
limits: {operations: 5k, throughput: 300MB/s, reads: 4k, writes: 1k, readRate: 200MB/s, writtenRate: 90MB/s}
`
	d, err := Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	guess, err := Guess("twin", d.Setup())
	if err != nil {
		t.Fatal(err)
	}
	got, err := Read(guess)
	if err != nil {
		t.Fatal(err)
	}
	if got.Layout != d.Layout || got.Limits != d.Limits || got.Members[0].Count != 8 {
		t.Errorf("%+v, %+v, want %+v, %+v:\n%s", got.Layout, got.Limits, d.Layout, d.Limits, guess)
	}
	var real setup.Setup
	for key, value := range map[string]string{"media[0].kind": "hard disk", "media[0].count": "1", "media[0].size": "1TB", "queue.readsMost": "500", "queue.writtenMost": "20MB/s"} {
		if err := real.Set(key, value, setup.Read, clock.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	if guess, err = Guess("twin", real); err != nil {
		t.Fatal(err)
	}
	if got, err = Read(guess); err != nil || got.Limits.Reads != 500 || got.Limits.WrittenRate != 20e6 {
		t.Errorf("limits of this host: %+v (%v)\n%s", got.Limits, err, guess)
	}
}
