package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"patientheron/core/judge"
	"patientheron/resource"
)

const (
	searchSheet = "name: n\nuses:\n  - {name: till, load: {block: 4KiB, reads: 50%, depth: 8, span: 1GiB, for: 0.5s}, bounds: {iops: at least 2000}}\n"
	searchParts = "name: p\nlevels: [raid10, raid5]\ndrives:\n  - {name: disk, price: 100, counts: [4, 6], members: {medium: hard disk, capacity: 1TB}}\n  - {name: flash, price: 300, counts: [4], members: {medium: ssd, capacity: 1TB}}\n"
)

// A search is started, followed and stopped over the API; there is one at a time.
func TestSearchesOverTheAPI(t *testing.T) {
	server := served(t)
	send := sender(t, server)
	ended := func(id int64) (s resource.Search) {
		t.Helper()
		for deadline := time.Now().Add(5 * time.Minute); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			_, text := send(http.MethodGet, fmt.Sprintf("/searches/%d", id), nil)
			if err := json.Unmarshal([]byte(text), &s); err != nil {
				t.Fatalf("%v: %s", err, text)
			}
			if s.Status.Final() {
				return s
			}
		}
		t.Fatalf("search %d does not end: %+v", id, s)
		return s
	}
	for name, c := range map[string]struct {
		body   resource.NewSearch
		status int
		words  string
	}{
		"no such need":       {resource.NewSearch{NeedID: 9, Parts: searchParts}, 404, "need 9"},
		"a mistake":          {resource.NewSearch{Need: "name: n\n", Parts: searchParts}, 422, "the need: "},
		"a mistake in parts": {resource.NewSearch{Need: searchSheet, Parts: strings.Replace(searchParts, "price: 100", "price: 0", 1)}, 422, "the parts: line 4"},
		"a stage":            {resource.NewSearch{Need: "name: n\nuses: [{name: a, stage: b, bounds: {p99: at most 1s}}]\n", Parts: searchParts}, 422, "its load"},
		"no parts":           {resource.NewSearch{Need: searchSheet}, 422, "parts"},
	} {
		if status, text := send(http.MethodPost, "/searches", c.body); status != c.status || !strings.Contains(text, c.words) {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	status, text := send(http.MethodPost, "/searches", resource.NewSearch{Need: searchSheet, Parts: searchParts})
	var begun resource.Search
	if err := json.Unmarshal([]byte(text), &begun); status != http.StatusCreated || err != nil || begun.ID != 1 || begun.Status != resource.Running {
		t.Fatalf("%d %v %s", status, err, text)
	}
	first := ended(1)
	if first.Status != resource.Finished || first.Chosen == nil || first.Chosen.Judged.Setups[0].Outcome != judge.Meets || first.Chosen.Finalists[0].Price != 1200 {
		t.Errorf("%+v", first)
	}
	if status, page := send(http.MethodGet, "/searches/1/report", nil); status != 200 || !strings.Contains(page, "All figures are simulated") {
		t.Errorf("%d %s", status, page)
	}
	long := strings.Replace(searchSheet, "for: 0.5s", "for: 1h", 1)
	if status, text := send(http.MethodPost, "/searches", resource.NewSearch{Need: long, Parts: searchParts}); status != http.StatusCreated {
		t.Fatal(text)
	}
	if status, text := send(http.MethodPost, "/searches", resource.NewSearch{Need: searchSheet, Parts: searchParts}); status != 409 || !strings.Contains(text, "under way") {
		t.Errorf("a second one: %d %s", status, text)
	}
	if status, text := send(http.MethodPost, "/searches/2/stop", nil); status != 204 {
		t.Errorf("%d %s", status, text)
	}
	if s := ended(2); s.Status != resource.Stopped {
		t.Errorf("%+v", s)
	}
	if status, text := send(http.MethodGet, "/searches", nil); status != 200 || strings.Count(text, `"status"`) != 2 || strings.Contains(text, "finalists") {
		t.Errorf("%d %s", status, text)
	}
	if status, text := send(http.MethodGet, "/searches/2/report", nil); status != 409 || !strings.Contains(text, "when it is finished") {
		t.Errorf("%d %s", status, text)
	}
	if status, text := send(http.MethodDelete, "/searches/1", nil); status != 204 {
		t.Errorf("%d %s", status, text)
	}
	if status, text := send(http.MethodGet, "/searches", nil); status != 200 || strings.Count(text, `"status"`) != 1 {
		t.Errorf("one is forgotten: %d %s", status, text)
	}
	for _, path := range []string{"/searches/1", "/searches/9", "/searches/9/report", "/searches/9/stop"} {
		method := http.MethodGet
		if strings.HasSuffix(path, "stop") {
			method = http.MethodPost
		}
		if status, text := send(method, path, nil); status != 404 || !strings.Contains(text, "search ") {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
}

// What a search came to outlasts the service; the next search has a number of its own.
func TestSearchesAreKept(t *testing.T) {
	folder := t.TempDir()
	first := servedIn(t, folder)
	send := sender(t, first)
	if status, text := send(http.MethodPost, "/searches", resource.NewSearch{Need: searchSheet, Parts: searchParts}); status != 201 {
		t.Fatal(text)
	}
	until := func(send func(string, string, any) (int, string), path string) (s resource.Search) {
		t.Helper()
		for deadline := time.Now().Add(5 * time.Minute); !s.Status.Final(); time.Sleep(20 * time.Millisecond) {
			_, text := send(http.MethodGet, path, nil)
			if err := json.Unmarshal([]byte(text), &s); err != nil || time.Now().After(deadline) {
				t.Fatalf("%v: %s", err, text)
			}
		}
		return s
	}
	before := until(send, "/searches/1")
	send = sender(t, servedIn(t, folder))
	after := until(send, "/searches/1")
	if after.Status != resource.Finished || after.Chosen == nil || after.Chosen.Finalists[0].Name != before.Chosen.Finalists[0].Name || after.Need != "n" || after.Ended.IsZero() {
		t.Errorf("%+v", after)
	}
	if status, text := send(http.MethodGet, "/searches/1/report", nil); status != 200 || !strings.Contains(text, "All figures are simulated") {
		t.Errorf("%d %s", status, text)
	}
	if status, text := send(http.MethodPost, "/searches/1/stop", nil); status != 204 {
		t.Errorf("%d %s", status, text)
	}
	if status, text := send(http.MethodPost, "/searches", resource.NewSearch{Need: searchSheet, Parts: searchParts}); status != 201 || !strings.Contains(text, `"id":2`) {
		t.Errorf("%d %s", status, text)
	}
	until(send, "/searches/2")
	if status, text := send(http.MethodGet, "/searches", nil); status != 200 || strings.Count(text, `"finished"`) != 2 {
		t.Errorf("%d %s", status, text)
	}
}
