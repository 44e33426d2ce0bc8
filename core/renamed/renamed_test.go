package renamed_test

import (
	"encoding/json"
	"reflect"
	"slices"
	"testing"

	"patientheron/core/renamed"
)

// Documents as earlier versions wrote them, each beside what it has to be read as.
func TestDocumentsOfBefore(t *testing.T) {
	for before, want := range map[string]string{
		`{"name":"a \"leadIn\": of mine","leadInSeconds":2,"settled":true,"within":0.02}`: `{"name":"a \"leadIn\": of mine","warmUpSeconds":2,"steady":true,"margin":0.02}`,
		`{"index":3,"leadIn":true}`: `{"index":3,"warmUp":true}`,
		`{"ending":"settled","phases":{"standing":"not settled","list":[]}}`:                                            `{"ending":"steady","phases":{"state":"not steady","list":[]}}`,
		`{"patience":{"settled":true,"within":0.01,"cutSeconds":1}}`:                                                    `{"patience":{"steady":true,"margin":0.01,"cutSeconds":1}}`,
		`{"stages":[{"fill":{"passes":2},"load":{"leadInSeconds":1}}]}`:                                                 `{"stages":[{"precondition":{"passes":2},"load":{"warmUpSeconds":1}}]}`,
		`{"kind":"stores","stores":{"requests":[],"log":"each","memoryBytes":1,"growth":4,"first":2,"wrongShare":0.1}}`: `{"kind":"stores","stores":{"requests":[],"log":"each-put","memtableBytes":1,"levelRatio":4,"compactAt":2,"falsePositives":0.1}}`,
		`[{"field":"leadIn","value":"1s"},{"field":"log","value":"gathered"}]`:                                          `[{"field":"warmUp","value":"1s"},{"field":"log","value":"asynchronous"}]`,
		`{"sweep":[{"field":"log","values":["each","off","group"]},{"field":"wrong","values":["each"]}]}`:               `{"sweep":[{"field":"log","values":["each-put","off","group-commit"]},{"field":"falsePositives","values":["each"]}]}`,
		`{"setups":[{"standing":"meets"},{"standing":"not shown"}]}`:                                                    `{"setups":[{"outcome":"meets"},{"outcome":"not shown"}]}`,
		`{"confronted":[{"standing":"not shown","within":false}]}`:                                                      `{"confronted":[{"state":"not shown","within":false}]}`,
		// What only looks like it stays: another thing's growth, a big number, no JSON.
		`{"need":{"growth":0.1,"first":"a"},"seed":18446744073709551615}`: `{"need":{"growth":0.1,"first":"a"},"seed":18446744073709551615}`,
	} {
		got := renamed.JSON([]byte(before))
		var a, b any
		if json.Unmarshal(got, &a) != nil || json.Unmarshal([]byte(want), &b) != nil || !reflect.DeepEqual(a, b) {
			t.Errorf("%s\n became %s\n want   %s", before, got, want)
		}
		if again := renamed.JSON(got); string(again) != string(got) {
			t.Errorf("%s is changed once more, to %s", got, again)
		}
	}
	if text := `"leadIn`; string(renamed.JSON([]byte(text))) != text {
		t.Error("what is no JSON was changed")
	}
}

// A sheet that was stored before is read; its own growth, and present names, stay.
func TestSheetsOfBefore(t *testing.T) {
	const before = "growth: 10%\nuses:\n  # leadIn: was so called\n  - load: {block: 4KiB, leadIn: 2s, settled: true, within: 2%}\n  - load: {stores: 1, log: group, growth: 4, memory: 1MiB}\n"
	const want = "growth: 10%\nuses:\n  # leadIn: was so called\n  - load: {block: 4KiB, warmUp: 2s, steady: true, margin: 2%}\n  - load: {stores: 1, log: group-commit, levelRatio: 4, memtable: 1MiB}\n"
	if got := renamed.Sheet(before); got != want {
		t.Errorf("became\n%s", got)
	}
	if got := renamed.Sheet(want); got != want {
		t.Errorf("once more\n%s", got)
	}
}

func TestNamesOfBefore(t *testing.T) {
	for old, now := range map[string][]string{"lead-in": {"warm-up"}, "settled": {"steady"}, "within": {"margin", "timeout"}, "depth": nil} {
		if got := renamed.Flags(old); !slices.Equal(got, now) {
			t.Errorf("--%s is %q, want %q", old, got, now)
		}
	}
	if got := renamed.Now("growth"); got != "levelRatio" {
		t.Error(got)
	}
}
