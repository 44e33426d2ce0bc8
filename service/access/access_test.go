package access

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"
)

func TestScreen(t *testing.T) {
	host, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	const here = "127.0.0.1:7437"
	for name, c := range map[string]struct {
		host, path, body string
		headers          string // "Name: value" lines
		want             int    // 0 for passed
	}{
		"a program":                      {host: here, path: "/api/x"},
		"a program with JSON":            {host: here, path: "/api/x", body: "{}", headers: "Content-Type: application/json; charset=utf-8"},
		"our own page":                   {host: here, path: "/api/x", headers: "Origin: http://" + here + "\nSec-Fetch-Site: same-origin"},
		"our own page behind TLS":        {host: "localhost:7437", path: "/api/x", headers: "Origin: https://localhost:7437"},
		"an address of the sixth kind":   {host: "[::1]:7437", path: "/api/x"},
		"this host's name":               {host: host + ":7437", path: "/api/x"},
		"a stated name":                  {host: "Heron.Example:7437", path: "/api/x"},
		"typed into the address bar":     {host: here, path: "/runs", headers: "Sec-Fetch-Site: none"},
		"a link from elsewhere":          {host: here, path: "/runs", headers: "Sec-Fetch-Site: cross-site"},
		"a page on another port":         {host: here, path: "/api/x", headers: "Origin: http://127.0.0.1:8000", want: 403},
		"the same, as the browser says":  {host: here, path: "/api/x", headers: "Sec-Fetch-Site: same-site", want: 403},
		"a page elsewhere":               {host: here, path: "/api/x", headers: "Origin: http://example.org", want: 403},
		"the same, without its origin":   {host: here, path: "/api/x", headers: "Sec-Fetch-Site: cross-site", want: 403},
		"a page without an origin":       {host: here, path: "/api/x", headers: "Origin: null", want: 403},
		"a page of a file":               {host: here, path: "/api/x", headers: "Origin: file://", want: 403},
		"a page that extends our name":   {host: here, path: "/api/x", headers: "Origin: http://" + here + ".example.org", want: 403},
		"a name made to point here":      {host: "rebound.example.org:7437", path: "/api/x", want: 421},
		"the same, for a page":           {host: "rebound.example.org", path: "/", want: 421},
		"no name":                        {host: "", path: "/api/x", want: 421},
		"a name that begins like ours":   {host: "localhost.example.org", path: "/api/x", want: 421},
		"a body of no kind":              {host: here, path: "/api/x", body: "{}", want: 415},
		"a body that a form sends":       {host: here, path: "/api/x", body: "{}", headers: "Content-Type: text/plain", want: 415},
		"a body of a kind beginning so":  {host: here, path: "/api/x", body: "{}", headers: "Content-Type: application/jsonp", want: 415},
		"an upload":                      {host: here, path: "/api/x", body: "{}", headers: "Content-Type: multipart/form-data; boundary=x", want: 415},
		"a body of a kind that is wrong": {host: here, path: "/api/x", body: "{}", headers: "Content-Type: ;;;", want: 415},
	} {
		r := httptest.NewRequest(http.MethodPost, "http://x"+c.path, strings.NewReader(c.body))
		r.Host = c.host
		for line := range strings.Lines(c.headers) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
			r.Header.Set(key, value)
		}
		refusal := Screen(r, "/api/", []string{"heron.example"})
		if got := refusal; (got == nil) != (c.want == 0) || got != nil && (got.Status != c.want || got.Detail == "") {
			t.Errorf("%s: %+v, want %d", name, got, c.want)
		}
	}
	long := httptest.NewRequest(http.MethodGet, "http://x/", nil)
	long.Host = strings.Repeat("a", 10_000)
	if refusal := Screen(long, "/api/", nil); refusal == nil || len(refusal.Detail) > 500 {
		t.Error("a long name is repeated in full")
	}
}

// kept keeps sessions in memory, with the meaning that Keeper gives.
type kept map[string]Session

func (k kept) AddSession(_ context.Context, s Session) error { k[s.ID] = s; return nil }
func (k kept) Session(_ context.Context, id string) (*Session, error) {
	if s, is := k[id]; is {
		return &s, nil
	}
	return nil, nil
}
func (k kept) UseSession(_ context.Context, id string, at time.Time) error {
	s := k[id]
	s.Used = at
	k[id] = s
	return nil
}
func (k kept) EndSession(_ context.Context, id string) error { delete(k, id); return nil }
func (k kept) EndSessions(_ context.Context, other string, made, used time.Time) error {
	for id, s := range k {
		if s.Token != other || s.Created.Before(made) || s.Used.Before(used) {
			delete(k, id)
		}
	}
	return nil
}

