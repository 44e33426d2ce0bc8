package e2e

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/resource"
)

const (
	// What was sold, and what was delivered.
	soldDisks      = "name: as sold\nmembers: {count: 4, medium: hard disk, capacity: 1TB, outerRate: 250MB/s, innerRate: 120MB/s}\nlayout: {level: raid0}\n"
	deliveredDisks = "name: as delivered\nmembers: {count: %d, medium: hard disk, capacity: 1TB, outerRate: 125MB/s, innerRate: 60MB/s, seekTrack: 1.2ms, seekAverage: 12ms, seekFull: 24ms}\nlayout: {level: raid0}\n"
	knowDisks      = `stages:
  - {name: small, load: {block: 4KiB, span: 400GiB, for: 10s}, sweep: [{field: depth, values: [1, 16]}]}
  - {name: large, load: {block: 1MiB, order: sequential, span: 10GiB, for: 4s}, sweep: [{field: depth, values: [1, 8]}]}
`
)

// written writes a file and gives its path.
func written(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// A twin is fitted to an array that is not what was sold, with what was sold as the guess. What
// it predicts is confronted by itself with what is measured later: on that volume while it is
// as it was, and, where something was to be another way, on another.
func TestTwins(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	delivered := written(t, "delivered.yaml", fmt.Sprintf(deliveredDisks, 4))
	if _, err := s.AddVolume(t.Context(), resource.NewVolume{Name: "pool", Locator: "array:" + delivered}); err != nil {
		t.Fatal(err)
	}
	do := func(arguments ...string) string {
		t.Helper()
		out, trouble, err := s.cli(arguments...)
		if err != nil {
			t.Fatalf("%v: %v: %s%s", arguments, err, out, trouble)
		}
		return out
	}
	sold := written(t, "sold.yaml", soldDisks)
	for words, arguments := range map[string][]string{
		"nothing was measured":    {"twin", "fit", "pool", "--guess", sold},
		"is no registered volume": {"twin", "fit", "elsewhere"},
		"does not exist yet":      {"twin", "fit", "pool", "--to", sold},
		"line 2, column":          {"twin", "fit", "pool", "--guess", written(t, "wrong.yaml", strings.Replace(soldDisks, "hard disk", "paper", 1))},
		"no twin has the name or": {"twin", "show", "mine"},
		"'heron twin fit VOLUME'": {"twin", "list"},
		"join runs by +":          {"twin", "fit", "pool", "--runs", "one"},
	} {
		if out, trouble, _ := s.cli(arguments...); !strings.Contains(out+trouble, words) {
			t.Errorf("%v does not say %q: %s%s", arguments, words, out, trouble)
		}
	}
	do("measure", "pool", "--plan", written(t, "know.yaml", knowDisks))
	if guess := do("twin", "guess", "pool"); guess != fmt.Sprintf(deliveredDisks, 4) {
		t.Errorf("the guess of an array is its own file, not %s", guess)
	}
	file := filepath.Join(t.TempDir(), "twin.yaml")
	out := do("twin", "fit", "pool", "--guess", sold, "--free", "members[0].outerRate,members[0].seekAverage", "--name", "mine", "--to", file)
	for _, words := range []string{`Twin 1, "mine", of "pool", fitted to run 1 in`, "on loads that were left out of the fit", "members[0].outerRate"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), words) {
			t.Errorf("it does not say %q: %s", words, out)
		}
	}
	if _, trouble, err := s.cli("twin", "fit", "pool", "--name", "mine"); err == nil || !strings.Contains(trouble, "already taken") {
		t.Error(trouble)
	}
	kept, err := s.Twin(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	truth := map[string]float64{"members[0].outerRate": 125e6, "members[0].seekAverage": 0.012}
	for _, p := range kept.Fitted.Parameters {
		if off := p.Value/truth[p.Key] - 1; math.Abs(off) > 0.1 {
			t.Errorf("%s is %s, off by %+.1f %%", p.Key, p.Shown, off*100)
		}
	}
	if text, err := os.ReadFile(file); err != nil || string(text) != kept.Text || do("twin", "file", "mine") != kept.Text || do("array", "check", file) == "" {
		t.Errorf("%v: %s", err, text)
	}

	if _, trouble, err := s.cli("twin", "predict", "1", "--set", "members.colour=red"); err == nil || !strings.Contains(trouble, "a group of members has no key") {
		t.Error(trouble)
	}
	load := []string{"--block", "8KiB", "--depth", "4", "--span", "100GiB", "--for", "4s"}
	do(append([]string{"twin", "predict", "mine"}, load...)...)
	six, err := s.AddVolume(t.Context(), resource.NewVolume{Name: "six", Locator: "array:" + written(t, "six.yaml", fmt.Sprintf(deliveredDisks, 6))})
	if err != nil {
		t.Fatal(err)
	}
	do(append([]string{"twin", "predict", "mine", "--set", "members.count=6", "--on", six.Name}, load...)...)
	do(append([]string{"twin", "predict", "mine", "--set", "members.count=6"}, load...)...)
	do(append([]string{"measure", "pool"}, load...)...)
	do(append([]string{"measure", "six"}, load...)...)
	if kept, err = s.Twin(t.Context(), 1); err != nil || len(kept.Predictions) != 3 {
		t.Fatalf("%v: %+v", err, kept.Predictions)
	}
	for i, p := range kept.Predictions { // the newest first
		c := p.Confronted[0]
		if i == 0 {
			if c.Measured != nil || !strings.Contains(p.Words, "since that became another") {
				t.Errorf("the volume is as it was: %+v", p)
			}
			continue
		}
		if c.Measured == nil || !c.Within || math.Abs(*c.Off) > 0.1 || !strings.Contains(p.Words, "1 inside the interval") {
			t.Errorf("%+v", p)
		}
	}
	for line := range strings.Lines(do("twin", "show", "mine")) {
		if len([]rune(line)) > 105 {
			t.Errorf("a line is longer than 104 characters: %s", line)
		}
	}
	if out := do("twin", "show", "1", "--json"); !json.Valid([]byte(out)) {
		t.Error(out)
	}
	do("twin", "remove", "mine")
	if out, _, _ := s.cli("run", "list"); strings.Contains(do("twin", "list"), "mine") || !strings.Contains(out, "pool") {
		t.Errorf("what was measured is gone: %s", out)
	}
}

