// Package browser drives the console in a headless Chromium, for the
// end-to-end tests and for the pictures of the documentation.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// Browser is a page of a headless Chromium.
type Browser struct {
	ctx  context.Context
	stop []func()
}

// Open starts Chromium with an empty profile in folder. It fails where
// Chromium is not installed.
func Open(ctx context.Context, folder string) (*Browser, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, fmt.Errorf("find Chromium: %w; 'make install-test-needs' installs it", err)
	}
	allocated, stopAllocator := chromedp.NewExecAllocator(ctx,
		chromedp.ExecPath(path), chromedp.NoSandbox,
		chromedp.Flag("headless", true), chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("no-first-run", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("user-data-dir", folder), chromedp.Flag("hide-scrollbars", true),
	)
	page, stopPage := chromedp.NewContext(allocated)
	b := &Browser{ctx: page, stop: []func(){stopPage, stopAllocator}}
	if err := chromedp.Do(b.ctx, chromedp.EmulateViewport(1280, 800)); err != nil { // which starts it, for as long as its context lasts
		b.Close()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	return b, nil
}

// Close ends the browser.
func (b *Browser) Close() {
	for _, stop := range b.stop {
		stop()
	}
}

// patience is how long a step may take: what is waited for may never come.
const patience = 90 * time.Second

// Do carries out steps on the page.
func (b *Browser) Do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeoutCause(b.ctx, patience, fmt.Errorf("the page did not come to it in %s", patience))
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return err
	}
	return nil
}

// Text gives the text of the first element a CSS selector finds.
func (b *Browser) Text(selector string) (string, error) {
	return chromedp.Run(b.ctx, chromedp.Text(chromedp.CSS(selector)))
}

// Type replaces what a field holds, as a person would.
func (b *Browser) Type(selector, text string) error {
	return b.Do(
		chromedp.Click(chromedp.CSS(selector)),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).select()", selector)),
		chromedp.SendKeys(chromedp.CSS(selector), text),
	)
}

// Until waits until a JavaScript expression is true on the page, also when
// the page changes to another one meanwhile.
func (b *Browser) Until(expression string) error {
	for deadline := time.Now().Add(30 * time.Second); ; {
		_, err := chromedp.Run(b.ctx, chromedp.Poll[bool](expression))
		changed := err != nil && (strings.Contains(err.Error(), "context with specified id") || strings.Contains(err.Error(), "navigated or closed"))
		if !changed || time.Now().After(deadline) {
			return err
		}
	}
}

// Evaluate runs a JavaScript expression that gives text.
func (b *Browser) Evaluate(expression string) (string, error) {
	return chromedp.Run(b.ctx, chromedp.Evaluate[string](expression))
}

// Scheme makes the page believe that the system prefers "dark" or "light".
func (b *Browser) Scheme(name string) error {
	return b.Do(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: name}},
		})
		return err
	}))
}

// Picture writes what the page shows at the given size as a PNG.
func (b *Browser) Picture(file string, width, height int64) error {
	if err := b.Do(chromedp.EmulateViewport(width, height)); err != nil {
		return err
	}
	// Charts draw on the frame after they were given their size.
	if err := b.Until(`new Promise(done => setTimeout(() => done(true), 400))`); err != nil {
		return err
	}
	image, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, image, 0o644)
}
