package api

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"patientheron/resource"
	"patientheron/service/aside"
	"patientheron/service/leftover"
	"patientheron/service/room"
	"patientheron/service/runner"
	"patientheron/service/store"
	"patientheron/storage"
)

const token = "a token of these tests"

// handlerOf makes the API on a store of its own.
func handlerOf(t testing.TB) http.Handler {
	t.Helper()
	return handlerIn(t, t.TempDir())
}

// handlerIn makes the API on the store in a folder.
func handlerIn(t testing.TB, folder string) http.Handler {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(folder, "heron.sqlite"))
	if err != nil {
		t.Fatal(err)
	}
	log, bounds := slog.New(slog.DiscardHandler), storage.Bounds{Kept: []string{t.TempDir()}, Shelf: t.TempDir(), Arrays: []string{os.TempDir()}}
	r, err := runner.Start(t.Context(), runner.Options{Store: s, Bounds: bounds, Room: room.Hold(filepath.Join(t.TempDir(), "reserve")), Log: log, Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	background := aside.New(func() bool { return r.Measuring() > 0 })
	t.Cleanup(func() { background.Close(); r.Close(); s.Close() })
	console := fstest.MapFS{
		"index.html":      {Data: []byte("<title>the console</title>")},
		"assets/a-123.js": {Data: []byte("1")},
	}
	return (&Service{Store: s, Runner: r, Bounds: bounds, Leftovers: leftover.New(s), Aside: background, Token: token, Version: "test", Console: console, Log: log, Started: time.Now()}).Handler()
}

// served serves the API.
func served(t *testing.T) *httptest.Server {
	t.Helper()
	return servedIn(t, t.TempDir())
}

// servedIn serves the API on the store in a folder.
func servedIn(t *testing.T, folder string) *httptest.Server {
	t.Helper()
	server := httptest.NewServer(handlerIn(t, folder))
	t.Cleanup(server.Close)
	return server
}

// call makes one request; headers come as name, value pairs.
func call(t *testing.T, server *httptest.Server, method, path, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, server.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
		switch {
		case headers[i] == "Host":
			request.Host = headers[i+1]
		case headers[i+1] == "":
			request.Header.Del(headers[i])
		}
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

// calls gives every call of the contract, with a place filled in.
func calls(t *testing.T, each func(method, path string, open bool)) {
	t.Helper()
	var contract struct {
		Paths map[string]map[string]struct{ Security *[]any }
	}
	text, err := Contract("test")
	if err != nil || json.Unmarshal(text, &contract) != nil {
		t.Fatal(err)
	}
	n := 0
	for path, methods := range contract.Paths {
		for method, operation := range methods {
			n++
			target := strings.NewReplacer("{id}", "1", "{marker}", "1", "{name}", "x").Replace(path)
			each(strings.ToUpper(method), target, operation.Security != nil && len(*operation.Security) == 0)
		}
	}
	if n < 40 {
		t.Errorf("only %d calls in the contract", n)
	}
}

func TestEveryCallButSigningInWantsTheToken(t *testing.T) {
	server := served(t)
	calls(t, func(method, path string, open bool) {
		if open {
			if path != "/api/v1/session" && path != "/api/v1/proof" && !strings.HasPrefix(path, "/api/v1/problems") {
				t.Errorf("%s %s is open to everyone", method, path)
			}
			return
		}
		for _, headers := range [][]string{nil, with("wrong"), with(""), {"Cookie", cookieName + "=" + token}, {"Cookie", cookieName + "=x", proofHeader, "x"}} {
			// After ten wrong tokens it says to wait instead.
			if answer, _ := call(t, server, method, path, "", headers...); answer.StatusCode != http.StatusUnauthorized && answer.StatusCode != http.StatusTooManyRequests {
				t.Errorf("%s %s with %v gives %d", method, path, headers, answer.StatusCode)
			}
		}
	})
}

// Whoever is signed in, a page of another origin, a foreign name and a body that
// does not say that it is JSON are refused on every call, before anything is
// done.
func TestEveryCallRefusesWhatNoClientOfOursSends(t *testing.T) {
	server := served(t)
	cookie, proof := signedInTo(t, server)
	signs := [][]string{with(token), {"Cookie", cookie, proofHeader, proof}}
	calls(t, func(method, path string, _ bool) {
		for _, sign := range signs {
			for name, c := range map[string]struct {
				body    string
				headers []string
				status  int
			}{
				"another port":      {"", []string{"Origin", "http://127.0.0.1:1"}, 403},
				"another site":      {"{}", []string{"Origin", "http://example.org", "Content-Type", "application/json"}, 403},
				"no origin":         {"", []string{"Origin", "null"}, 403},
				"the same site":     {"", []string{"Sec-Fetch-Site", "same-site"}, 403},
				"another's name":    {"", []string{"Host", "example.org"}, 421},
				"no kind of body":   {"{}", []string{"Content-Type", ""}, 415},
				"a form's body":     {"{}", []string{"Content-Type", "text/plain"}, 415},
				"another form body": {"a=b", []string{"Content-Type", "application/x-www-form-urlencoded"}, 415},
			} {
				answer, text := call(t, server, method, path, c.body, append(slices.Clone(sign), c.headers...)...)
				if answer.StatusCode != c.status || !strings.Contains(text, `"detail"`) {
					t.Errorf("%s %s, %s: %d %s, want %d", method, path, name, answer.StatusCode, text, c.status)
				}
			}
		}
	})
	// Nothing was done: the session is not signed out, nothing is registered.
	if _, text := call(t, server, http.MethodGet, "/api/v1/volumes", "", "Cookie", cookie, proofHeader, proof); !strings.Contains(text, `"volumes":[]`) {
		t.Errorf("afterwards: %s", text)
	}
}

// signedInTo signs in as a browser does.
func signedInTo(t *testing.T, server *httptest.Server) (cookie, proof string) {
	t.Helper()
	answer, text := call(t, server, http.MethodPost, "/api/v1/session", `{"token":"`+token+`"}`)
	var signed SignedIn
	if err := json.Unmarshal([]byte(text), &signed); err != nil || answer.StatusCode != 200 || len(answer.Cookies()) != 1 {
		t.Fatalf("%d %s", answer.StatusCode, text)
	}
	c := answer.Cookies()[0]
	if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || strings.Contains(c.Value+signed.Proof, token) || c.Value == signed.Proof {
		t.Fatalf("cookie %+v, proof %q", c, signed.Proof)
	}
	if _, port, err := net.SplitHostPort(server.Listener.Addr().String()); err != nil || c.Name != "heron_session_"+port {
		t.Errorf("the cookie is called %q on port %s", c.Name, port)
	}
	return c.Name + "=" + c.Value, signed.Proof
}

func TestSigningInAndOut(t *testing.T) {
	server := served(t)
	cookie, proof := signedInTo(t, server)
	other, otherProof := signedInTo(t, server)
	about := func(headers ...string) int {
		t.Helper()
		answer, _ := call(t, server, http.MethodGet, "/api/v1/about", "", headers...)
		return answer.StatusCode
	}
	for name, c := range map[string]struct {
		headers []string
		want    int
	}{
		"cookie and proof":           {[]string{"Cookie", cookie, proofHeader, proof}, 200},
		"the cookie alone":           {[]string{"Cookie", cookie}, 401},
		"the proof alone":            {[]string{proofHeader, proof}, 401},
		"another session's proof":    {[]string{"Cookie", cookie, proofHeader, otherProof}, 401},
		"a wrong token beside them":  {[]string{"Cookie", cookie, proofHeader, proof, "Authorization", "Bearer wrong"}, 401},
		"the cookie of another port": {[]string{"Cookie", "heron_session_1=" + strings.SplitN(cookie, "=", 2)[1], proofHeader, proof}, 401},
	} {
		if got := about(c.headers...); got != c.want {
			t.Errorf("%s: %d, want %d", name, got, c.want)
		}
	}
	if answer, _ := call(t, server, http.MethodDelete, "/api/v1/session", "", "Cookie", cookie, proofHeader, proof); answer.StatusCode != 204 {
		t.Errorf("sign out: %d", answer.StatusCode)
	}
	if gone, stays := about("Cookie", cookie, proofHeader, proof), about("Cookie", other, proofHeader, otherProof); gone != 401 || stays != 200 {
		t.Errorf("after signing one out: %d and %d", gone, stays)
	}
	for i := range 12 {
		answer, text := call(t, server, http.MethodPost, "/api/v1/session", `{"token":"wrong"}`)
		if answer.StatusCode != 401 || !strings.Contains(text, "data folder") {
			t.Errorf("wrong try %d: %d %s", i+1, answer.StatusCode, text)
		}
	}
	if answer, _ := call(t, server, http.MethodPost, "/api/v1/session", `{"token":"`+token+`"}`); answer.StatusCode != 200 {
		t.Errorf("the right token after many wrong ones: %d", answer.StatusCode)
	}
	if got := about(with(token)...); got != 200 {
		t.Errorf("a program with the right token is kept out: %d", got)
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
	if _, text := call(t, server, http.MethodGet, "/api/v1/presets", "", with(token)...); strings.Count(text, `"key"`) != 13 {
		t.Errorf("presets: %s", text)
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
		"/healthz":             {404, "there is nothing here"},
		"/metrics":             {404, "there is nothing here"},
		"/runs/12/more":        {404, "there is nothing here"},
		"/arrays":              {404, "there is nothing here"},
		"/assets/a-123.js":     {200, "1"},
		"/api/v1/no/such":      {404, "openapi.json"},
		"/../../etc/passwd":    {404, "there is nothing here"},
		"/api/v1/openapi.json": {200, `"openapi":"3.1.0"`},
	} {
		answer, text := call(t, server, http.MethodGet, path, "")
		if answer.StatusCode != c.status || !strings.Contains(text, c.words) {
			t.Errorf("%s: %d %.200s", path, answer.StatusCode, text)
		}
		if policy := answer.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "default-src 'self'") {
			t.Errorf("%s: policy %q", path, policy)
		}
		for name, want := range map[string]string{"X-Frame-Options": "DENY", "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer", "Cross-Origin-Resource-Policy": "same-origin"} {
			if got := answer.Header.Get(name); got != want {
				t.Errorf("%s: %s is %q, want %q", path, name, got, want)
			}
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

func TestWhereWritesGo(t *testing.T) {
	given := &resource.Consent{}
	for want, v := range map[string]resource.Volume{
		"kept nowhere": {Kind: "null"}, "a test file": {Kind: "folder"}, "no": {Kind: "device"}, "may overwrite all": {Kind: "file", Consent: given},
		"no longer: consent lapsed": {Kind: "device", Consent: &resource.Consent{Lapsed: "it was written to"}},
	} {
		if got := writesOf(v); got != want {
			t.Errorf("%s: %q, want %q", v.Kind, got, want)
		}
	}
}

// What callers get wrong, and what storage does, is answered with what to do, and is no fault
// of the service.
func TestNoFaultOfTheService(t *testing.T) {
	refusing, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := refusing.Addr().String()
	refusing.Close()
	server := served(t)
	for name, c := range map[string]struct{ method, path, body, words string }{
		"members that are null":    {"POST", "/efficiency", `{"array":{"runs":[1]},"members":null}`, "members"},
		"candidates that are null": {"POST", "/comparisons", `{"name":"x","baseline":{"runs":[1]},"candidates":null}`, "candidates"},
		"stages that are null":     {"POST", "/estimates", `{"stages":null}`, "stages"},
		"a port that refuses":      {"POST", "/volumes", `{"locator":"iscsi://` + nobody + `/iqn.2026-01.example:x/0","consent":{"sizeBytes":1000}}`, "cannot be reached"},
		"two classes of one name": {"POST", "/estimates", `{"name":"x","stages":[{"repeats":1,"settle":{"pauseSeconds":0},"load":` +
			strings.Replace(filesLoad(t, server), `"name":"a"`, `"name":"b"`, 1) + `}]}`, "the same name"},
	} {
		answer, text := call(t, server, c.method, "/api/v1"+c.path, c.body, with(token)...)
		if answer.StatusCode != 422 || !strings.Contains(text, c.words) {
			t.Errorf("%s: %d %s", name, answer.StatusCode, text)
		}
	}
}

// filesLoad is a load of files of two classes, a and b, as the API writes it.
func filesLoad(t *testing.T, server *httptest.Server) string {
	t.Helper()
	plan := `{"text":"files: {classes: [{name: a, number: 2, size: 1KiB}, {name: b, number: 3, size: 2KiB}]}\nstages: [{load: {task: put, passes: 1}}]"}`
	answer, text := call(t, server, http.MethodPost, "/api/v1/plans", plan, with(token)...)
	var read struct {
		Plan struct {
			Stages []struct{ Load json.RawMessage }
		}
	}
	if err := json.Unmarshal([]byte(text), &read); err != nil || len(read.Plan.Stages) != 1 {
		t.Fatalf("%d %s", answer.StatusCode, text)
	}
	return string(read.Plan.Stages[0].Load)
}

func TestNamesOfArraysAreTheirOwn(t *testing.T) {
	for text, want := range map[string]string{
		"eight disks": "eight disks", "Über-RAID (neu)": "Über-RAID -neu", "../../etc": "etc", " .-": "", "": "", strings.Repeat("ä", 60): strings.Repeat("ä", 40),
	} {
		if got := plainName(text); got != want {
			t.Errorf("%q is called %q, not %q", text, got, want)
		}
	}
}