// In the console a twin is fitted, with a mistake in the guess pointed out and how far it is
// seen, and predicts.
func TestConsoleTwins(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(s.url + "/twins"))
	p.says("no volume is registered yet")
	if _, err := s.AddVolume(t.Context(), resource.NewVolume{Name: "pool", Locator: "array:" + written(t, "delivered.yaml", fmt.Sprintf(deliveredDisks, 4))}); err != nil {
		t.Fatal(err)
	}
	if out, trouble, err := s.cli("measure", "pool", "--plan", written(t, "know.yaml", knowDisks)); err != nil {
		t.Fatal(out, trouble)
	}
	set := func(selector, text string) {
		t.Helper()
		quoted, err := json.Marshal(text)
		if err != nil {
			t.Fatal(err)
		}
		p.until(fmt.Sprintf(`(() => { const e = document.querySelector(%q); if (!e) return false; Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, %s); e.dispatchEvent(new Event("input", {bubbles: true})); return true })()`, selector, quoted))
	}
	submit := func() { p.until(`(document.querySelector("form button[type=submit]").click(), true)`) }
	press := func(words string) {
		t.Helper()
		p.until(fmt.Sprintf(`[...document.querySelectorAll("button")].filter(b => b.textContent === %q).slice(0, 1).map(b => b.click()).length === 1`, words))
	}
	p.do(chromedp.Navigate(s.url + "/twins"))
	p.until(`document.querySelector("[name=guess]")?.value.includes("as delivered")`)
	set("[name=name]", "mine")
	set("[name=guess]", strings.Replace(soldDisks, "hard disk", "paper", 1))
	submit()
	p.says("line 2")
	set("[name=guess]", soldDisks)
	submit()
	p.until(`document.querySelector("progress") !== null || document.querySelector("[aria-label=Parameters]") !== null`)
	p.says("The error is")
	p.says("average seek")
	p.until(`document.querySelectorAll("canvas").length === 1`)
	p.says("Nothing yet.")
	press("Predict")
	set("[name=changes]", "members.count=1000")
	submit()
	p.says("members")
	set("[name=changes]", "members.count=6")
	submit()
	p.says("With members.count 6")
	p.says("since that became another")
	if shown, err := p.Text("main"); err != nil || strings.Contains(shown, "NaN") || strings.Contains(shown, "undefined") || strings.Contains(shown, "Infinity") {
		t.Errorf("%v: %s", err, shown)
	}
	p.until(`(window.confirm = () => true, true)`)
	press("Remove…")
	p.says("Nothing yet.")
	p.do(chromedp.EmulateViewport(390, 800))
	p.until(`document.documentElement.scrollWidth <= 391`)
	for path, words := range map[string]string{"/twins/9": "twin 9", "/twins/fits/9": "fit 9", "/decide": "Twins"} {
		p.do(chromedp.Navigate(s.url + path))
		p.says(words)
	}
}

