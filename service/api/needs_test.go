package api

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"patientheron/core/judge"
	"patientheron/resource"
)

// sender calls the API with a value as its body; nil for none.
func sender(t *testing.T, server *httptest.Server) func(method, path string, body any) (int, string) {
	return func(method, path string, body any) (int, string) {
		t.Helper()
		text := ""
		if body != nil {
			encoded, err := json.Marshal(body)
			if err != nil {
				t.Fatal(err)
			}
			text = string(encoded)
		}
		answer, got := call(t, server, method, prefix+path, text, with(token)...)
		return answer.StatusCode, got
	}
}

// Sheets are kept and changed, and setups judged by them; each mistake is answered with
// its place.
func TestNeedsOverTheAPI(t *testing.T) {
	server := served(t)
	send := sender(t, server)
	run := finishedRun(t, func(method, path, body string) (int, string) {
		answer, got := call(t, server, method, prefix+path, body, with(token)...)
		return answer.StatusCode, got
	})
	const sheet = "name: n\ncapacity: 1GB\nuses:\n  - {name: reading, stage: reads, bounds: {iops: at least 10, p99: at most 1s}}\n"
	sheetOf := func(text string) resource.NewNeed { return resource.NewNeed{Text: text} }
	type asked = resource.NewVerdicts
	group := []resource.Group{{Name: "by run", Runs: []int64{int64(run)}}}
	for _, c := range []struct {
		name, method, path string
		body               any
		status             int
		words              string
	}{
		{"none yet", http.MethodGet, "/needs", nil, 200, `"needs":[]`},
		{"kept", http.MethodPost, "/needs", sheetOf(sheet), 201, `"name":"n"`},
		{"the same name", http.MethodPost, "/needs", sheetOf(sheet), 409, "taken"},
		{"a mistake", http.MethodPost, "/needs", sheetOf(strings.Replace(sheet, "at most 1s", "at most 1MB", 1)), 422, "line 4"},
		{"nothing", http.MethodPost, "/needs", sheetOf(""), 422, "text"},
		{"checked", http.MethodPost, "/needs/check", sheetOf(sheet), 200, "IOPS at least 10"},
		{"checked, a mistake", http.MethodPost, "/needs/check", sheetOf("name: n\ncolour: red\n"), 422, "line 2"},
		{"changed", http.MethodPut, "/needs/1", sheetOf(sheet + "why: because\n"), 200, "because"},
		{"changed, a mistake", http.MethodPut, "/needs/1", sheetOf("name: n\n"), 422, "no requirements"},
		{"none to change", http.MethodPut, "/needs/9", sheetOf(sheet), 404, "need 9"},
		{"got", http.MethodGet, "/needs/1", nil, 200, "why: because"},
		{"none to get", http.MethodGet, "/needs/9", nil, 404, "need 9"},
		{"judged, all volumes", http.MethodPost, "/needs/judge", asked{Needs: []int64{1}}, 200, `"reads"`},
		{"judged by a run", http.MethodPost, "/needs/judge", asked{Text: sheet, Setups: group}, 200, `"by run"`},
		{"judged by no need", http.MethodPost, "/needs/judge", asked{Needs: []int64{9}}, 404, "need 9"},
		{"judged by no run", http.MethodPost, "/needs/judge", asked{Text: sheet, Setups: []resource.Group{{Runs: []int64{99}}}}, 404, "run 99"},
		{"judged twice", http.MethodPost, "/needs/judge", asked{Text: sheet, Setups: []resource.Group{{Runs: []int64{1, 1}}}}, 422, "twice"},
		{"judged on no volume", http.MethodPost, "/needs/judge", asked{Text: sheet, Volumes: []int64{9}}, 404, "volume 9"},
		{"judged by a mistake", http.MethodPost, "/needs/judge", asked{Text: "name: n\n"}, 422, "no requirements"},
		{"a page", http.MethodPost, "/needs/report", asked{Text: sheet, Setups: group}, 200, "How to repeat it"},
		{"needed", http.MethodPost, "/volumes/1/needed", map[string]any{"text": sheet, "repeats": 3}, 200, `"there":["reading"]`},
		{"needed once more", http.MethodPost, "/volumes/1/needed", map[string]any{"text": sheet, "repeats": 3, "all": true}, 200, `"without":["reading"]`},
		{"needed on none", http.MethodPost, "/volumes/9/needed", map[string]any{"text": sheet, "repeats": 3}, 404, "volume 9"},
		{"forgotten", http.MethodDelete, "/needs/1", nil, 204, ""},
		{"none to forget", http.MethodDelete, "/needs/1", nil, 404, "need 1"},
	} {
		if status, text := send(c.method, c.path, c.body); status != c.status || !strings.Contains(text, c.words) {
			t.Errorf("%s: %d %.600s", c.name, status, text)
		}
	}
	// A volume that was registered and never measured is left out, or refused where it is named.
	if status, text := send(http.MethodPost, "/volumes", map[string]string{"name": "fresh", "locator": "null:2GiB"}); status != http.StatusCreated {
		t.Fatal(text)
	}
	status, text := send(http.MethodPost, "/needs/judge", asked{Text: sheet})
	var v resource.Verdicts
	if err := json.Unmarshal([]byte(text), &v); status != 200 || err != nil || len(v.Judged) != 1 || len(v.Judged[0].Setups) != 1 || len(v.Left) != 1 || !strings.Contains(v.Left[0], "fresh") {
		t.Fatalf("%d %v %.900s", status, err, text)
	}
	// What the null volume does is not to be trusted for storage, or is: but its room is not known.
	if s := v.Judged[0].Setups[0]; len(s.Verdicts) != 3 || s.Verdicts[2].Outcome != judge.NotMeasured {
		t.Errorf("%+v", s)
	}
	if status, text := send(http.MethodPost, "/needs/judge", asked{Text: sheet, Volumes: []int64{2}}); status != 422 || !strings.Contains(text, "nothing was measured") {
		t.Errorf("%d %s", status, text)
	}
	// The price that is told later is that of what was measured before.
	told := `{"facts": [{"key": "cost.price", "value": "4700"}, {"key": "volume.usable", "value": "2GB"}]}`
	if answer, text := call(t, server, http.MethodPut, prefix+"/volumes/1/setup", told, with(token)...); answer.StatusCode != 200 {
		t.Fatal(text)
	}
	_, text = send(http.MethodPost, "/needs/judge", asked{Text: sheet, Volumes: []int64{1}})
	v = resource.Verdicts{}
	if err := json.Unmarshal([]byte(text), &v); err != nil || v.Judged[0].Setups[0].Price != 4700 || v.Judged[0].Setups[0].Verdicts[2].Headroom != 2 {
		t.Errorf("%v %.900s", err, text)
	}
}
