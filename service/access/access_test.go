package access

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
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
		"a name that our name begins":    {host: host + ".evil.example", path: "/api/x", want: 421},
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

// After some wrong tokens each further one waits for its turn, and the right one is taken
// when its turn comes; other places are not held up.
func TestTries(t *testing.T) {
	now := time.Unix(0, 0)
	tries := Tries{now: func() time.Time { return now }}
	take := func(from string) time.Duration {
		t.Helper()
		wait, err := tries.take(from)
		if err != nil {
			t.Fatal(err)
		}
		return wait
	}
	for range freeTries {
		if wait := take("a"); wait != 0 {
			t.Fatalf("waits %v too early", wait)
		}
		tries.Wrong("a")
	}
	for turn := range mostWaiting {
		if wait := take("a"); wait != time.Duration(turn+1)*turnEvery {
			t.Errorf("turn %d comes after %v", turn, wait)
		}
	}
	if _, err := tries.take("a"); !errors.Is(err, ErrTooMany) {
		t.Errorf("one more: %v", err)
	}
	for range mostWaiting {
		tries.leave("a")
	}
	if wait := take("b"); wait != 0 {
		t.Errorf("another place waits %v", wait)
	}
	tries.Right("a")
	if wait := take("a"); wait != 0 {
		t.Errorf("after the right token it waits %v", wait)
	}
	for range freeTries {
		tries.Wrong("a")
	}
	now = now.Add(tryWindow)
	if wait := take("a"); wait != 0 {
		t.Errorf("waits %v after the window", wait)
	}
	for i := range 3 * mostFrom {
		tries.Wrong(fmt.Sprint(i))
	}
	if len(tries.of) > mostFrom {
		t.Errorf("%d places are kept in mind", len(tries.of))
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	for range freeTries {
		tries.Wrong("c")
	}
	if err := tries.Turn(ended, "c"); !errors.Is(err, context.Canceled) {
		t.Errorf("who has gone: %v", err)
	}
}

// Whoever comes over loopback is known by his user, and others by their address.
func TestWhereACallComesFrom(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	want := fmt.Sprintf("user %d of this host", os.Getuid())
	if got := place(conn.LocalAddr().String()); got != want {
		t.Errorf("it comes from %q, want %q", got, want)
	}
	for remote, want := range map[string]string{"192.0.2.7:1234": "192.0.2.7", "[2001:db8::7]:1": "2001:db8::7", "[::ffff:192.0.2.7]:1": "192.0.2.7", "pipe": "pipe"} {
		if got := place(remote); got != want {
			t.Errorf("%s is %q, want %q", remote, got, want)
		}
	}
	// Two lines of proc(5): 127.0.0.1:7437 and [::1]:7437, on a host of little end.
	if binary.NativeEndian.Uint16([]byte{1, 0}) == 1 {
		for text, want := range map[string]string{"0100007F:1D0D": "127.0.0.1:7437", "00000000000000000000000001000000:1D0D": "[::1]:7437"} {
			if got := readAddress(text).String(); got != want {
				t.Errorf("%s is %s, want %s", text, got, want)
			}
		}
	}
}

// The kernel says who is on the other side of a socket; others than this user are closed out.
func TestOwnPeers(t *testing.T) {
	path := filepath.Join(t.TempDir(), "socket")
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	conn, err := net.Dial("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	taken, err := OwnPeers{l}.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	if uid, err := PeerOf(taken.(*net.UnixConn)); err != nil || uid != os.Getuid() {
		t.Errorf("user %d (%v)", uid, err)
	}
}

func TestOurAddress(t *testing.T) {
	local := &net.TCPAddr{IP: net.ParseIP("127.0.0.1"), Port: 7437}
	for given, want := range map[string]bool{
		"127.0.0.1:7437": true, "[::ffff:127.0.0.1]:7437": true, "192.0.2.1:80": true,
		"127.0.0.1:7438": false, "127.0.0.2:7437": false, "[::1]:7437": false, "localhost:7437": false, "": false, "192.0.2.1:81": false,
	} {
		if got := OurAddress(given, local, []string{"heron.example", "192.0.2.1:80"}); got != want {
			t.Errorf("%q: %t", given, got)
		}
	}
	if OurAddress("127.0.0.1:7437", nil, nil) {
		t.Error("an address is ours where there is none")
	}
}

func TestNonces(t *testing.T) {
	var n Nonces
	at := time.Unix(0, 0)
	if !n.New("a", at, time.Minute) || n.New("a", at.Add(time.Minute), time.Minute) || !n.New("b", at, time.Minute) || n.New("a", at.Add(3*time.Minute), time.Minute) {
		t.Error("a nonce is taken twice, or not at all")
	}
	for i := range 10 {
		n.New(fmt.Sprint(i), at.Add(time.Duration(i)*time.Hour), time.Minute)
	}
	if len(n.now)+len(n.before) > 2 {
		t.Errorf("%d nonces are kept for ever", len(n.now)+len(n.before))
	}
}

// Whoever holds connections open without a word of who he is shuts nobody out.
func TestStrangers(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := &Strangers{Listener: inner, Most: 4}
	defer l.Close()
	var here, there []net.Conn
	come := func() {
		t.Helper()
		conn, err := net.Dial("tcp", inner.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		taken, err := l.Accept()
		if err != nil {
			t.Fatal(err)
		}
		here, there = append(here, taken), append(there, conn)
	}
	come()
	Known(Over(t.Context(), here[0]))
	for range 20 {
		come()
	}
	open := 0
	for i, conn := range there {
		_ = conn.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		_, err := conn.Read(make([]byte, 1))
		var waits net.Error
		if errors.As(err, &waits) && waits.Timeout() {
			open++
		} else if i == 0 {
			t.Errorf("one that is known was closed: %v", err)
		}
	}
	if open != 5 {
		t.Errorf("%d are open, want the one that is known and four", open)
	}
	for _, conn := range here {
		conn.Close()
	}
	if len(l.all) != 0 {
		t.Errorf("%d that were closed are counted", len(l.all))
	}
}

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
