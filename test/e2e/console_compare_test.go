package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

// simulatedRuns measures two arrays that differ by a cache.
func simulatedRuns(t *testing.T, s *service) (plain, cached resource.RunDetail) {
	t.Helper()
	const text = "name: Plain\nmembers: {count: 4, medium: hard disk, capacity: 1TB}\nlayout: {level: raid5, chunk: 64KiB}\nlink: {rate: 125MB/s, mtu: [9000, 1500]}\n"
	folder := t.TempDir()
	p := plan.Plan{Stages: []plan.Stage{
		{Name: "lookups", Load: spec(func(w *workload.Spec) { w.Span, w.Depth, w.WarmUp = 64<<20, 8, 30 }), Repeats: 3, Sweep: []plan.Axis{{Field: "depth", Values: []string{"1..8"}}}},
		{Name: "moving in", Load: spec(func(w *workload.Spec) { w.Reads, w.Order, w.Amount, w.For = 0, workload.Sequential, 64<<20, 0 }), Repeats: 3},
	}}
	measure := func(name, text string) resource.RunDetail {
		path := filepath.Join(folder, name+".yaml")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		detail := s.measured(s.volume("array:"+path, nil), p)
		if detail.Status != resource.Finished {
			t.Fatal(detail.Reason)
		}
		return detail
	}
	return measure("plain", text), measure("cached", text+"caches:\n  - {name: memory, size: 2GiB, block: 16KiB, mode: read-only, hitTime: 30us}\n")
}

// From the question to the answer, as a user goes: choose, compare, look at a
// point, keep, find it again, forget it.
func TestConsoleCompares(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(s.url + "/compare"))
	p.says("Comparing needs two finished runs.")
	plain, cached := simulatedRuns(t, s)
	p.do(chromedp.Navigate(fmt.Sprintf("%s/compare?base=%d", s.url, plain.ID)))
	p.until(fmt.Sprintf(`document.querySelector("[name=base]")?.value === "%d"`, plain.ID))
	p.do(chromedp.Click(chromedp.CSS("fieldset input[type=checkbox]")))
	p.do(chromedp.Click(chromedp.CSS("form button[type=submit]")))
	p.says("Lookups at depth")
	p.says("cache 1 is new")
	p.says("Over all:")
	p.until(`document.querySelectorAll("canvas").length >= 5`) // gains, throughput, shares, ladder, heat maps
	if shown, err := p.Text("main"); err != nil || strings.Contains(shown, "NaN") || strings.Contains(shown, "undefined") || strings.Contains(shown, "Infinity") {
		t.Errorf("%v: %s", err, shown)
	}
	// A point with a fixed amount of work is a race.
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "moving in").map(b => b.click()).length === 1`)
	p.says("Race for the same work")
	p.until(`(() => { window.saved = 0; const made = URL.createObjectURL; URL.createObjectURL = b => { window.saved = b.size; return made(b) }; return true })()`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Report").map(b => b.click()).length === 1`)
	p.until(`window.saved > 10000`)
	p.until(`(window.prompt = () => "Is a cache worth it?", true)`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Keep…").map(b => b.click()).length === 1`)
	p.until(`location.pathname === "/compare/1"`)
	p.until(`fetch("/api/v1/comparisons/1/report", {headers: {"Heron-Proof": localStorage.getItem("heron-proof")}}).then(r => r.text()).then(t => t.includes("cache 1 is new") && t.includes("<svg"))`)
	p.do(chromedp.Navigate(s.url + "/compare"))
	p.says("Is a cache worth it?")
	p.until(`(window.confirm = () => true, true)`)
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Remove…").map(b => b.click()).length === 1`)
	p.until(`!document.body.innerText.includes("Is a cache worth it?")`)
	p.do(chromedp.Navigate(s.url + "/compare/view?base=1&with=99"))
	p.says("not found")
	// The run itself shows its repeats, its sweep with the knee, and its reach.
	p.do(chromedp.Navigate(fmt.Sprintf("%s/runs/%d", s.url, cached.ID)))
	p.says("Repeats together")
	p.says("lookups by depth")
	p.says("of what the hop “")
	p.says("Setup")
}

// Looking, telling a fact, and seeing what changed.
func TestConsoleLooks(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	plain, _ := simulatedRuns(t, s)
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(fmt.Sprintf("%s/look/%d", s.url, plain.VolumeID)))
	p.says("The MTU is 9000 at this end and 1500 at the other")
	p.says("(limit)")
	p.says("From the volume down to the media")
	p.until(`document.querySelectorAll("[name=fact] option").length > 30`)
	p.until(`(() => { const e = document.querySelector("[name=fact]"); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(e, "cost.price"); e.dispatchEvent(new Event("change", {bubbles: true})); return true })()`)
	p.typed("[name=value]", "4200")
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Tell").map(b => b.click()).length === 1`)
	p.says("price is 4200")
	p.typed("[name=value]", "dear")
	p.until(`[...document.querySelectorAll("button")].filter(b => b.textContent === "Tell").map(b => b.click()).length === 1`)
	p.says("is not a number")
	p.do(chromedp.Navigate(s.url + "/look/99"))
	p.says("not found")
	// On a phone the page can be read without scrolling sideways.
	p.do(chromedp.EmulateViewport(390, 800), chromedp.Navigate(fmt.Sprintf("%s/look/%d", s.url, plain.VolumeID)))
	p.says("From the volume down to the media")
	p.until(`document.documentElement.scrollWidth <= 391`)
}
