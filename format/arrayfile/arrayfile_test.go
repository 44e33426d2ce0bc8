package arrayfile

import (
	"errors"
	"math"
	"strings"
	"testing"

	"patientheron/core/array"
	"patientheron/core/quantity"
)

const full = `name: Everything
price: 4200
members:
  - {count: 4, medium: hard disk, capacity: 4TB, rpm: 7200, seekAverage: 8ms}
  - {count: 1, medium: hard disk, capacity: 4TB, slow: 5}
layout: {level: raid5, chunk: 128KiB}
controller: {operations: 80k, throughput: 1200MB/s}
caches:
  - {name: controller memory, size: 2GiB, mode: write-back, protected: true, dirtyLimit: 40%}
link: {rate: 125MB/s, mtu: [9000, 1500], roundTrip: 200us, count: 2, combined: multipath}
replica: {kilometres: 50, service: 300us}
faults: [{kind: member fails, at: 10s, member: 2}]
`

func TestReadGivesEveryValue(t *testing.T) {
	d, err := Read([]byte(full))
	if err != nil {
		t.Fatal(err)
	}
	if d.Members[1].Slow != 5 || d.Members[0].SeekAverage != 0.008 || d.Layout.Chunk != 128*quantity.KiB || d.Controller.Operations != 80_000 ||
		!d.Caches[0].Protected || d.Caches[0].DirtyLimit != 0.4 || d.Link.MTU != [2]int{9000, 1500} || d.Link.Combined != array.Multipath ||
		d.Replica.Kilometres != 50 || d.Faults[0].At != 10 || d.Price != 4200 {
		t.Errorf("%+v", d)
	}
}

func TestReadGivesAPool(t *testing.T) {
	d, err := Read([]byte(`members: {count: 2, medium: ssd, capacity: 1TB}
layout: {level: raid1}
thin: {unit: 16KiB, size: 3TB, compresses: true, deduplicates: true, throughput: 2GB/s, index: 8GiB}
snapshots: {every: 60s, keep: 3}
empty: 80%
`))
	if err != nil {
		t.Fatal(err)
	}
	if want := (array.Thin{Unit: 16 * quantity.KiB, Size: 3e12, Compresses: true, Deduplicates: true, Throughput: 2e9, Index: 8 * quantity.GiB}); *d.Thin != want || d.Snapshots != (array.Snapshots{Every: 60, Keep: 3}) || d.Empty != 0.8 {
		t.Errorf("%+v, %+v", d, *d.Thin)
	}
}

