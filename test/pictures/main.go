// Command pictures makes the pictures of the documentation: it starts the
// demo from the built binary, signs in with Chromium and photographs each
// page.
//
//	go run ./test/pictures bin/heron docs/screenshots
package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"patientheron/test/e2e/browser"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: pictures HERON FOLDER")
		os.Exit(2)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 400*time.Second)
	defer cancel()
	err := take(ctx, os.Args[1], os.Args[2])
	for i, name := range []string{"terminal", "terminal-compare"} {
		if err == nil {
			err = terminal(ctx, os.Args[1], os.Args[2], name, fmt.Sprintf(":%d", 77+i))
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(1)
	}
}

// signInHint is what the demo prints where it is not on a terminal.
var signInHint = regexp.MustCompile(`Console: (http://\S+/sign-in) \(the token is in (\S+)\)`)

// startDemo starts the demo and waits until all of it is measured.
func startDemo(ctx context.Context, heron string) (link string, demo *exec.Cmd, err error) {
	if heron, err = filepath.Abs(heron); err != nil {
		return "", nil, err
	}
	demo = exec.CommandContext(ctx, heron, "demo", "--listen", "127.0.0.1:0")
	demo.Dir = "/var/tmp" // its path is seen in the pictures
	demo.Cancel = func() error { return demo.Process.Signal(syscall.SIGTERM) }
	demo.Stderr = io.Discard
	out, err := demo.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := demo.Start(); err != nil {
		return "", nil, err
	}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if found := signInHint.FindStringSubmatch(lines.Text()); found != nil {
			token, err := os.ReadFile(found[2])
			if err != nil {
				return "", nil, err
			}
			link = found[1] + "#token=" + strings.TrimSpace(string(token))
		}
		if strings.Contains(lines.Text(), "stays up") {
			go func() { _, _ = io.Copy(io.Discard, out) }()
			return link, demo, nil
		}
	}
	return "", nil, fmt.Errorf("the demo ended early: %w", demo.Wait())
}

func take(ctx context.Context, heron, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	link, demo, err := startDemo(ctx, heron)
	if err != nil {
		return err
	}
	defer func() {
		_ = demo.Process.Signal(syscall.SIGTERM)
		_ = demo.Wait()
	}()
	profile, err := os.MkdirTemp("", "heron-chromium-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	b, err := browser.Open(ctx, profile)
	if err != nil {
		return err
	}
	defer b.Close()
	base := strings.SplitN(link, "/sign-in", 2)[0]
	p := &photographer{Browser: b, base: base, folder: folder}
	p.do(chromedp.Navigate("about:blank"), chromedp.Navigate(link), chromedp.WaitVisible(chromedp.CSS("table")))
	p.picture("runs", 1280, 800)
	p.page("/arrays/2", "ol li")
	p.picture("array", 1280, 800)
	p.page("/look/14", "ol, main p")
	p.until(`document.body.innerText.includes("Limits of the hops")`)
	p.picture("look", 1280, 1000)
	p.page("/compare/1", "canvas")
	p.picture("compare", 1280, 960)
	p.scroll("Over each other")
	p.picture("compare-point", 1280, 1000)
	p.page("/runs/18", "canvas")
	p.until(`[...document.querySelectorAll("button")].filter(e => e.textContent === "copied down, repeat 1 of 3").map(e => e.click()).length === 1`)
	p.until(`document.body.innerText.includes("hydrophone pieces, in")`)
	p.scroll("copied down")
	p.picture("run-files", 1280, 1300)
	p.page("/runs/26", "canvas")
	p.until(`[...document.querySelectorAll("button")].filter(e => e.textContent === "entered, log flushed in groups, repeat 3 of 3").map(e => e.click()).length === 1`)
	p.until(`document.body.innerText.includes("Write amplification")`)
	p.scroll("entered, log flushed")
	p.picture("run-stores", 1280, 1000)
	p.page("/runs/21", "canvas")
	p.until(`document.querySelector("[aria-label='Who was ahead'] canvas") !== null`)
	p.picture("run-race", 1280, 1000)
	p.page("/runs/2", "canvas")
	p.picture("run-array", 1280, 1430)
	p.page("/runs/41", "pre")
	p.picture("run-tuned", 1280, 1240)
	p.until(`[...document.querySelectorAll("summary")].filter(e => e.textContent.includes("Negotiated session")).map(e => e.click()).length === 1`)
	p.until(`document.querySelectorAll("canvas").length >= 4`)
	p.scroll("backup to the mainland")
	p.picture("agreed", 1280, 960)
	p.page("/runs/39", "canvas")
	p.until(`document.body.innerText.includes("Sweeps")`)
	p.picture("run", 1280, 2500)

	p.page("/decide/1", "canvas")
	p.until(`[...document.querySelectorAll("tbody button")].slice(0, 1).map(b => b.click()).length === 1`)
	p.picture("decide", 1280, 1440)
	p.page("/buy?need=2", "[name=need] option[value='2']")
	p.until(`[...document.querySelectorAll("button")].filter(e => e.textContent === "Look for it").map(e => e.click()).length === 1`)
	p.until(`document.querySelector("[aria-label=Bill]") !== null && document.querySelector("canvas") !== null`)
	p.picture("buy", 1280, 1440)
	p.page("/twins/1", "canvas")
	p.picture("twin", 1280, 1240)

	p.page("/compare", "form")
	p.until(`fetch("/api/v1/comparisons/1/report", { headers: { "Heron-Proof": localStorage.getItem("heron-proof") } }).then(r => r.ok ? r.text() : Promise.reject(r.status)).then(t => { document.open(); document.write(t); document.close(); return true })`)
	p.picture("report", 1100, 1400)

	// A run that goes on while it is photographed.
	p.page("/measure?volume=13", "form")
	p.try(func() error { return p.Type("[name=span]", "128MiB") }, "span")
	p.do(chromedp.Click(chromedp.CSS("button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("canvas")))
	p.until(`document.querySelector("progress")?.value > 9`)
	p.picture("live", 1280, 800)
	return p.err
}

// photographer remembers the first error, so that the tour reads as a list.
type photographer struct {
	*browser.Browser
	base, folder string
	err          error
}

func (p *photographer) try(step func() error, what string) {
	if p.err == nil {
		if err := step(); err != nil {
			p.err = fmt.Errorf("%s: %w", what, err)
		}
	}
}

func (p *photographer) do(steps ...chromedp.Action[chromedp.Void]) {
	p.try(func() error { return p.Do(steps...) }, "steps")
}

func (p *photographer) page(path, wanted string) {
	p.try(func() error { return p.Do(chromedp.Navigate(p.base + path)) }, path)
	p.until(fmt.Sprintf("document.querySelector(%q) !== null", wanted))
}

func (p *photographer) until(expression string) {
	p.try(func() error { return p.Until(expression) }, expression)
}

// scroll brings the heading with these words to the top.
func (p *photographer) scroll(words string) {
	p.until(fmt.Sprintf(`[...document.querySelectorAll("h2, h3")].filter(e => e.textContent.includes(%q)).map(e => e.scrollIntoView()).length > 0`, words))
}

func (p *photographer) picture(name string, width, height int64) {
	p.try(func() error { return p.Picture(filepath.Join(p.folder, name+".png"), width, height) }, name)
}
