package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
)

// problemIn reads an answer that has to be a problem.
func problemIn(t *testing.T, what string, answer *http.Response, text string) huma.ErrorModel {
	t.Helper()
	var p huma.ErrorModel
	err := json.Unmarshal([]byte(text), &p)
	if media := answer.Header.Get("Content-Type"); err != nil || media != "application/problem+json" || p.Status != answer.StatusCode || p.Title == "" || p.Detail == "" || !strings.HasPrefix(p.Type, "/api/v1/problems/") {
		t.Errorf("%s: %d, %s, %v: %s", what, answer.StatusCode, media, err, text)
	}
	return p
}

// The contract is walked: whatever method, type or body comes to any of its paths, the answer is
// no fault of the service, and what is refused is refused with a problem that says why and that
// programs can tell from others.
func TestEveryPathAnswersWrongCallsWithProblems(t *testing.T) {
	server := served(t)
	text, err := Contract("test")
	if err != nil {
		t.Fatal(err)
	}
	var contract struct {
		Paths map[string]map[string]struct {
			RequestBody *struct{} `json:"requestBody"`
		} `json:"paths"`
	}
	if err := json.Unmarshal(text, &contract); err != nil {
		t.Fatal(err)
	}
	bearer := []string{"Authorization", "Bearer " + token}
	calls := 0
	for path, operations := range contract.Paths {
		filled := strings.NewReplacer("{id}", "999", "{name}", "nothing", "{prediction}", "999", "{position}", "1").Replace(path)
		for _, method := range []string{"GET", "POST", "PUT", "PATCH", "DELETE", "BREW"} {
			operation, takes := operations[strings.ToLower(method)]
			if method == "GET" && filepath.Base(filled) == "events" {
				continue // which goes on
			}
			what := method + " " + path
			calls++
			if method == "GET" && takes {
				whole, _ := call(t, server, "GET", filled, "", bearer...)
				only, body := call(t, server, "HEAD", filled, "", bearer...)
				if only.StatusCode != whole.StatusCode || body != "" {
					t.Errorf("HEAD %s: %d, and GET %d", path, only.StatusCode, whole.StatusCode)
				}
			}
			if !takes {
				answer, text := call(t, server, method, filled, "", bearer...)
				p := problemIn(t, what, answer, text)
				if _, byNumber := contract.Paths[filepath.Dir(path)+"/{id}"][strings.ToLower(method)]; byNumber {
					continue // it is taken for a record by that number
				}
				if answer.StatusCode != http.StatusMethodNotAllowed || !strings.HasSuffix(p.Type, "/method") {
					t.Errorf("%s, which is none: %d %s", what, answer.StatusCode, p.Type)
				}
				for allowed := range operations {
					if !strings.Contains(answer.Header.Get("Allow"), strings.ToUpper(allowed)) {
						t.Errorf("%s: Allow is %q, and %s is taken", what, answer.Header.Get("Allow"), allowed)
					}
				}
				continue
			}
			bodies := []string{""}
			if operation.RequestBody != nil {
				bodies = []string{"", "{", "[]", "null", `{"nobody":"knows"}`, `"` + strings.Repeat("x", 100) + `"`}
			}
			for _, body := range bodies {
				answer, text := call(t, server, method, filled, body, bearer...)
				if answer.StatusCode >= 500 {
					t.Errorf("%s with %q: %d %s", what, body, answer.StatusCode, text)
				}
				if answer.StatusCode >= 400 {
					problemIn(t, what+" with "+body, answer, text)
				}
			}
			if operation.RequestBody != nil {
				answer, text := call(t, server, method, filled, "a: b", append(bearer, "Content-Type", "application/yaml")...)
				if p := problemIn(t, what+" of YAML", answer, text); answer.StatusCode != http.StatusUnsupportedMediaType {
					t.Errorf("%s of YAML: %d %s", what, answer.StatusCode, p.Detail)
				}
			}
		}
	}
	if calls < 100 {
		t.Errorf("only %d calls were made", calls)
	}
	answer, nowhere := call(t, server, "GET", prefix+"/nowhere", "", bearer...)
	if p := problemIn(t, "nowhere", answer, nowhere); p.Status != http.StatusNotFound {
		t.Errorf("nowhere: %+v", p)
	}
	// HEAD is GET without the body (RFC 9110, 9.3.2).
	whole, body := call(t, server, "GET", prefix+"/about", "", bearer...)
	only, none := call(t, server, "HEAD", prefix+"/about", "", bearer...)
	if only.StatusCode != whole.StatusCode || only.Header.Get("Content-Type") != whole.Header.Get("Content-Type") || none != "" || body == "" {
		t.Errorf("HEAD: %d %v %q", only.StatusCode, only.Header, none)
	}
	if missing, _ := call(t, server, "HEAD", prefix+"/runs/999", "", bearer...); missing.StatusCode != http.StatusNotFound {
		t.Errorf("HEAD of what is not there: %d", missing.StatusCode)
	}
}

