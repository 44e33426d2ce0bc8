package array

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"

	"patientheron/core/filesystem"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// described are arrays that have everything there is, on members of each kind.
func described() (all []Description) {
	log := func() *Log { return &Log{Throughput: 4e8, Time: 1e-4} }
	for _, g := range []Group{
		{Count: 4, Medium: HardDisk, Capacity: quantity.TiB, OuterRate: 2e8, InnerRate: 1e8, Shingled: true, WriteCaching: true, Zone: 256 * quantity.MiB, OpenZones: 8, Slow: 2},
		{Count: 4, Medium: Flash, Capacity: quantity.TiB, FastRegion: 10 * quantity.GiB, Channels: 8, Zone: 256 * quantity.MiB, Slow: 2},
		{Count: 4, Medium: LowLatency, Capacity: quantity.TiB, Slow: 2},
	} {
		cache := Cache{Name: "front", Mirrored: true, Size: quantity.GiB, Mode: WriteBack, ReadAhead: quantity.MiB, Bypass: quantity.MiB, Pinned: quantity.MiB, Log: log()}
		devices := cache
		devices.Name, devices.Devices, devices.Log = "back", 2, log()
		all = append(all, Description{
			Members: []Group{g}, Layout: Layout{Level: Stripe, Chunk: 64 * quantity.KiB, Stripe: 3, Spares: 1}, Shelves: Shelves{Count: 2, Rate: 1e9}, Limits: Limits{Operations: 1000, Throughput: 1e8, Burst: 2, Reads: 700, Writes: 500, ReadRate: 9e7, WrittenRate: 8e7},
			Controller: Controller{Operations: 1e5, Throughput: 2e9, Count: 2, Owner: 1, Takeover: 3, CopyRate: 1e9}, Caches: []Cache{cache, devices}, Thin: &Thin{Unit: quantity.MiB, Throughput: 1e9, Index: quantity.GiB, Deduplicates: true},
			Snapshots: Snapshots{Every: 60, Keep: 3}, Tier: &Tier{Members: g, Level: Stripe, Lower: []LowerTier{{Members: g, Level: Parity}}, Extent: 64 * quantity.MiB, Every: 20, Rate: 5e7, Off: []Region{{0, quantity.GiB}}, Windows: []Window{{0, 3600, 86400}}},
			Link: Link{Rate: 1.25e9, Count: 2, Hosts: 2, Slot: 4e9, OwnDisk: 1e9, PerOp: 1e-6, PerByte: 1e-9, RoundTrip: 1e-4}, Replica: &Replica{Kilometres: 10, Service: 1e-3, Rate: 1e9},
			Neighbours: []Neighbour{{Name: "mail", Size: quantity.GiB, Owner: 1, Writes: 0.3, Depth: 4, At: 5, For: 10}},
			Faults:     []Fault{{Kind: MemberSlows, At: 10, Factor: 2}}, FileSystem: filesystem.Settings{}, PageCache: pagecache.Settings{}, Empty: 0.5,
		})
	}
	return all
}

// others are other values of words.
var others = map[reflect.Type]any{
	reflect.TypeFor[Medium](): Flash, reflect.TypeFor[Level](): Mirror, reflect.TypeFor[CacheMode](): WriteThrough, reflect.TypeFor[CacheFetch](): FetchBlocks,
	reflect.TypeFor[Combined](): Multipath, reflect.TypeFor[FaultKind](): MemberFails, reflect.TypeFor[Dealt](): InTurn, reflect.TypeFor[Order](): Sequential, reflect.TypeFor[ReplicaMode](): Asynchronous,
}

// leaves calls back for every value in a structure, with a way to change it and to put it back.
func leaves(at string, v reflect.Value, do func(path string, change, restore func())) {
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				leaves(strings.TrimPrefix(at+"."+v.Type().Field(i).Name, "."), v.Field(i), do)
			}
		}
	case reflect.Pointer:
		leaves(at, v.Elem(), do)
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			leaves(fmt.Sprintf("%s[%d]", at, i), v.Index(i), do)
		}
	default:
		was := reflect.New(v.Type()).Elem()
		was.Set(v)
		do(at, func() {
			switch v.Kind() {
			case reflect.Bool:
				v.SetBool(!v.Bool())
			case reflect.Int, reflect.Int64:
				v.SetInt(v.Int()*2 + 4096)
			case reflect.Float64:
				v.SetFloat(v.Float()*1.5 + 0.11)
			case reflect.String:
				if other, known := others[v.Type()]; known && reflect.ValueOf(other).String() != v.String() {
					v.Set(reflect.ValueOf(other))
				} else {
					v.SetString("another")
				}
			}
		}, func() { v.Set(was) })
	}
}

// meansNothing reports a key of a fault that is none of the kind that all arrays here have.
func meansNothing(path string) bool {
	key, ofFault := strings.CutPrefix(path, "Faults[0].")
	if !ofFault || key == "Kind" || key == "At" {
		return false
	}
	slows := Fault{Kind: MemberSlows}
	return slows.Idle(strings.ToLower(key[:1])+key[1:]) != ""
}

// Every key of an array is a fact: two arrays that differ in any of them do not "differ in
// nothing that is known".
func TestEveryKeyIsAFact(t *testing.T) {
	beside := []string{"Name", "Price", "Members[0].Price", "Tier.Members.Price", "Tier.Lower[0].Members.Price", "Caches[0].Index", "Caches[1].Mirrored"} // which change no figure; the last two of a cache of memory, and of devices
	told, known := map[string]bool{}, []string{}
	for _, d := range described() {
		before := d.Setup()
		leaves("", reflect.ValueOf(&d).Elem(), func(path string, change, restore func()) {
			if slices.Contains(beside, path) || meansNothing(path) {
				return
			}
			if !slices.Contains(known, path) {
				known = append(known, path)
			}
			if told[path] {
				return // by another description
			}
			change()
			if difference := setup.Diff(before, d.Setup()); len(difference.Changes) > 0 {
				told[path] = true
			}
			restore()
		})
	}
	if len(known) < 120 {
		t.Fatalf("only %d keys were walked", len(known))
	}
	for _, path := range known {
		if !told[path] {
			t.Errorf("%s is no fact", path)
		}
	}
}

// Facts hold exact values: parts of a nanosecond as well.
func TestFactsAreExact(t *testing.T) {
	d := described()[0]
	d.Link.PerByte = 1.5e-9
	if got := d.Setup().Seconds("transport.byteTime"); math.Abs(float64(got)/1.5e-9-1) > 1e-9 {
		t.Errorf("%g", float64(got))
	}
}
