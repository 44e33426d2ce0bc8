package api

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"os"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"patientheron/service/runner"
	"patientheron/service/store"
	"patientheron/storage"
)

const token = "a token of these tests"

// served starts the API on a store of its own.
func served(t *testing.T) *httptest.Server {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "heron.sqlite"))
	if err != nil {
		t.Fatal(err)
	}
	log, bounds := slog.New(slog.DiscardHandler), storage.Bounds{Kept: []string{t.TempDir()}, Arrays: []string{os.TempDir()}}
	r, err := runner.Start(t.Context(), s, bounds, log, "test")
	if err != nil {
		t.Fatal(err)
	}
	console := fstest.MapFS{
		"index.html":      {Data: []byte("<title>the console</title>")},
		"assets/a-123.js": {Data: []byte("1")},
	}
	server := httptest.NewServer((&Service{Store: s, Runner: r, Bounds: bounds, Token: token, Version: "test", Console: console, Log: log, Started: time.Now()}).Handler())
	t.Cleanup(func() { server.Close(); r.Close(); s.Close() })
	return server
}

// call makes one request; headers come as name, value pairs.
func call(t *testing.T, server *httptest.Server, method, path, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, server.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer, string(text)
}

func with(value string) []string { return []string{"Authorization", "Bearer " + value} }

func TestEveryCallButSigningInWantsTheToken(t *testing.T) {
	server := served(t)
	var contract struct {
		Paths map[string]map[string]struct{ Security *[]any }
	}
	text, err := Contract("test")
	if err != nil || json.Unmarshal(text, &contract) != nil {
		t.Fatal(err)
	}
	checked := 0
	for path, methods := range contract.Paths {
		for method, operation := range methods {
			if operation.Security != nil && len(*operation.Security) == 0 {
				if path != "/api/v1/session" {
					t.Errorf("%s %s is open to everyone", method, path)
				}
				continue
			}
			checked++
			target := strings.ReplaceAll(path, "{id}", "1")
			for _, headers := range [][]string{nil, with("wrong"), with(""), {"Cookie", cookieName + "=" + token}} {
				if answer, _ := call(t, server, strings.ToUpper(method), target, "", headers...); answer.StatusCode != http.StatusUnauthorized {
					t.Errorf("%s %s with %v gives %d", method, path, headers, answer.StatusCode)
				}
			}
		}
	}
	if checked < 20 {
		t.Errorf("only %d calls in the contract", checked)
	}
}

func TestSignInGivesACookieThatWorks(t *testing.T) {
	server := served(t)
	if answer, text := call(t, server, http.MethodPost, "/api/v1/session", `{"token":"wrong"}`); answer.StatusCode != 401 || !strings.Contains(text, "data folder") {
		t.Errorf("wrong token: %d %s", answer.StatusCode, text)
	}
	answer, _ := call(t, server, http.MethodPost, "/api/v1/session", `{"token":"`+token+`"}`)
	cookies := answer.Cookies()
	if len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode || strings.Contains(cookies[0].Value, token) {
		t.Fatalf("cookies %+v", cookies)
	}
	cookie := cookies[0].Name + "=" + cookies[0].Value
	if answer, text := call(t, server, http.MethodGet, "/api/v1/about", "", "Cookie", cookie); answer.StatusCode != 200 || !strings.Contains(text, "Patient Heron") {
		t.Errorf("with the cookie: %d %s", answer.StatusCode, text)
	}
	// A wrong token is not made good by a cookie.
	if answer, _ := call(t, server, http.MethodGet, "/api/v1/about", "", "Cookie", cookie, "Authorization", "Bearer wrong"); answer.StatusCode != 401 {
		t.Errorf("cookie and wrong token: %d", answer.StatusCode)
	}
}

