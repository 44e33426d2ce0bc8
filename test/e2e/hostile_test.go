package e2e

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"patientheron/client"
	"patientheron/protocol/httpsign"
	"patientheron/resource"
)

// A page on another port of the same host, opened in a browser that is signed
// in, gets nothing done and nothing to read, whatever it tries; nor does its
// server with the cookie that the browser sends it.
func TestAPageOnAnotherPort(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	p := open(t, s)
	p.signIn(s)
	p.says("Nothing was measured yet")

	var mu sync.Mutex
	var cookies []string
	evil := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		cookies = append(cookies, r.Header.Get("Cookie"))
		mu.Unlock()
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<form id=f method=post enctype=text/plain action="%[1]s/api/v1/volumes"><input name='{"locator":"null:3TiB","x":"' value='"}'></form>
<iframe name=i src="%[1]s/runs"></iframe><p id=out></p><script>
const tries = [fetch("/api/v1/where-the-cookie-goes").then(() => "failed")];
for (const [method, path, body] of [["POST", "/volumes", '{"locator":"null:2TiB"}'], ["DELETE", "/session", undefined], ["GET", "/runs", undefined], ["PUT", "/arrays/x", '{"text":"members: 1"}']])
  for (const kind of [undefined, "text/plain", "application/json", "application/x-www-form-urlencoded"])
    for (const mode of ["cors", "no-cors"]) {
      const headers = kind && body ? {"Content-Type": kind} : {};
      tries.push(fetch("%[1]s/api/v1" + path, {method, mode, credentials: "include", headers, body: body && new Blob([body])}).then(a => a.type === "opaque" || a.status === 0 ? "opaque" : a.text(), () => "failed"));
    }
const framed = new Promise(done => setTimeout(() => { let read = "no"; try { read = frames[0].document.body.innerText ? "yes" : "no" } catch {} done("framed " + read) }, 500));
Promise.all([...tries, framed]).then(all => document.getElementById("out").textContent = "done " + [...new Set(all)].sort().join(","));
</script>`, s.url)
	}))
	defer evil.Close()
	at, err := url.Parse(evil.URL)
	ok(t, err)
	p.do(chromedp.Navigate(fmt.Sprintf("http://127.0.0.1:%s/", at.Port())))
	p.until(`document.getElementById("out").textContent.startsWith("done")`)
	if text, err := p.Text("#out"); err != nil || text != "done failed,framed no" {
		t.Errorf("the page got %q (%v)", text, err)
	}
	p.do(chromedp.Evaluate[chromedp.Void](`document.getElementById("f").submit()`))
	p.says("may not call this service")

	if volumes, err := s.Volumes(t.Context()); err != nil || len(volumes) != 0 {
		t.Errorf("registered: %+v (%v)", volumes, err)
	}
	mu.Lock()
	stolen := strings.Join(cookies, "; ")
	mu.Unlock()
	if !strings.Contains(stolen, "heron_session") {
		t.Errorf("browsers no longer share cookies between ports; this test proves less than it did: %q", stolen)
	}
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.url+"/api/v1/volumes", nil)
	ok(t, err)
	request.Header.Set("Cookie", stolen)
	answer, err := http.DefaultClient.Do(request)
	ok(t, err)
	answer.Body.Close()
	if answer.StatusCode != http.StatusUnauthorized {
		t.Errorf("the cookie alone gives %d", answer.StatusCode)
	}
	// The browser is still signed in, where it belongs.
	p.do(chromedp.Navigate(s.url + "/runs"))
	p.says("Nothing was measured yet")
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Sign out").map(b => b.click()).length === 1`)
	p.says("Token")
}