func TestSessions(t *testing.T) {
	now := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	keeper := kept{}
	s := Sessions{Keeper: keeper, Token: "token", Now: func() time.Time { return now }}
	begin := func() (string, string) {
		t.Helper()
		cookie, proof, err := s.Begin(t.Context())
		if err != nil || len(cookie) < 20 || len(proof) < 20 || cookie == proof {
			t.Fatalf("%q, %q, %v", cookie, proof, err)
		}
		return cookie, proof
	}
	holds := func(s Sessions, cookie, proof string) bool {
		t.Helper()
		ok, err := s.Holds(t.Context(), cookie, proof)
		if err != nil {
			t.Fatal(err)
		}
		return ok
	}
	cookie, proof := begin()
	other, otherProof := begin()
	for id, session := range keeper {
		if strings.Contains(fmt.Sprint(id, session), cookie) || strings.Contains(fmt.Sprint(session), proof) {
			t.Error("a secret is kept as it is")
		}
	}
	for name, c := range map[string]struct {
		cookie, proof string
		want          bool
	}{
		"both": {cookie, proof, true}, "the other's": {other, otherProof, true}, "the cookie alone": {cookie, "", false}, "the proof alone": {"", proof, false},
		"crossed": {cookie, otherProof, false}, "swapped": {proof, cookie, false}, "digests": {Digest(cookie), Digest(proof), false}, "nothing": {"", "", false},
	} {
		if got := holds(s, c.cookie, c.proof); got != c.want {
			t.Errorf("%s: %t", name, got)
		}
	}
	if holds(Sessions{Keeper: keeper, Token: "another token", Now: s.Now}, cookie, proof) {
		t.Error("a session outlived its token")
	}
	for day := range 40 { // used daily, it lasts its longest and no longer
		if got := holds(s, cookie, proof); got != (day <= 30) {
			t.Errorf("on day %d: %t", day, got)
		}
		now = now.Add(24 * time.Hour)
	}
	cookie, proof = begin()
	if len(keeper) != 1 {
		t.Errorf("%d sessions are kept; the old ones should be gone", len(keeper))
	}
	now = now.Add(Idle + time.Minute)
	if holds(s, cookie, proof) {
		t.Error("a session that was not used lasts")
	}
	cookie, proof = begin()
	if err := s.End(t.Context(), cookie); err != nil || holds(s, cookie, proof) {
		t.Errorf("signed out, it lasts (%v)", err)
	}
}

func TestTries(t *testing.T) {
	now := time.Unix(0, 0)
	tries := Tries{now: func() time.Time { return now }}
	for range wrongTries {
		if wait := tries.Wait("a"); wait != 0 {
			t.Fatalf("waits %v too early", wait)
		}
		tries.Wrong("a")
	}
	if wait := tries.Wait("a"); wait != tryWindow {
		t.Errorf("waits %v", wait)
	}
	if wait := tries.Wait("b"); wait != 0 {
		t.Errorf("another address waits %v", wait)
	}
	now = now.Add(tryWindow)
	if wait := tries.Wait("a"); wait != 0 {
		t.Errorf("waits %v after the window", wait)
	}
	tries.Wrong("a")
	tries.Right("a")
	for i := range 3 * mostFrom {
		tries.Wrong(fmt.Sprint(i))
	}
	if len(tries.of) > mostFrom {
		t.Errorf("%d addresses are kept in mind", len(tries.of))
	}
}

// Another program's HMAC is the oracle for the proof.
func TestProve(t *testing.T) {
	if Prove("token", "challenge", "7437") == Prove("token", "challenge", "7438") || Prove("token", "challenge", "7437") == Prove("tokem", "challenge", "7437") {
		t.Error("the proof does not depend on port or token")
	}
	// printf 'patient heron\0challenge\0007437' | openssl dgst -sha256 -hmac token
	const want = "e08cba9a6cab832b9ff9c903677a3827d7ad4d068be910b223278b3a96c96502"
	if got := Prove("token", "challenge", "7437"); got != want {
		t.Errorf("the proof is %s, want %s", got, want)
	}
	if Same("a", "") || Same("", "") || !Same("a", "a") || Same("a", "b") {
		t.Error("secrets are not compared rightly")
	}
}

func TestWhoCalls(t *testing.T) {
	if who := Who(t.Context()); who != (Principal{}) {
		t.Errorf("nobody is %+v", who)
	}
	want := Principal{By: "session", Session: Digest("cookie")}
	if who := Who(With(t.Context(), want)); who != want || strings.Contains(who.Session, "cookie") {
		t.Errorf("%+v", who)
	}
}
