package arrayfile_test

import (
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"patientheron/core/array"
	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/format/arrayfile"
)

// A text with keys at other values reads as the text does with those values, whatever form it
// was written in.
func TestWhatIsWrittenReadsTheSame(t *testing.T) {
	settings := []plan.Setting{{Field: "members[0].overhead", Value: "62us"}, {Field: "caches[0].size", Value: "1GiB"}, {Field: "caches[0].hitTime", Value: "30us"}, {Field: "link.rate", Value: "2GB/s"}, {Field: "name", Value: `"it's: \"new\""`}}
	for _, text := range []string{
		"name: a\nmembers: {count: 4, medium: hard disk, capacity: 2TB}\nlayout: {level: raid0}\ncaches: {size: 2GiB, mode: read-only}\nlink: {rate: 3GB/s, mtu: [1500, 9000]}\n",
		"# x\nlayout:\n  level: raid5 # five\nmembers:\n  - count: 4 # z\n    medium: hard disk\n    capacity: 2TB\n  - count: 2\n    medium: ssd\n    capacity: 2TB\ncaches:\n- name: c\n  size: 4GiB\n  mode: write-back\n  log: {time: 1ms}\nfaults:\n  - {kind: member fails, member: 1, at: 3s}\n  - {kind: member fails, member: 2, at: 9s}\n",
	} {
		want, err := arrayfile.ReadWith([]byte(text), settings)
		if err != nil {
			t.Fatal(err)
		}
		written, err := arrayfile.WriteWith([]byte(text), settings, "Two\nlines: {of it.")
		if err != nil {
			t.Fatal(err)
		}
		got, err := arrayfile.Read(written)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%v\n%s\n%+v\n%+v", err, written, got, want)
		}
		if !strings.HasPrefix(string(written), "# Two lines: {of it.\nname: ") {
			t.Errorf("%s", written)
		}
	}
	if _, err := arrayfile.WriteWith([]byte("members: {count: 1}\nlayout: {level: raid0}\n"), nil); err == nil {
		t.Error("an impossible array is written")
	}
}

// told is a setup of facts in the form "key=value".
func told(t *testing.T, facts string) (s setup.Setup) {
	t.Helper()
	for fact := range strings.SplitSeq(facts, ";") {
		key, value, _ := strings.Cut(fact, "=")
		if err := s.Set(strings.TrimSpace(key), value, setup.Told, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

func TestGuessesFromFacts(t *testing.T) {
	text, err := arrayfile.Guess(`a "pool"`, told(t, "media[0].kind=hard disk; media[0].count=6; media[0].size=4TB; media[0].rpm=5400; media[0].readRate=180MB/s; media[1].kind=ssd; media[1].count=2; media[1].size=1TB; media[1].randomReadRate=400000; media[1].randomWriteRate=50000; media[1].interface=550MB/s; layout.level=raid6; layout.chunk=128KiB; cache[0].size=4GiB; cache[0].mode=write-back; controller.operations=90000; link[0].rate=125MB/s; link[0].count=2; link[0].mtuHere=9000"))
	if err != nil {
		t.Fatal(err)
	}
	d, err := arrayfile.Read(text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	disks, flash := d.Members[0], d.Members[1]
	switch {
	case d.Name != `a "pool"`, d.Layout != array.Layout{Level: array.DoubleParity, Chunk: 128 << 10}:
		t.Errorf("%s", text)
	case disks.Count != 6, disks.RPM != 5400, disks.OuterRate != 180e6, disks.Capacity != 4e12:
		t.Errorf("%+v", disks)
	// 400,000 reads of 70 µs each are 28 at a time, and 28 that program 50,000 pages a second take 560 µs for each.
	case flash.Dies != 28, flash.ReadTime != 70e-6, flash.ProgramTime != 560e-6, flash.Interface != 550e6:
		t.Errorf("%+v", flash)
	case len(d.Caches) != 1, d.Caches[0].Size != 4<<30, d.Controller.Operations != 90000, d.Link.Rate != 125e6, d.Link.Count != 2, d.Link.MTU != [2]int{9000, 9000}:
		t.Errorf("%+v %+v %+v", d.Caches, d.Controller, d.Link)
	}
	for facts, want := range map[string]string{
		"media[0].kind=ssd": "tell media[0].size",
		"media[0].kind=hard disk; media[0].count=4; media[0].size=1TB": "tell layout.level",
		"layout.level=raid5": "tell media[0].kind, media[0].size",
		"media[0].kind=ssd; media[0].size=1TB; layout.level=raid5": "raid5",
	} {
		if _, err := arrayfile.Guess("x", told(t, facts)); !errors.Is(err, arrayfile.ErrUnknown) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", facts, err)
		}
	}
	if _, err := arrayfile.Guess("one", told(t, "media[0].kind=ssd; media[0].size=1TB")); err != nil {
		t.Error(err)
	}
}

// What an array says of itself as facts makes a guess that says the same.
func TestFactsOfAnArrayMakeItAgain(t *testing.T) {
	for _, text := range []string{
		"members: {count: 5, medium: hard disk, capacity: 4TB, rpm: 5400, seekAverage: 9ms}\nlayout: {level: raid5, chunk: 256KiB}\ncontroller: {operations: 5000}\n",
		"members: {count: 4, medium: low-latency nvme, capacity: 1TB, units: 16, readTime: 20us, programTime: 15us}\nlayout: {level: raid10}\nlink: {rate: 3GB/s, roundTrip: 30us}\n",
	} {
		d, err := arrayfile.Read([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		guess, err := arrayfile.Guess("again", d.Setup())
		if err != nil {
			t.Fatal(err)
		}
		again, err := arrayfile.Read(guess)
		if err != nil {
			t.Fatal(err)
		}
		before, after := d.Parameters(), again.Parameters()
		if len(before) != len(after) {
			t.Fatalf("%v\n%v", before, after)
		}
		for i, p := range before {
			q := after[i]
			at := p.Value / q.Value
			if ofFlash := strings.HasSuffix(p.Key, "units") || strings.HasSuffix(p.Key, "Time"); p.Key != q.Key || !ofFlash && (at < 0.999 || at > 1.001) {
				t.Errorf("%+v became %+v", p, q)
			}
		}
	}
}
