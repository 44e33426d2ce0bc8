package arrayfile

import (
	"errors"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/plan"
	"patientheron/core/workload"
)

const cached = `name: Plain
members: {count: 6, medium: hard disk, capacity: 4TB}
layout: {level: raid5, chunk: 64KiB}
caches:
  - {name: memory, size: 4GiB, block: 16KiB, mode: write-back}
  - {name: flash, size: 400GB, mode: read-only, devices: 2}
link: {rate: 1250MB/s}
`

// What a setting says is what the text says with that value written into it by hand.
func TestReadWith(t *testing.T) {
	replaced := func(old, new string) string {
		if !strings.Contains(cached, old) {
			t.Fatalf("%q is not in the text", old)
		}
		return strings.Replace(cached, old, new, 1)
	}
	for _, c := range []struct{ key, value, text string }{
		{"members.count", "12", replaced("count: 6", "count: 12")},
		{"members[0].count", "12", replaced("count: 6", "count: 12")},
		{"members[1]", "{count: 2, medium: ssd, capacity: 4TB}", replaced("members: {count: 6, medium: hard disk, capacity: 4TB}", "members: [{count: 6, medium: hard disk, capacity: 4TB}, {count: 2, medium: ssd, capacity: 4TB}]")},
		{"layout.chunk", "256KiB", replaced("64KiB", "256KiB")},
		{"layout.chunk", "none", replaced(", chunk: 64KiB", "")},
		{"caches[1].size", "800GB", replaced("400GB", "800GB")},
		{"caches[0].dirtyLimit", "20%", replaced("mode: write-back", "mode: write-back, dirtyLimit: 20%")},
		{"caches[1]", "none", replaced("  - {name: flash, size: 400GB, mode: read-only, devices: 2}\n", "")},
		{"caches", "none", "name: Plain\nmembers: {count: 6, medium: hard disk, capacity: 4TB}\nlayout: {level: raid5, chunk: 64KiB}\nlink: {rate: 1250MB/s}\n"},
		{"link.mtu", "[9000, 1500]", replaced("rate: 1250MB/s", "rate: 1250MB/s, mtu: [9000, 1500]")},
		{"replica.kilometres", "50", cached + "replica: {kilometres: 50}\n"},
		{"replica", "{kilometres: 50, service: 1ms}", cached + "replica: {kilometres: 50, service: 1ms}\n"},
		{"empty", "30%", cached + "empty: 30%\n"},
		{"faults[0]", "{kind: member fails, member: 1}", cached + "faults: [{kind: member fails, member: 1}]\n"},
	} {
		want, err := Read([]byte(c.text))
		if err != nil {
			t.Fatalf("%s: %v", c.key, err)
		}
		got, err := ReadWith([]byte(cached), []plan.Setting{{Field: c.key, Value: c.value}})
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s %s: %+v, %v", c.key, c.value, got, err)
		}
	}
	both, err := ReadWith([]byte(cached), []plan.Setting{{Field: "members.count", Value: "8"}, {Field: "members.capacity", Value: "2TB"}})
	if err != nil || len(both.Members) != 1 || both.Members[0].Count != 8 || both.Members[0].Capacity != 2e12 {
		t.Errorf("two settings: %s, %v", both.Usable(), err)
	}
}