func TestTypedLoadsAndPlans(t *testing.T) {
	server := served(t)
	answer, text := call(t, server, http.MethodPost, "/api/v1/loads", `{"fields":{"block":"8KiB","reads":"70%","for":"90s"}}`, with(token)...)
	var read ReadLoad
	if err := json.Unmarshal([]byte(text), &read); err != nil || read.Load.Blocks[0].Size != 8192 || read.Load.Reads != 0.7 || read.Load.For != 90 {
		t.Errorf("%d %s", answer.StatusCode, text)
	}
	answer, text = call(t, server, http.MethodPost, "/api/v1/loads", `{"fields":{"block":"8k","depth":"many","colour":"red"}}`, with(token)...)
	for _, field := range []string{`"location":"block"`, `"location":"depth"`, `"location":"colour"`} {
		if answer.StatusCode != 422 || !strings.Contains(text, field) {
			t.Errorf("%s is not among %d %s", field, answer.StatusCode, text)
		}
	}
	for body, words := range map[string]string{
		`{"text":"stages: [{load: {depth: 4}}]"}`:  `"measurements":1`,
		`{"text":"stages: [{load: {depth: 0}}]"}`:  "line 1, column",
		`{"text":"stages: [{load: {colour: 0}}]"}`: "no key",
	} {
		if _, text := call(t, server, http.MethodPost, "/api/v1/plans", body, with(token)...); !strings.Contains(text, words) {
			t.Errorf("%s gives %s", body, text)
		}
	}
	if _, text := call(t, server, http.MethodGet, "/api/v1/presets", "", with(token)...); strings.Count(text, `"key"`) != 10 {
		t.Errorf("presets: %s", text)
	}
}

func TestSavedWorkloads(t *testing.T) {
	server := served(t)
	_, text := call(t, server, http.MethodPost, "/api/v1/loads", `{"fields":{}}`, with(token)...)
	var read ReadLoad
	if err := json.Unmarshal([]byte(text), &read); err != nil {
		t.Fatal(err)
	}
	load, err := json.Marshal(map[string]any{"name": "mine", "load": read.Load})
	if err != nil {
		t.Fatal(err)
	}
	for _, status := range []int{http.StatusCreated, http.StatusConflict} {
		if answer, text := call(t, server, http.MethodPost, "/api/v1/workloads", string(load), with(token)...); answer.StatusCode != status {
			t.Errorf("%d %s, want %d", answer.StatusCode, text, status)
		}
	}
	if _, text := call(t, server, http.MethodGet, "/api/v1/workloads", "", with(token)...); !strings.Contains(text, `"mine"`) {
		t.Errorf("list: %s", text)
	}
	if answer, _ := call(t, server, http.MethodDelete, "/api/v1/workloads/1", "", with(token)...); answer.StatusCode != http.StatusNoContent {
		t.Errorf("forget: %d", answer.StatusCode)
	}
	if answer, _ := call(t, server, http.MethodDelete, "/api/v1/workloads/1", "", with(token)...); answer.StatusCode != http.StatusNotFound {
		t.Errorf("forget twice: %d", answer.StatusCode)
	}
}

func TestConsoleIsServedBesideTheAPI(t *testing.T) {
	server := served(t)
	for path, c := range map[string]struct {
		status int
		words  string
	}{
		"/":                    {200, "the console"},
		"/runs/12":             {200, "the console"}, // a page of the console
		"/assets/a-123.js":     {200, "1"},
		"/api/v1/no/such":      {404, "openapi.json"},
		"/../../etc/passwd":    {200, "the console"},
		"/api/v1/openapi.json": {200, `"openapi":"3.1.0"`},
	} {
		answer, text := call(t, server, http.MethodGet, path, "")
		if answer.StatusCode != c.status || !strings.Contains(text, c.words) {
			t.Errorf("%s: %d %.200s", path, answer.StatusCode, text)
		}
		if policy := answer.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "default-src 'self'") {
			t.Errorf("%s: policy %q", path, policy)
		}
	}
	if answer, _ := call(t, server, http.MethodPost, "/runs", "{}"); answer.StatusCode != http.StatusMethodNotAllowed {
		t.Errorf("POST to a page: %d", answer.StatusCode)
	}
}

func TestContractIsStable(t *testing.T) {
	first, err := Contract("v")
	if err != nil {
		t.Fatal(err)
	}
	if second, err := Contract("v"); err != nil || !bytes.Equal(first, second) {
		t.Errorf("two contracts of the same types differ (%v)", err)
	}
}

func TestDefaultNames(t *testing.T) {
	for locator, want := range map[string]string{
		"/": "root", "/srv/pool": "srv-pool", "null:1TiB": "null-1TiB", "/" + strings.Repeat("x", 200): strings.Repeat("x", 80),
	} {
		if got := defaultName(locator); got != want {
			t.Errorf("%s is called %q, want %q", locator, got, want)
		}
	}
}
