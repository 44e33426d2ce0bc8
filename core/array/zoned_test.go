package array

import (
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/quantity"
)

func zonedDisk(medium Medium) Description {
	return Description{
		Members: []Group{{Count: 2, Medium: medium, Capacity: 64 * quantity.MiB, Zone: 4 * quantity.MiB, OpenZones: 5}},
		Layout:  Layout{Level: Concatenation, Chunk: 64 * quantity.KiB}, Empty: 0.6,
	}
}

// Writes are taken or refused as a plain table of zones says, whatever their order.
func TestZonesAgainstAPlainTable(t *testing.T) {
	for _, medium := range []Medium{HardDisk, Flash} {
		a := build(t, zonedDisk(medium))
		const pages = 1024 // of a zone
		source := rand.New(rand.NewPCG(6, 1))
		written := make([]int, 32) // pages of each zone, by hand: the first 12.8 hold data
		for i := range written {
			written[i] = min(max(int(float64(a.Size())*0.4/4096)-i*pages, 0), pages)
		}
		begun := func(drive int) (count int) {
			for _, pages := range written[drive*16 : drive*16+16] {
				if pages > 0 && pages < 1024 {
					count++
				}
			}
			return count
		}
		refused, taken := 0, 0
		for range 30_000 {
			zone := source.IntN(32)
			if source.IntN(40) == 0 {
				one(a, Request{Trim: true, Offset: int64(zone) * pages * 4096, Length: pages * 4096})
				written[zone] = 0
				continue
			}
			at, length := written[zone], 1+source.IntN(60)
			if source.IntN(10) == 0 {
				at = source.IntN(pages)
			}
			if at == pages || at+length > pages && zone%16 == 15 {
				continue // it is another zone's, or falls apart on two drives
			}
			well := at == written[zone] && at+length <= pages && !(at == 0 && begun(zone/16) == 5 && length < pages)
			if got := one(a, Request{Write: true, Offset: int64(zone*pages+at) * 4096, Length: length * 4096}); got != well {
				t.Fatalf("%s: %d pages at page %d of zone %d, of which %d are written, with %d begun on its drive: taken %v", medium, length, at, zone, written[zone], begun(zone/16), got)
			}
			if well {
				written[zone] += length
				taken++
			} else {
				refused++
			}
		}
		if taken < 2000 || refused < 2000 || int(a.counters.zonesRefused) < refused {
			t.Errorf("%d taken, %d refused, %d counted", taken, refused, a.counters.zonesRefused)
		}
	}
}

// The map has a digit for each zone up to the last that was touched: empty, full, or in
// between, and of many those that lie beside each other on average.
func TestMapOfZones(t *testing.T) {
	d := zonedDisk(HardDisk)
	d.Members[0].OpenZones, d.Empty = 0, 1
	a := build(t, d)
	if m := a.ZoneMap(); m != "" {
		t.Errorf("untouched: %q", m)
	}
	one(a, Request{Write: true, Offset: 0, Length: 4 << 20})
	one(a, Request{Write: true, Offset: 8 << 20, Length: 2 << 20})
	one(a, Request{Write: true, Offset: 12 << 20, Length: 4096})
	if m := a.ZoneMap(); m != "9051" {
		t.Errorf("full, empty, half and begun: %q", m)
	}
	one(a, Request{Trim: true, Offset: 0, Length: 4 << 20})
	if m := a.ZoneMap(); m != "0051" {
		t.Errorf("the first was reset: %q", m)
	}
	d.Members[0].Count, d.Members[0].Zone = 1, quantity.MiB
	d.Members[0].Capacity = 128 * quantity.MiB
	a = build(t, d)
	for i := range int64(128) {
		one(a, Request{Write: true, Offset: i << 20, Length: 1 << (19 + i%2)})
	}
	if m := a.ZoneMap(); m != strings.Repeat("7", 64) { // three quarters of each two
		t.Errorf("128 zones: %q", m)
	}
}

// A stream into empty zones runs at the rate of the media; the same once more is refused
// until the zones are reset. Drives of zones stand alone.
func TestZonesAreWrittenInOrder(t *testing.T) {
	d := zonedDisk(HardDisk)
	d.Members[0].Capacity, d.Members[0].Zone, d.Members[0].OpenZones, d.Empty = 32*quantity.GiB, 256*quantity.MiB, 0, 1
	a := build(t, d)
	r := closed(a, 8, 4000, sequential(0, 1<<20, true))
	within(t, "stream into empty zones", r.rate*(1<<20)/1e6, 220, 0.05)
	if r.failed > 0 {
		t.Errorf("%d writes in order were refused", r.failed)
	}
	if one(a, Request{Write: true, Offset: 0, Length: 1 << 20}) {
		t.Error("a full zone was written to")
	}
	one(a, Request{Trim: true, Offset: 0, Length: 256 << 20})
	if !one(a, Request{Write: true, Offset: 0, Length: 1 << 20}) || !one(a, Request{Offset: 5 << 30, Length: 4096}) {
		t.Error("a zone that was reset is not written to, or not read")
	}
	for field, change := range map[string]func(*Description){
		"layout.level":         func(d *Description) { d.Layout.Level = Mirror },
		"members[0].zone":      func(d *Description) { d.Members[0].Zone = 3 * quantity.MiB },
		"members[0].openZones": func(d *Description) { d.Members[0].Zone = 0 },
		"caches":               func(d *Description) { d.Caches = []Cache{{Name: "c", Size: quantity.MiB, Mode: WriteBack}} },
	} {
		bad := zonedDisk(HardDisk)
		if change(&bad); bad.Validate() == nil || !strings.Contains(bad.Validate().Error(), field) {
			t.Errorf("%s: %v", field, bad.Validate())
		}
	}
}