// relayed passes what comes to an address on to the service, byte for byte, and keeps all
// that came.
func relayed(t *testing.T, at, to string) (address string, came func() string) {
	t.Helper()
	l, err := net.Listen("tcp", at)
	ok(t, err)
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	var all strings.Builder
	go func() {
		for {
			here, err := l.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", to)
			if err != nil {
				here.Close()
				continue
			}
			go func() { _, _ = io.Copy(here, there); here.Close() }()
			go func() {
				defer there.Close()
				for b := make([]byte, 4096); ; {
					n, err := here.Read(b)
					mu.Lock()
					all.Write(b[:n])
					mu.Unlock()
					if _, failed := there.Write(b[:n]); err != nil || failed != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String(), func() string { mu.Lock(); defer mu.Unlock(); return all.String() }
}

// The command line gives its token to nobody: not to what listens where a service was, not to
// what passes its words on, from another port or from another address. What these learn is
// good for nothing. To the service of its own user it speaks over a socket, with no token.
func TestTheTokenIsForNobody(t *testing.T) {
	data := t.TempDir()
	s := serve(t, data, false)
	real := strings.TrimPrefix(s.url, "http://")
	_, port, err := net.SplitHostPort(real)
	ok(t, err)
	var mu sync.Mutex
	var got []string
	impostor := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		got = append(got, fmt.Sprint(r.URL, r.Header))
		mu.Unlock()
		_, _ = io.WriteString(w, `{"proof":"00","volumes":[]}`)
	}))
	defer impostor.Close()
	another, fromAnother := relayed(t, "127.0.0.1:0", real)
	elsewhere, fromElsewhere := relayed(t, "127.0.0.2:"+port, real)
	for name, at := range map[string]string{"a program of another": impostor.URL, "a relay on another port": "http://" + another, "a relay on another address": "http://" + elsewhere} {
		out, trouble, err := s.cli("--service", at, "--token", s.token, "volume", "list")
		if err == nil {
			t.Errorf("%s is taken for the service: %s%s", name, out, trouble)
		}
	}
	for name, learnt := range map[string]string{"the program": strings.Join(got, "\n"), "the relay on another port": fromAnother(), "the relay on another address": fromElsewhere()} {
		if learnt == "" || strings.Contains(learnt, s.token) || strings.Contains(learnt, "Bearer") {
			t.Errorf("%s learnt: %s", name, learnt)
		}
	}
	// What they learnt does not let them in, as it was or sent to the service itself.
	for name, learnt := range map[string]string{"another port": fromAnother(), "another address": fromElsewhere()} {
		if !strings.Contains(learnt, "Signature") {
			continue // it got no further than the proof
		}
		conn, err := net.Dial("tcp", real)
		ok(t, err)
		_, err = io.WriteString(conn, learnt)
		ok(t, err, conn.SetReadDeadline(time.Now().Add(5*time.Second)))
		answers, _ := io.ReadAll(conn)
		conn.Close()
		if strings.Contains(string(answers), `"volumes"`) {
			t.Errorf("what came to %s lets in: %s", name, answers)
		}
	}
	// The service itself is reached by its address, once for each request.
	through, fromThrough := relayed(t, "127.0.0.1:0", real)
	t.Logf("a relay that the service was told of would be %s", through)
	if out, trouble, err := s.cli("--service", s.url, "--token", s.token, "volume", "list"); err != nil {
		t.Errorf("the service itself: %s%s", out, trouble)
	}
	if fromThrough() != "" {
		t.Error("something came to a relay that nobody named")
	}
	// Without an address its own user's programs go over a socket, whatever the file of the
	// address says.
	ok(t, os.WriteFile(filepath.Join(data, "address"), []byte(impostor.URL+"\n"), 0o600))
	asked := len(got)
	if out, trouble, err := s.cli("volume", "list"); err != nil || len(got) != asked {
		t.Errorf("over the socket: %s%s, the impostor was asked %d times", out, trouble, len(got)-asked)
	}
	s.end(syscall.SIGKILL)
	if _, trouble, err := s.cli("volume", "list"); err == nil || !strings.Contains(trouble, "heron serve") || len(got) != asked {
		t.Errorf("a service that was killed: %s, the impostor was asked %d times", trouble, len(got)-asked)
	}
}

// A request that was signed once is taken once.
func TestASignedRequestIsTakenOnce(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	made := func() *http.Request {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.url+"/api/v1/volumes", nil)
		ok(t, err)
		return r
	}
	r := made()
	httpsign.Sign(r, nil, s.token, strings.TrimPrefix(s.url, "http://"), time.Now())
	for try, want := range []int{http.StatusOK, http.StatusUnauthorized} {
		again := made()
		again.Header = r.Header
		answer, err := http.DefaultClient.Do(again)
		ok(t, err)
		answer.Body.Close()
		if answer.StatusCode != want {
			t.Errorf("sent %d times: %d, want %d", try+1, answer.StatusCode, want)
		}
	}
}