func TestReadWithRefuses(t *testing.T) {
	for setting, want := range map[plan.Setting]string{
		{Field: "layout.membrs", Value: "4"}:      `has no key "membrs"; it has chunk, groups`,
		{Field: "members.count", Value: "2"}:      "raid5 of 2 members; it needs at least 3",
		{Field: "members.count", Value: "many"}:   `"many" is not a whole number`,
		{Field: "members.count", Value: "{a: b}"}: "a single value is wanted",
		{Field: "caches.size", Value: "1GiB"}:     "say which by a number",
		{Field: "caches[3].size", Value: "1GiB"}:  "the next has number 2",
		{Field: "caches[x].size", Value: "1GiB"}:  "numbers from 0",
		{Field: "caches[-1].size", Value: "1"}:    "numbers from 0",
		{Field: "members..count", Value: "1"}:     "name it by the parts",
		{Field: "members.count.x", Value: "1"}:    "no part with keys",
		{Field: "members.{a", Value: "1"}:         "name it by the parts",
		{Field: "link.mtu", Value: "[9000]"}:      "both ends",
		{Field: "link.mtu", Value: "[[[["}:        "not YAML",
		{Field: "members", Value: "none"}:         "members",
	} {
		_, err := ReadWith([]byte(cached), []plan.Setting{setting})
		if err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), setting.Field+" "+setting.Value) || strings.Contains(err.Error(), "line") {
			t.Errorf("%v: %v", setting, err)
		}
	}
	var placed *Error
	if _, err := ReadWith([]byte("members: {cont: 1}\n"), []plan.Setting{{Field: "members.count", Value: "1"}}); !errors.As(err, &placed) || placed.Line != 1 {
		t.Errorf("a mistake of the text: %v", err)
	}
}

// What stands at the top of an array file is swept as a whole, but for what it is called
// and costs; and a field of a load is no key.
func TestWholePartsAreSwept(t *testing.T) {
	var r reader
	keys := map[string]func(ast.Node) error{}
	for key := range r.entries() {
		keys[key] = nil
		if swept := plan.OfArray(key); swept != (key != "name" && key != "price") {
			t.Errorf("%s: swept %t", key, swept)
		}
	}
	for _, field := range workload.Fields() {
		if _, both := keys[field.Name]; both || plan.OfArray(field.Name) {
			t.Errorf("%s is a field of a load and a key of an array file", field.Name)
		}
	}
}

func TestCheckKey(t *testing.T) {
	for _, name := range []string{"members.count", "members[3].rpm", "caches[0].size", "caches[1]", "replica.kilometres", "link.mtu", "tier.members.count", "tier.lower[0].members.count", "tier.lower[0].level", "limits.operations", "empty", "faults[2].factor"} {
		if err := CheckKey(name); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, name := range []string{"layout.members", "cache.size", "caches[0].volume", "link.mtu.", ".", "[0]", "members[", "tier.members.cunt", "tier.lower[0].extent"} {
		if err := CheckKey(name); !errors.Is(err, ErrKey) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Whatever a plan sweeps, it ends in an array that is possible or in an error.
func FuzzReadWith(f *testing.F) {
	for _, seed := range [][2]string{{"members.count", "4"}, {"caches[0]", "none"}, {"link", "{rate: 1GB/s}"}, {"faults[0].kind", "[[["}, {"caches[9999999999].size", "1"}, {"a.b[0].c", "&a *a"}, {"members[0][0]", "- - 1"}, {"empty", "? a\n: b"}} {
		f.Add(seed[0], seed[1])
	}
	f.Fuzz(func(t *testing.T, key, value string) {
		_ = CheckKey(key)
		d, err := ReadWith([]byte(cached), []plan.Setting{{Field: key, Value: value}})
		if err == nil && d.Validate() != nil {
			t.Fatalf("%q %q: %v", key, value, d.Validate())
		}
	})
}

// Keys in quotes are the same keys, of a file and of what is set in it.
func TestKeysInQuotes(t *testing.T) {
	plain := "name: x\nmembers: {count: 2, medium: ssd, capacity: 100GB}\nlayout: {level: raid1}\n"
	quoted := regexp.MustCompile(`(\w+):`).ReplaceAllString(plain, `"$1":`)
	for _, set := range [][]plan.Setting{nil, {{Field: "members.count", Value: "3"}}, {{Field: "layout.chunk", Value: "64KiB"}}} {
		want, err := ReadWith([]byte(plain), set)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := ReadWith([]byte(quoted), set); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%v: %+v (%v), want %+v", set, got, err, want)
		}
	}
	if _, err := Read([]byte(quoted + "\"name\": y\n")); err == nil {
		t.Error("a key that stands twice, once in quotes, is taken")
	}
}