// The type of each problem leads to words about it, and no two are alike.
func TestTypesOfProblemsLeadSomewhere(t *testing.T) {
	server := served(t)
	seen := map[string]bool{}
	for _, k := range kindsOfProblem {
		told := k.told()
		answer, text := call(t, server, "GET", told.Type, "")
		var got ProblemKind
		if err := json.Unmarshal([]byte(text), &got); err != nil || answer.StatusCode != 200 || got != told || got.Words == "" || seen[told.Type] {
			t.Errorf("%s: %d %s", told.Type, answer.StatusCode, text)
		}
		seen[told.Type] = true
	}
	for path, want := range map[string]string{"/runs/7": "not-found", "/volumes/7": "not-found"} {
		answer, text := call(t, server, "GET", prefix+path, "", "Authorization", "Bearer "+token)
		if p := problemIn(t, path, answer, text); p.Type != "/api/v1/problems/"+want {
			t.Errorf("%s: %s", path, p.Type)
		}
	}
	for name, c := range map[string]struct{ body, want, detail string }{
		"no locator":  {`{"locator":"somewhere"}`, "locator", "absolute path"},
		"taken":       {`{"name":"nothing","locator":"null:2GiB"}`, "taken", "another name"},
		"a long name": {`{"locator":"null:1GiB","name":"` + strings.Repeat("n", 200) + `"}`, "invalid", "name: too long"},
		"two":         {`{"name":7,"locators":"null:1GiB"}`, "invalid", "; "},
	} {
		call(t, server, "POST", prefix+"/volumes", `{"name":"nothing","locator":"null:1GiB"}`, "Authorization", "Bearer "+token)
		answer, text := call(t, server, "POST", prefix+"/volumes", c.body, "Authorization", "Bearer "+token)
		if p := problemIn(t, name, answer, text); p.Type != "/api/v1/problems/"+c.want || !strings.Contains(p.Detail, c.detail) {
			t.Errorf("%s: %s", name, text)
		}
	}
}

// A list of any length is had in pages that together are the whole, in its order, whatever the
// size of a page.
func TestPagesAreTheWholeList(t *testing.T) {
	type record struct{ id int64 }
	for _, size := range []int{0, 1, 2, 7, 100} {
		all := make([]record, size)
		for i := range all {
			all[i] = record{int64(1000 - 3*i)}
		}
		for _, limit := range []int{1, 2, 3, 7, 8, 500} {
			var got []record
			for page := (Page{Limit: limit}); ; {
				part, listed, err := paged(all, nil, page, func(r record) int64 { return r.id })
				if err != nil || listed.Total != size || len(part) > limit || listed.Next > 0 && len(part) < limit {
					t.Fatalf("%d in pages of %d: %d, %+v, %v", size, limit, len(part), listed, err)
				}
				got = append(got, part...)
				if page.After = listed.Next; page.After == 0 {
					break
				}
			}
			if !slices.Equal(got, all) {
				t.Errorf("%d in pages of %d: %v", size, limit, got)
			}
		}
	}
	server := served(t)
	bearer := []string{"Authorization", "Bearer " + token}
	for i := range 5 {
		call(t, server, "POST", prefix+"/volumes", fmt.Sprintf(`{"name":"v%d","locator":"null:%dGiB"}`, 9-i, i+1), bearer...)
	}
	var names []string
	for after := int64(0); ; {
		var page VolumeList
		_, text := call(t, server, "GET", fmt.Sprintf("%s/volumes?limit=2&after=%d", prefix, after), "", bearer...)
		if err := json.Unmarshal([]byte(text), &page); err != nil || page.Total != 5 {
			t.Fatalf("%v: %s", err, text)
		}
		for _, v := range page.Volumes {
			names = append(names, v.Name)
		}
		if after = page.Next; after == 0 {
			break
		}
	}
	if got := strings.Join(names, " "); got != "v5 v6 v7 v8 v9" {
		t.Errorf("the volumes are %s", got)
	}
	answer, text := call(t, server, "GET", prefix+"/volumes?after=99", "", bearer...)
	if p := problemIn(t, "behind nothing", answer, text); p.Type != "/api/v1/problems/changed" {
		t.Errorf("behind nothing: %s", text)
	}
}