// Of real disks, whose rates the kernel's own limits hold, one is measured alone; its twin predicts
// what five of them do as a stripe, which a real file system then makes of them. The stripe is
// set against them as well.
func TestATwinPredictsARealStripe(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	limits := grouped(t, s)
	var devices []string
	for range 5 {
		device := quietDevice(t, 256<<20)
		limits("read_bps", device, 6<<20)
		limits("read_iops", device, 400)
		devices = append(devices, device)
	}
	do := func(arguments ...string) string {
		t.Helper()
		out, trouble, err := s.cli(arguments...)
		if err != nil {
			t.Fatalf("%v: %v: %s%s", arguments, err, out, trouble)
		}
		return out
	}
	for i, device := range devices {
		if _, err := s.AddVolume(t.Context(), resource.NewVolume{Name: fmt.Sprintf("disk-%d", i+1), Locator: device}); err != nil {
			t.Fatal(err)
		}
	}
	loads := func(depth int) string {
		return written(t, "loads.yaml", fmt.Sprintf(`stages:
  - {name: small, load: {block: 4KiB, depth: %[1]d, span: 128MiB, warmUp: 0.3s, for: 1s, interval: 0.1s}, repeats: 2}
  - {name: larger, load: {block: 64KiB, depth: %[1]d, span: 128MiB, warmUp: 0.3s, for: 1s, interval: 0.1s}, repeats: 2}
`, depth))
	}
	do("measure", "disk-1", "--plan", loads(4))
	guess := written(t, "guess.yaml", "members: {count: 1, medium: low-latency nvme, capacity: 256MiB, units: 1, readTime: 1ms, interface: 20MB/s}\nlayout: {level: concatenation}\n")
	do("twin", "fit", "disk-1", "--guess", guess, "--free", "members[0].readTime,members[0].interface", "--name", "disk")
	stripe := t.TempDir()
	must(t, "mkfs.btrfs", append([]string{"-q", "-f", "-d", "raid0", "-m", "raid1"}, devices...)...)
	must(t, "btrfs", append([]string{"device", "scan"}, devices...)...)
	must(t, "mount", devices[0], stripe)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", stripe).Run() })
	if _, err := s.AddVolume(t.Context(), resource.NewVolume{Name: "stripe", Locator: stripe}); err != nil {
		t.Fatal(err)
	}
	do("twin", "predict", "disk", "--set", "members.count=5", "--set", "layout.level=raid0", "--on", "stripe", "--plan", loads(20))
	do("measure", "stripe", "--plan", loads(20))
	kept, err := s.Twin(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	for i, truth := range []float64{5 * 400 * 4096, 5 * 6 << 20} {
		c := kept.Predictions[0].Confronted[i]
		t.Log(c.Words)
		if c.Measured == nil || math.Abs(*c.Off) > 0.2 {
			t.Fatalf("%+v", c)
		}
		if off := c.Figure.Value/truth - 1; math.Abs(off) > 0.2 {
			t.Errorf("%s is predicted %+.1f %% off the limits", c.Name, off*100)
		}
	}
}