// What an array file may not be: the service reads none that its callers might
// not read, and repeats nothing of them.
func TestArrayFilesAreReadWhereTheyMayBe(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	for _, locator := range []string{"array:/etc/shadow", "array:/dev/zero", "array:/proc/self/environ", "array:" + s.data + "/token", "array:" + os.TempDir() + "/../etc/shadow"} {
		_, err := s.AddVolume(t.Context(), resource.NewVolume{Locator: locator})
		if err == nil || strings.Contains(err.Error(), "root:") || strings.Contains(err.Error(), s.token) {
			t.Errorf("%s: %v", locator, err)
		}
		if look, err := s.Look(t.Context(), locator, client.Asked{}); err != nil || strings.Contains(fmt.Sprintf("%+v", look), "root:") || strings.Contains(fmt.Sprintf("%+v", look), s.token) {
			t.Errorf("a look at %s: %+v (%v)", locator, look, err)
		}
	}
	// Its user may hand over what the service does not read by itself.
	folder, err := os.MkdirTemp("/var/tmp", "heron-e2e-")
	ok(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	file := filepath.Join(folder, "rack.yaml")
	ok(t, os.WriteFile(file, []byte("members: {count: 4, medium: ssd, capacity: 1TB}\nlayout: {level: raid10}\n"), 0o600))
	if out, trouble, err := s.cli("array", "measure", file, "--for", "1s", "--span", "1GiB"); err != nil || !strings.Contains(out, "Status finished") {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	if out, trouble, err := s.cli("look", "array:"+file); err != nil || !strings.Contains(out, "raid10") {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
}

// Names that would write to a terminal are refused, and where they come from
// outside, as a path does, they are shown as text.
func TestNothingReachesTheTerminalRaw(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	const evil = "a\x1b]0;owned\x07\x1b[2Jb\u202egnp"
	volume := s.volume("null:1TiB", nil)
	if _, err := s.StartRun(t.Context(), resource.NewRun{Name: evil, VolumeID: volume.ID, Plan: onePlan(spec(nil))}); err == nil {
		t.Error("a run was given a name with controls")
	}
	folder := filepath.Join(t.TempDir(), evil)
	ok(t, os.Mkdir(folder, 0o700))
	if _, err := s.AddVolume(t.Context(), resource.NewVolume{Name: "odd", Locator: folder}); err != nil {
		t.Fatal(err)
	}
	for _, command := range [][]string{{"volume", "list"}, {"look", "odd"}, {"measure", "odd", "--for", "200ms", "--span", "8MiB", "--interval", "100ms"}, {"volume", "remove", evil}} {
		out, trouble, _ := s.cli(command...)
		if strings.ContainsAny(out+trouble, "\x1b\x07\u202e") {
			t.Errorf("%v: %q", command, out+trouble)
		}
	}
	// For programs the name is as it is.
	if out, _, err := s.cli("volume", "list", "--json"); err != nil || !strings.Contains(out, `\u001b]0;owned`) {
		t.Errorf("%v: %s", err, out)
	}
}

// A data folder that others could read is made private, with a word; one that
// others may write to is refused.
func TestDataFolderIsPrivate(t *testing.T) {
	data := t.TempDir()
	s := serve(t, data, false)
	s.end(syscall.SIGTERM)
	for _, name := range []string{"heron.sqlite", "token", "lock"} {
		info, err := os.Stat(filepath.Join(data, name))
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s has %v (%v)", name, info.Mode(), err)
		}
		ok(t, os.Chmod(filepath.Join(data, name), 0o644))
	}
	s = serve(t, data, false)
	if strings.Count(s.said(), "it is private now") != 3 {
		t.Errorf("it says: %s", s.said())
	}
	s.volume("null:1TiB", nil)
	files, err := filepath.Glob(data + "/*")
	ok(t, err)
	for _, file := range files {
		if info, err := os.Stat(file); err != nil || !info.IsDir() && info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s has %v (%v)", file, info.Mode(), err)
		}
	}
	s.end(syscall.SIGTERM)
	ok(t, os.Chmod(data, 0o777))
	if _, trouble, err := runHeron(t, "serve", "--data", data, "--listen", "127.0.0.1:0"); err == nil || !strings.Contains(trouble, "chmod go-w") {
		t.Errorf("a folder that all may write to: %s", trouble)
	}
}

// Small things that scripts trip over.
func TestExitCodesTellTheTruth(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	for name, c := range map[string]struct {
		arguments []string
		words     string
	}{
		"an unknown command":         {[]string{"mesure"}, `no command "mesure"`},
		"an unknown command of many": {[]string{"run", "lst"}, `no command "lst"`},
		"a command of a group":       {[]string{"preset", "x"}, `no command "x"`},
		"an empty locator":           {[]string{"volume", "add", ""}, "the locator is empty"},
		"an unknown check":           {[]string{"measure", "null:1TiB", "--override", "everything"}, `no check "everything"`},
		"a run counted again":        {[]string{"compare", "1+1", "2"}, "twice"},
		"a number without end":       {[]string{"run", "repeats", "1", "--p99", "Inf"}, "does not start with a number"},
	} {
		out, trouble, err := s.cli(c.arguments...)
		if err == nil || !strings.Contains(trouble, c.words) {
			t.Errorf("%s: %v, %s%s", name, err, out, trouble)
		}
	}
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	ok(t, err)
	defer full.Close()
	for _, arguments := range [][]string{{"preset", "list"}, {"run", "list"}, {"volume", "list", "--json"}, {"--help"}, {"contract"}} {
		command := exec.Command(heron, append([]string{"--data", s.data}, arguments...)...)
		command.Stdout = full
		if err := command.Run(); err == nil {
			t.Errorf("%v succeeds although nothing could be written", arguments)
		}
	}
}

// Facts told at once are all kept, also while a run looks at the same volume.
func TestFactsToldAtOnce(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	volume := s.volume("null:1TiB", nil)
	_, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(nil))})
	ok(t, err)
	var together sync.WaitGroup
	for i := range 40 {
		together.Go(func() {
			told := resource.ToldSetup{Facts: []resource.ToldFact{{Key: fmt.Sprintf("media[%d].model", i), Value: fmt.Sprint("medium ", i)}}}
			if _, err := s.TellSetup(t.Context(), volume.ID, told); err != nil {
				t.Error(err)
			}
		})
	}
	together.Wait()
	s.finished(1)
	versions, err := s.Setups(t.Context(), volume.ID)
	ok(t, err)
	for i := range 40 {
		if got := versions[0].Setup.Text(fmt.Sprintf("media[%d].model", i)); got != fmt.Sprint("medium ", i) {
			t.Errorf("fact %d is %q", i, got)
		}
	}
	stale := 1
	var problem *client.Problem
	if _, err := s.TellSetup(t.Context(), volume.ID, resource.ToldSetup{Version: &stale, Facts: []resource.ToldFact{{Key: "media[0].model", Value: "another"}}}); !errors.As(err, &problem) || problem.Status != http.StatusConflict {
		t.Errorf("told against a version that is no longer the newest: %v", err)
	}
}
