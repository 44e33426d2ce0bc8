package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/test/e2e/browser"
)

// page is a browser whose troubles end the test.
type page struct {
	*browser.Browser
	t    *testing.T
	base string
}

func open(t *testing.T, s *service) *page {
	t.Helper()
	b, err := browser.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return &page{Browser: b, t: t, base: s.url}
}

// signIn opens the link that signs in, and waits until that is done: who leaves the page
// before is not signed in.
func (p *page) signIn(s *service) {
	p.t.Helper()
	p.do(chromedp.Navigate(s.link))
	p.until(`document.querySelector("header nav") !== null`)
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := p.Do(steps...); err != nil {
		shown, _ := p.Text("body")
		p.t.Fatalf("%v; the page says:\n%s", err, shown)
	}
}

func (p *page) until(expression string) {
	p.t.Helper()
	if err := p.Until(expression); err != nil {
		shown, _ := p.Text("body")
		p.t.Fatalf("%s: %v; the page says:\n%s", expression, err, shown)
	}
}

// says waits until the page shows words.
func (p *page) says(words string) {
	p.t.Helper()
	p.until(fmt.Sprintf("document.body.innerText.includes(%q)", words))
}

func (p *page) typed(selector, text string) {
	p.t.Helper()
	if err := p.Type(selector, text); err != nil {
		p.t.Fatal(err)
	}
}

func (p *page) click(selector string) {
	p.t.Helper()
	p.do(chromedp.Click(chromedp.CSS(selector)))
}

// The whole way of a user: sign in, register, start, watch, stop, read.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	p := open(t, s)

	p.do(chromedp.Navigate(s.url + "/runs"))
	p.says("Token") // nobody is signed in
	p.typed("input[type=password]", "not the token")
	p.click("button[type=submit]")
	p.says("the token is wrong")
	p.do(chromedp.Navigate("about:blank"), chromedp.Navigate(s.link))
	p.says("Nothing was measured yet")
	if at, err := p.Evaluate("location.href"); err != nil || strings.Contains(at, s.token) {
		t.Errorf("the token stays in the address: %s (%v)", at, err)
	}

	p.do(chromedp.Navigate(s.url + "/measure"))
	p.says("There is no volume to measure yet")
	folder := t.TempDir()
	p.do(chromedp.Navigate(s.url+"/volumes"), chromedp.WaitVisible(chromedp.CSS("[name=locator]")))
	p.typed("[name=locator]", folder+"/nowhere")
	p.click("button[type=submit]")
	p.says("does not exist")
	p.typed("[name=locator]", folder)
	p.typed("[name=name]", "bench")
	p.click("button[type=submit]")
	p.until(`document.querySelector("tbody")?.textContent.includes("bench")`)

	p.do(chromedp.Navigate(s.url+"/measure"), chromedp.WaitVisible(chromedp.CSS("[name=depth]")))
	p.typed("[name=depth]", "0")
	p.typed("[name=span]", "32MiB")
	p.typed("[name=for]", "20s")
	p.typed("[name=warmUp]", "0s")
	p.click("button[type=submit]")
	p.says("each worker keeps from 1 to 4096")
	p.typed("[name=depth]", "4")
	p.click("button[type=submit]")
	p.says("running")
	p.until(`document.querySelectorAll("figure canvas").length >= 3`)
	p.until(`[...document.querySelectorAll("figure p")].some(e => /Throughput over [2-9]/.test(e.textContent))`)
	p.until(`[...document.querySelectorAll("button")].filter(e => e.textContent === "Stop").map(e => e.click()).length === 1`)
	p.says("stopped by the user")
	p.says("Latency distribution")

	detail, err := s.Run(t.Context(), 1)
	if err != nil || detail.Status != resource.Stopped {
		t.Fatalf("%s (%v)", detail.Status, err)
	}
	// The page shows the figures that the API gives.
	shown, err := p.Text("section table")
	if err != nil || !strings.Contains(shown, "reads") || !strings.Contains(shown, "writes") {
		t.Errorf("the table of figures says %q (%v)", shown, err)
	}
	if summary, err := p.Evaluate(`[...document.querySelectorAll("figure p")].map(e => e.textContent).join(" ")`); err != nil || !strings.Contains(summary, "Distribution of latencies") {
		t.Errorf("charts in words: %q (%v)", summary, err)
	}
	p.do(chromedp.Navigate(s.url + "/runs"))
	p.says("bench")
	p.do(chromedp.Navigate(s.url + "/no/such/page"))
	p.says("There is no such page")
}

// A run of several measurements: each can be chosen, and its own figures are
// shown.
func TestConsoleShowsEachMeasurement(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	volume := s.volume("null:1TiB", nil)
	s.measured(volume, plan.Plan{Name: "two blocks", Stages: []plan.Stage{{
		Name: "stage", Load: spec(func(w *workload.Spec) { w.For = 0.5 }), Sweep: []plan.Axis{{Field: "block", Values: []string{"4KiB", "64KiB"}}},
	}}})
	p := open(t, s)
	p.signIn(s)
	p.says("two blocks")
	p.do(chromedp.Navigate(s.url + "/runs/1"))
	p.until(`document.querySelector("section h2")?.textContent === "stage at block 64KiB"`)
	p.click("tbody tr:first-child button")
	p.until(`document.querySelector("section h2")?.textContent === "stage at block 4KiB"`)
	p.until(`document.querySelectorAll("section figure canvas").length >= 4`)
}

// Files and feeds are asked for on tabs of their own; mistakes stand beside their field,
// and the results are in their own terms.
func TestConsoleMeasuresFilesAndFeeds(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	folder := s.volume(t.TempDir(), nil)
	nothing := s.volume("null:1TiB", nil)
	p := open(t, s)
	p.signIn(s)
	tab := func(volume int64, name, field string) {
		t.Helper()
		p.do(chromedp.Navigate(fmt.Sprintf("%s/measure?volume=%d", s.url, volume)), chromedp.WaitVisible(chromedp.CSS("[role=tab]")))
		p.until(fmt.Sprintf(`[...document.querySelectorAll("[role=tab]")].filter(e => e.textContent === %q).map(e => e.click()).length === 1`, name))
		p.do(chromedp.WaitVisible(chromedp.CSS("[name=" + field + "]")))
	}
	tab(folder.ID, "Files", "files")
	p.typed("[name=files]", "plenty")
	p.click("button[type=submit]")
	p.says("is no number of files of a size")
	p.typed("[name=files]", "300 x 8KiB")
	p.click("button[type=submit]")
	p.says("whole files")
	p.says("files of 8 KiB, in")
	p.says("creates")
	p.says("Finished in")

	tab(nothing.ID, "Feeds", "feeds")
	p.typed("[name=feeds]", "3")
	p.typed("[name=for]", "1s")
	p.click("button[type=submit]")
	p.says("streams, the latest first")
	p.says("feed 3 (reads)")
	p.says("pieces met their deadline")
	detail, err := s.Run(t.Context(), 1)
	if err != nil || detail.Measurements[0].Summary.Groups[0].Operations != 300 {
		t.Errorf("%+v (%v)", detail.Measurements, err)
	}
}