func TestMistakesHaveALineAndAColumn(t *testing.T) {
	for name, c := range map[string]struct {
		text         string
		line, column int
		words        string
	}{
		"two disks for RAID 5": {"members: {count: 2, medium: hard disk, capacity: 1TB}\nlayout: {level: raid5}\n", 2, 17, "needs at least 3"},
		"no size":              {"members: {count: 2, medium: ssd, capacity: 0}\nlayout: {level: raid1}\n", 1, 44, "from 1 MiB"},
		"nothing to look for":  {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nthin: {compresses: true, index: 1GiB}\n", 3, 33, "deduplicates: true"},
		"nothing reduces":      {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nthin: {throughput: 1GB/s}\n", 3, 20, "compresses: true"},
		"a page to compress":   {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nthin: {unit: 4KiB, compresses: true}\n", 3, 14, "8 KiB or more"},
		"more than a PiB":      {"members: {count: 250, medium: ssd, capacity: 8TB}\nlayout: {level: raid5}\nthin: {unit: 1MiB}\n", 3, 0, "say how large"},
		"large to compress":    {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nthin: {unit: 2MiB, compresses: true}\n", 3, 14, "at most 1 MiB"},
		"no room to change":    {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nthin: {size: 1TB, compresses: true}\n", 1, 8, "how much is empty"},
		"uneven stripes":       {"members: {count: 8, medium: ssd, capacity: 1TB}\nlayout: {level: raid5, stripe: 3, spares: 1}\n", 2, 32, "choose stripe and spares"},
		"spares of all":        {"members: {count: 8, medium: ssd, capacity: 1TB}\nlayout: {level: raid5, spares: 1}\n", 2, 32, "add stripe"},
		"a stripe of mirrors":  {"members: {count: 8, medium: ssd, capacity: 1TB}\nlayout: {level: raid10, stripe: 4}\n", 2, 33, "only raid5 and raid6"},
		"no room to rebuild":   {"members: {count: 8, medium: ssd, capacity: 1TB}\nlayout: {level: raid5, stripe: 4}\nfaults: [{kind: rebuild, member: 1, rate: 1MB/s}]\n", 3, 17, "spares: 1"},
		"many channels":        {"members: {count: 8, medium: ssd, capacity: 1TB, channels: 64}\nlayout: {level: raid5}\n", 1, 59, "not more than dies"},
		"channels of disks":    {"members: {count: 8, medium: hard disk, capacity: 1TB, channels: 8}\nlayout: {level: raid5}\n", 1, 65, "only an ssd"},
		"unknown key":          {"members: {count: 2, colour: red}\n", 1, 21, `no key "colour"`},
		"one unsafe device":    {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\ncaches: {size: 1GiB, mode: write-back, protected: true, devices: 1}\n", 3, 51, "use two"},
		"negative distance":    {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nreplica: {kilometres: -3}\n", 3, 0, "not negative"},
		"three ends":           {"link: {rate: 1GB/s, mtu: [1, 2, 3]}\n", 1, 33, "two ends"},
		"one end":              {"link: {rate: 1GB/s, mtu: [9000]}\n", 1, 0, "both ends"},
		"a zero":               {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\ncaches: {size: 1GiB, mode: read-only, hitTime: 0}\n", 3, 48, "leave it out"},
		"no price":             {"members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\nprice: nan\n", 3, 8, "not a number"},
		"nothing left":         {"members: {count: 2, medium: ssd, capacity: 1MiB}\nlayout: {level: raid0, chunk: 2MiB}\n", 2, 31, "nothing is left"},
		"rebuilt before":       {"members: {count: 3, medium: ssd, capacity: 1TB}\nlayout: {level: raid5}\nfaults: [{kind: rebuild, at: 1s, member: 1, rate: 50MB/s}, {kind: member fails, at: 2s, member: 1}]\n", 3, 30, "does not fail before"},
		"nothing":              {"name: x\n", 1, 0, "raid10"},
	} {
		_, err := Read([]byte(c.text))
		var wrong *Error
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), c.words) || wrong.Line != c.line || (c.column > 0 && wrong.Column != c.column) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What a file states is what is simulated, to parts of a nanosecond.
func TestSmallValuesAreKept(t *testing.T) {
	d, err := Read([]byte("members: {count: 24, medium: ssd, capacity: 16TB, interface: 3.9GB/s}\nlayout: {level: raid6}\nlink: {rate: 25GB/s, perByte: 0.5ns, roundTrip: 0, hosts: 3}\nempty: 100%\n"))
	if err != nil || d.Link.PerByte != 0.5e-9 || d.Link.Hosts != 3 || d.Empty != 1 || d.Members[0].Interface != 3.9e9 {
		t.Errorf("%+v, %v", d, err)
	}
}

// Whatever file is accepted can be simulated.
func FuzzRead(f *testing.F) {
	f.Add([]byte(full))
	f.Add([]byte("members: {medium: ssd, capacity: 1GiB}\nlayout: {level: raid0}"))
	f.Add([]byte("members: [1]"))
	f.Fuzz(func(t *testing.T, text []byte) {
		d, err := Read(text)
		if err != nil || d.Usable() > 1<<42 { // the page map of a petabyte takes its time
			return
		}
		for _, c := range d.Caches {
			if c.Size > 1<<36 { // clearing tables of gigabytes takes its time
				return
			}
		}
		a, err := array.New(d)
		if err != nil {
			t.Fatalf("%q was read but cannot be built: %v", text, err)
		}
		for i := range 8 {
			a.Submit(array.Request{Tag: i, Write: i%2 == 0, Offset: int64(i) * 4096 % int64(max(d.Usable()-8192, 1)), Length: 8192})
		}
		for steps := 0; len(a.Done()) < 8; steps++ {
			if !a.Step(math.MaxInt64) || steps > 1_000_000 {
				t.Fatalf("%q: only %d of 8 operations were answered", text, len(a.Done()))
			}
		}
	})
}
