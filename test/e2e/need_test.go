package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/core/judge"
	"patientheron/resource"
)

// needSheet writes a need sheet and gives its path.
func needSheet(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name+".yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// limited is the array file of a volume that the array allows so many operations a second,
// which is exact.
func limited(t *testing.T, name string, operations, price int) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name+".yaml")
	text := fmt.Sprintf("name: %s\nprice: %d\nmembers: {count: 4, medium: ssd, capacity: 100GB}\nlayout: {level: raid10}\nlimits: {operations: %d}\n", name, price, operations)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

const storeSheet = `name: What a shop needs
capacity: %s
survives: [any member]
budget: 5000
uses:
  - name: till
    load: {block: 4KiB, reads: 50%%, depth: 8, span: 1GiB, for: 1s}
    users: 10
    bounds: {iops: at least %d each}
`

// A volume that carries exactly 1,000 operations a second meets what is below that, and
// falls short of what is above; what is missing is measured with one command, and a script
// has its answer in the exit code.
func TestNeedsAgainstAKnownLimit(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	array := limited(t, "shop", 1000, 4000)
	below, above := needSheet(t, "below", fmt.Sprintf(storeSheet, "150GB", 95)), needSheet(t, "above", fmt.Sprintf(storeSheet, "150GB", 105))
	large := needSheet(t, "large", fmt.Sprintf(storeSheet, "300GB", 95))
	if out, trouble, err := s.cli("need", "check", below); err != nil || !strings.Contains(out, "IOPS at least 950 (95.0 for each of 10)") {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	volume := s.volume("array:"+array, nil)
	if _, trouble, err := s.cli("need", "judge", below, volume.Name); exitCode(err) != 1 || !strings.Contains(trouble, "nothing was measured") {
		t.Errorf("before anything was measured: %v %s", err, trouble)
	}
	if out, trouble, err := s.cli("need", "measure", below, volume.Name); err != nil || !strings.Contains(out, "till") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	if _, trouble, err := s.cli("need", "measure", below, volume.Name); err != nil || !strings.Contains(trouble, "Measured already: till") || !strings.Contains(trouble, "Nothing is left") {
		t.Errorf("measured twice: %v: %s", err, trouble)
	}
	for _, c := range []struct {
		sheet string
		code  int
		words string
	}{
		{below, 0, "it alone meets all requirements, at 4000"},
		{above, 3, "No setup meets all requirements"},
		{large, 3, `Without "room for`},
	} {
		out, trouble, err := s.cli("need", "judge", c.sheet, volume.Name, "--fail-if", "falls short")
		if exitCode(err) != c.code || !strings.Contains(strings.Join(strings.Fields(out), " "), c.words) {
			t.Errorf("%s ended with %d, want %d: %s%s", c.sheet, exitCode(err), c.code, out, trouble)
		}
		for line := range strings.Lines(out) {
			if len([]rune(line)) > 101 {
				t.Errorf("a line is longer than 100 characters: %s", line)
			}
		}
	}
	out, trouble, err := s.cli("need", "judge", below, "1", "--json")
	var v resource.Verdicts
	if err == nil {
		err = json.Unmarshal([]byte(out), &v)
	}
	if err != nil || len(v.Judged[0].Setups[0].Verdicts) != 4 {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	if of := v.Judged[0].Setups[0].Verdicts[0]; of.Outcome != judge.Meets || of.Value.Mean < 990 || of.Value.Mean > 1010 || len(of.Evidence) != 3 {
		t.Errorf("%+v", of)
	}
	if out, trouble, err := s.cli("need", "judge", below, "--csv"); err != nil || !strings.Contains(out, "meets") || strings.Count(out, "\n") != 5 {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	page := filepath.Join(t.TempDir(), "decision.html")
	if _, trouble, err := s.cli("need", "report", below, volume.Name, "--to", page); err != nil {
		t.Errorf("%v: %s", err, trouble)
	}
	if text, err := os.ReadFile(page); err != nil || !strings.Contains(string(text), "What a shop needs") {
		t.Errorf("%v: %.300s", err, text)
	}
	for _, c := range [][]string{
		{"What is kept", "add", below}, {"already taken", "add", below}, {"Kept as need 1", "add", below, "--replace"},
		{"What a shop needs", "list"}, {"iops: at least 95 each", "show", "What a shop needs"}, {"it alone meets", "judge", "What a shop needs"},
		{"no need is kept", "judge", "What nobody needs"}, {"is removed", "remove", "1"}, {"No need sheet is kept", "list"},
	} {
		out, trouble, _ := s.cli(append([]string{"need"}, c[1:]...)...)
		if want := c[0]; want != "What is kept" && !strings.Contains(out+trouble, want) {
			t.Errorf("%v does not say %q: %s%s", c[1:], want, out, trouble)
		}
	}
}

// Two uses that each meet their bound by themselves fall short when they are at work at once:
// the limit of 1,000 a second is shared.
func TestNeedsAtOnce(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	volume := s.volume("array:"+limited(t, "shop", 1000, 4000), nil)
	const uses = `uses:
  - {name: till, load: {block: 4KiB, depth: 8, span: 1GiB, for: 1s}, bounds: {iops: at least 700}}
  - {name: stock, load: {block: 4KiB, reads: 0%, depth: 8, span: 1GiB}, bounds: {iops: at least 700}}
`
	alone, together := needSheet(t, "alone", "name: one by one\n"+uses), needSheet(t, "together", "name: at once\ntogether: true\n"+uses)
	for _, c := range []struct {
		sheet string
		code  int
		words string
	}{{alone, 0, "meets all requirements"}, {together, 3, "All uses were measured at once"}} {
		if _, trouble, err := s.cli("need", "judge", c.sheet, volume.Name, "--fail-if", "falls short"); err == nil {
			t.Errorf("before it was measured: %s", trouble)
		}
		if out, trouble, err := s.cli("need", "measure", c.sheet, volume.Name); err != nil {
			t.Fatalf("%v: %s%s", err, out, trouble)
		}
		out, trouble, err := s.cli("need", "judge", c.sheet, volume.Name, "--fail-if", "falls short")
		if exitCode(err) != c.code || !strings.Contains(strings.Join(strings.Fields(out), " "), c.words) {
			t.Errorf("%s ended with %d, want %d: %s%s", c.sheet, exitCode(err), c.code, out, trouble)
		}
	}
	out, _, _ := s.cli("need", "judge", together, volume.Name)
	if strings.Count(out, "-29%") != 2 { // 500 of 700 each
		t.Errorf("half of the limit each: %s", out)
	}
}

// Uses that work on files are measured at once with others, in one folder and on a simulated
// array, and judged by their whole files; of the folder nothing is left.
func TestFilesInNeedsAtOnce(t *testing.T) {
	t.Parallel()
	s, folder := serve(t, t.TempDir(), false), t.TempDir()
	sheet := needSheet(t, "evening", `name: an evening
together: true
uses:
  - {name: scans, load: {files: 40 x 1MiB, task: put, depth: 4, cached: true, for: 1s}, bounds: {files: at least 0.5, file-p99: at most 60s}}
  - {name: notes, load: {files: 200 x 8KiB, task: "fetch:3,save:1", depth: 4, cached: true, for: 1s}, bounds: {files: at least 0.5}}
  - {name: till, load: {block: 4KiB, rate: 50, span: 8MiB, cached: true, for: 1s}, bounds: {iops: at least 40}}
`)
	for _, volume := range []resource.Volume{s.volume(folder, nil), s.volume("array:"+limited(t, "shop", 1000, 4000), nil)} {
		if out, trouble, err := s.cli("need", "measure", sheet, volume.Name); err != nil {
			t.Fatalf("%v: %s%s", err, out, trouble)
		}
		out, trouble, err := s.cli("need", "judge", sheet, volume.Name, "--json")
		var answer resource.Verdicts
		if err := errors.Join(err, json.Unmarshal([]byte(out), &answer)); err != nil {
			t.Fatalf("%v: %s%s", err, out, trouble)
		}
		for i, v := range answer.Judged[0].Setups[0].Verdicts {
			if v.Value == nil || !(v.Value.Mean > 0) {
				t.Errorf("%s, demand %d: %+v", volume.Name, i, v)
			}
		}
	}
	if left, err := os.ReadDir(folder); err != nil || len(left) > 0 {
		t.Errorf("%d entries are left: %v", len(left), err)
	}
}

// A mirror stripe whose member is missing still meets its need, and how long a rebuild lasts
// is what its rate says; a stripe without redundancy is not measured so, nor is a folder.
func TestNeedsWhileDegraded(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	volume := s.volume("array:"+limited(t, "shop", 1000, 4000), nil)
	sheet := needSheet(t, "sheet", "name: a till\nuses:\n  - {name: till, load: {block: 4KiB, depth: 8, span: 1GiB, for: 1s}, bounds: {iops: at least 700}}\n")
	for _, more := range [][]string{nil, {"--degraded", "--rebuild", "10MB/s"}} {
		if out, trouble, err := s.cli(append([]string{"need", "measure", sheet, volume.Name}, more...)...); err != nil {
			t.Fatalf("%v: %s%s", err, out, trouble)
		}
	}
	out, trouble, err := s.cli("need", "judge", sheet, volume.Name)
	words := strings.Join(strings.Fields(out), " ")
	// 100 GB at 10 MB/s, in whole MiB during a second
	for _, want := range []string{"degraded: meets all requirements; tightest is", "rebuilding: meets all", "; a member takes 2 h"} {
		if err != nil || !strings.Contains(words, want) {
			t.Errorf("%q is not in it: %v %s%s", want, err, out, trouble)
		}
	}
	if _, trouble, err := s.cli("need", "measure", sheet, s.volume(t.TempDir(), nil).Name, "--degraded"); err == nil || !strings.Contains(trouble, "is real storage") {
		t.Errorf("a folder: %v %s", err, trouble)
	}
	path := filepath.Join(t.TempDir(), "stripe.yaml")
	if err := os.WriteFile(path, []byte("name: stripe\nmembers: {count: 4, medium: ssd, capacity: 100GB}\nlayout: {level: raid0}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, trouble, err := s.cli("need", "measure", sheet, s.volume("array:"+path, nil).Name, "--degraded"); err == nil || !strings.Contains(trouble, "does not survive it") {
		t.Errorf("a stripe: %v %s", err, trouble)
	}
}

// What to buy is found from parts with prices, without a service; the designs are array
// files that can be measured.
func TestChoosing(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	const parts = `name: A few parts
levels: [raid10, raid5]
drives:
  - {name: disk, price: 100, counts: [4, 6, 8], members: {medium: hard disk, capacity: 1TB}}
  - {name: flash, price: 300, counts: [4], members: {medium: ssd, capacity: 1TB}}
`
	sheet, list := needSheet(t, "sheet", fmt.Sprintf(storeSheet, "1TB", 200)), needSheet(t, "parts", parts)
	folder := filepath.Join(t.TempDir(), "designs")
	page := filepath.Join(t.TempDir(), "buy.html")
	out, trouble, err := s.cli("choose", sheet, "--parts", list, "--designs", folder, "--html", page)
	if err != nil || !strings.Contains(out, `Choose "4 × flash, raid5"`) && !strings.Contains(out, `Choose "4 × flash, raid10"`) || !strings.Contains(strings.Join(strings.Fields(out), " "), "together 1200") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	if text, err := os.ReadFile(page); err != nil || !strings.Contains(string(text), "All figures are simulated") {
		t.Errorf("%v: %s", err, text)
	}
	if again, _, err := s.cli("choose", sheet, "--parts", list); err != nil || again != out {
		t.Errorf("another answer: %v %s", err, again)
	}
	if out, trouble, err := s.cli("array", "check", filepath.Join(folder, "design-1.yaml")); err != nil {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	if out, trouble, err := s.cli("choose", sheet, "--parts", list, "--json"); err != nil || !json.Valid([]byte(out)) {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	for words, arguments := range map[string][]string{
		"designs is there already":  {"choose", sheet, "--parts", list, "--designs", folder},
		"buy.html is there already": {"choose", sheet, "--parts", list, "--html", page},
		"--parts FILE":              {"choose", sheet},
		"has no price":              {"choose", sheet, "--parts", needSheet(t, "free", strings.Replace(parts, "price: 100, ", "", 1))},
		"line 2":                    {"choose", list, "--parts", list},
	} {
		if out, trouble, err := s.cli(arguments...); err == nil || !strings.Contains(trouble, words) {
			t.Errorf("%v does not say %q: %v %s%s", arguments, words, err, out, trouble)
		}
	}
}

// A sheet is written, its mistake pointed out, judged, opened into what it rests on, and
// changed.
func TestConsoleDecides(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	for _, c := range []struct {
		name              string
		operations, price int
	}{{"cheap", 800, 2000}, {"right", 1200, 4000}, {"dear", 5000, 9000}} {
		volume, err := s.AddVolume(t.Context(), resource.NewVolume{Name: c.name, Locator: "array:" + limited(t, c.name, c.operations, c.price)})
		if err != nil {
			t.Fatal(err)
		}
		if _, trouble, err := s.cli("need", "measure", needSheet(t, c.name, fmt.Sprintf(storeSheet, "150GB", 95)), volume.Name); err != nil {
			t.Fatal(trouble)
		}
	}
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(s.url + "/decide"))
	p.says("There is none yet")
	write := func(text string) {
		t.Helper()
		quoted, err := json.Marshal(text)
		if err != nil {
			t.Fatal(err)
		}
		p.until(fmt.Sprintf(`(() => { const e = document.querySelector("textarea"); if (!e) return false; Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(e, %s); e.dispatchEvent(new Event("input", {bubbles: true})); return true })()`, quoted))
		p.until(`(document.querySelector("form button[type=submit]").click(), true)`)
	}
	sheet := fmt.Sprintf(storeSheet, "150GB", 95)
	write(strings.Replace(sheet, "at least 95", "about 95", 1))
	p.says("line 9, column 20")
	write(sheet)
	p.says("it alone meets all requirements, at 4000")
	p.says("more than the price grows")
	p.until(`document.querySelectorAll("canvas").length === 1`)
	p.until(`[...document.querySelectorAll("tbody tr:first-child button")].slice(0, 1).map(b => b.click()).length === 1`)
	p.says("It rests on 3 measurements of run 2")
	if shown, err := p.Text("main"); err != nil || strings.Contains(shown, "NaN") || strings.Contains(shown, "undefined") || strings.Contains(shown, "Infinity") {
		t.Errorf("%v: %s", err, shown)
	}
	p.until(`(() => { window.saved = 0; const made = URL.createObjectURL; URL.createObjectURL = b => { window.saved = b.size; return made(b) }; return true })()`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Report").map(b => b.click()).length === 1`)
	p.until(`window.saved > 4000`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Sheet").map(b => b.click()).length === 1`)
	write(strings.Replace(sheet, "budget: 5000", "budget: 3000", 1))
	p.says("No setup meets all requirements")
	p.says(`Without "costs at most 3000", right, dear would do.`)
	p.do(chromedp.Navigate(s.url + "/decide"))
	p.says("What a shop needs")
	p.until(`(window.confirm = () => true, true)`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Remove…").map(b => b.click()).length === 1`)
	p.says("There is none yet")
	p.do(chromedp.Navigate(s.url + "/decide/9"))
	p.says("need 9")
	p.do(chromedp.EmulateViewport(390, 800), chromedp.Navigate(s.url+"/decide"))
	p.says("There is none yet")
	p.until(`document.documentElement.scrollWidth <= 391`)
}

// What to buy is looked for in the console: a mistake is pointed out, how far it is is seen,
// a long search is stopped, and the answer has its bill.
func TestConsoleBuys(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	const parts = `name: A few parts
levels: [raid10]
drives:
  - {name: disk, price: 100, counts: [4, 6], members: {medium: hard disk, capacity: 1TB}}
  - {name: flash, price: 300, counts: [4], members: {medium: ssd, capacity: 1TB}}
`
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(s.url + "/buy"))
	p.says("A search needs a need sheet")
	for _, name := range []string{"quick", "slow"} {
		sheet := strings.Replace(fmt.Sprintf(storeSheet, "1TB", 200), "What a shop needs", name, 1)
		if name == "slow" {
			sheet = strings.Replace(sheet, "for: 1s", "for: 1h", 1)
		}
		if _, trouble, err := s.cli("need", "add", needSheet(t, name, sheet)); err != nil {
			t.Fatal(trouble)
		}
	}
	begin := func(need int, text string) {
		t.Helper()
		quoted, err := json.Marshal(text)
		if err != nil {
			t.Fatal(err)
		}
		p.do(chromedp.Navigate(fmt.Sprintf("%s/buy?need=%d", s.url, need)))
		p.until(fmt.Sprintf(`(() => { const e = document.querySelector("textarea"); if (!e || document.querySelector("[name=need]").value !== "%d") return false; Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(e, %s); e.dispatchEvent(new Event("input", {bubbles: true})); return true })()`, need, quoted))
		p.until(`(document.querySelector("form button[type=submit]").click(), true)`)
	}
	begin(1, strings.Replace(parts, "price: 100, ", "", 1))
	p.says("the parts: line 4")
	begin(2, parts)
	p.until(`document.querySelector("progress") !== null`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Stop").map(b => b.click()).length === 1`)
	p.says("It was stopped")
	begin(1, parts)
	p.says(`Choose "4 × flash, raid10"`)
	p.says("All figures are simulated")
	p.says("together")
	p.until(`document.querySelectorAll("pre").length > 0`)
	p.until(`[...document.querySelectorAll("tbody tr:first-child button")].slice(0, 1).map(b => b.click()).length === 1`)
	p.says("3 simulated measurements")
	if shown, err := p.Text("main"); err != nil || strings.Contains(shown, "NaN") || strings.Contains(shown, "undefined") || strings.Contains(shown, "Infinity") {
		t.Errorf("%v: %s", err, shown)
	}
	p.do(chromedp.Navigate(s.url + "/buy/9"))
	p.says("search 9")
	p.do(chromedp.Navigate(s.url + "/buy"))
	p.says("Searches so far")
	p.until(`(window.confirm = () => true, true)`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Remove…").map(b => b.click()).length === 2`)
	p.until(`!document.body.innerText.includes("Searches so far")`)
}
