package arrayfile

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"patientheron/core/array"
)

// Keys of members: a value, the media that have it ("d" hard disk, "s" ssd, "n" low-latency nvme),
// and what has to stand beside it.
var memberKeys = map[string]struct{ value, media, beside string }{
	"rpm": {"7200", "d", ""}, "seekTrack": {"1ms", "d", ""}, "seekAverage": {"9ms", "d", ""}, "seekFull": {"20ms", "d", ""},
	"outerRate": {"230MB/s", "d", ""}, "innerRate": {"100MB/s", "d", ""}, "overhead": {"0.1ms", "d", ""}, "queue": {"16", "d", ""},
	"readAhead": {"1MiB", "d", ""}, "writeBuffer": {"32MiB", "d", "writeCaching: true"}, "shingled": {"true", "d", ""},
	"band": {"128MiB", "d", "shingled: true"}, "region": {"1GiB", "d", "shingled: true"},
	"dies": {"16", "s", ""}, "eraseTime": {"2ms", "s", ""}, "blockPages": {"128", "s", ""}, "fastRegion": {"1GiB", "s", ""},
	"fastProgram": {"100us", "s", "fastRegion: 1GiB"}, "overProvision": {"20%", "s", ""}, "compresses": {"true", "s", ""},
	"cycles": {"3000", "s", ""}, "channels": {"4", "s", ""}, "channelRate": {"1GB/s", "s", "channels: 4"},
	"readTime": {"50us", "sn", ""}, "programTime": {"500us", "sn", ""}, "units": {"4", "n", ""},
	"writeCaching": {"true", "ds", ""}, "zone": {"256MiB", "ds", ""}, "openZones": {"8", "ds", "zone: 256MiB"},
	"interface": {"600MB/s", "dsn", ""}, "slow": {"2", "dsn", ""}, "price": {"100", "dsn", ""},
}

var media = map[string]string{"d": "hard disk", "s": "ssd", "n": "low-latency nvme"}

// Every key of members in every medium, of the array and of its tier, with and without what it
// needs: read where it means something, refused where it does not, at its place and with why.
func TestKeysMeanSomethingOrAreRefused(t *testing.T) {
	for key, k := range memberKeys {
		for short, medium := range media {
			for _, where := range []string{"members", "tier"} {
				if where == "tier" && strings.HasPrefix(k.beside, "zone") || where == "tier" && key == "zone" {
					continue // which tiers do not have
				}
				for _, with := range []string{"", k.beside} {
					group := fmt.Sprintf("{count: 2, medium: %s, capacity: 64GiB", medium)
					if with != "" {
						group += ", " + with
					}
					group += fmt.Sprintf(", %s: %s}", key, k.value)
					text := "members: " + group + "\nlayout: {level: concatenation}\n"
					line := 1
					if where == "tier" {
						text = "members: {count: 2, medium: hard disk, capacity: 1TB}\nlayout: {level: raid0}\ntier:\n  members: " + group + "\n"
						line = 4
					}
					_, err := Read([]byte(text))
					means := strings.Contains(k.media, short) && with == k.beside
					if (err == nil) != means {
						t.Errorf("%s of a %s with %q in %s: %v", key, medium, with, where, err)
						continue
					}
					var at *Error
					if err != nil && (!errors.As(err, &at) || at.Line != line || at.Column == 0 || !errors.Is(err, array.ErrInvalid)) {
						t.Errorf("%s of a %s: %v", key, medium, err)
					}
				}
			}
		}
	}
}

// What each kind of fault takes, as docs/arrays.md has it.
var faultKeys = map[array.FaultKind]string{
	"member fails": "member", "member slows": "member factor for", "member errors": "member share extra for", "bits rot": "member count", "scrub": "rate",
	"rebuild": "member rate", "power cut": "", "cache fails": "cache for", "cache returns": "cache", "battery fails": "cache for", "battery returns": "cache",
	"path drops": "path for count every", "path returns": "path", "controller fails over": "for", "latency spike": "for extra",
	"transport changes": "perByte perOp", "snapshot": "", "snapshot goes": "", "tier leaves": "",
}

func TestFaultsTakeWhatTheyUse(t *testing.T) {
	values := map[string]string{
		"member": "1", "cache": "1", "path": "1", "factor": "2", "rate": "50MB/s", "for": "2s", "extra": "1ms", "share": "10%", "count": "3", "every": "9s", "perByte": "1ns", "perOp": "1us",
	}
	for kind, takes := range faultKeys {
		for key, value := range values {
			text := fmt.Sprintf("{kind: %s, %s: %s}", kind, key, value)
			if key == "every" {
				text = strings.TrimSuffix(text, "}") + ", count: 3}"
			}
			_, err := ReadFault([]byte(text))
			if used := slices.Contains(strings.Fields(takes), key); used != (err == nil) {
				t.Errorf("%s: %v", text, err)
			}
		}
	}
}

// Keys elsewhere that mean nothing beside what stands there, and zeros that say what is so.
func TestKeysOfPartsMeanSomethingOrAreRefused(t *testing.T) {
	const base = "members: {count: 3, medium: hard disk, capacity: 64GiB}\nlayout: {level: raid5%s}\n%s\n"
	for what, c := range map[string]struct{ layout, more, refused string }{
		"a dirty limit of a read cache":        {"", "caches: {name: c, size: 1GiB, mode: read-only, dirtyLimit: 20%}", "keeps nothing dirty"},
		"a dirty limit of write-through":       {"", "caches: {name: c, size: 1GiB, mode: write-through, dirtyLimit: 20%}", "keeps nothing dirty"},
		"a protected read cache":               {"", "caches: {name: c, size: 1GiB, mode: read-only, protected: true}", "keeps nothing dirty"},
		"an index of memory":                   {"", "caches: {name: c, size: 1GiB, mode: read-only, index: 32B}", "of devices"},
		"memory of no devices":                 {"", "caches: {name: c, size: 1GiB, mode: read-only, devices: 0, protected: false}", ""},
		"an index of devices":                  {"", "caches: {name: c, size: 1GiB, mode: read-only, devices: 1, index: 32B}", ""},
		"no spares":                            {", spares: 0", "", ""},
		"a transport without a link":           {"", "link: {perByte: 1ns}", "there is none"},
		"an empty name":                        {"", `name: ""`, "is empty"},
		"a cache with an empty name":           {"", `caches: {name: " ", size: 1GiB, mode: read-only}`, "is empty"},
		"a time of a rate that a fault has no": {"", "faults: [{kind: power cut, at: 1s, rate: 5MB/s}]", "takes nothing but a time"},
	} {
		_, err := Read(fmt.Appendf(nil, base, c.layout, c.more))
		if c.refused == "" && err != nil || c.refused != "" && (err == nil || !strings.Contains(err.Error(), c.refused) || !strings.Contains(err.Error(), "line 3")) {
			t.Errorf("%s: %v", what, err)
		}
	}
}
