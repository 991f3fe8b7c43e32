// Package browser drives the console in a headless Chromium, for tests and for
// the pictures in docs/screenshots.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// Start starts a browser with a new, empty profile and a window of the given
// size. The returned function ends it and removes the profile. Every wait in it
// is bounded by patience.
func Start(ctx context.Context, width, height int, patience time.Duration) (context.Context, func(), error) {
	program, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, errors.New("chromium is not installed: apt-get install chromium")
	}
	bounded, stop := context.WithTimeout(ctx, patience)
	tab, shut := chromedp.NewContext(bounded, chromedp.WithAllocatorOptions(
		chromedp.ExecPath(program), chromedp.WindowSize(width, height), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("force-prefers-reduced-motion", true), chromedp.Flag("no-first-run", true), chromedp.Flag("hide-scrollbars", true),
	))
	end := func() {
		_ = chromedp.Cancel(tab)
		shut()
		stop()
	}
	return sized(tab, end, width, height)
}

// Beside opens a page in a browser that runs, with a profile of its own, as Start does.
func Beside(running context.Context, width, height int, patience time.Duration) (context.Context, func(), error) {
	tab, shut := chromedp.NewContext(running, chromedp.WithNewBrowserContext())
	bounded, stop := context.WithTimeout(tab, patience)
	return sized(bounded, func() { stop(); shut() }, width, height)
}

func sized(tab context.Context, end func(), width, height int) (context.Context, func(), error) {
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		end()
		return nil, nil, fmt.Errorf("starting chromium: %w", err)
	}
	return tab, end, nil
}

// interval is how often a page is looked at by what waits for it: less often than is usual, as
// each look costs the browser more than what it waits for.
const interval = 50 * time.Millisecond

// Ways to wait for a page: for an element, and for a condition.
var (
	Patiently = chromedp.RetryInterval(interval)
	Calmly    = chromedp.WithPollingInterval(interval)
)

// Mode makes the console light or dark from the next page on.
func Mode(mode string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		script := fmt.Sprintf("localStorage.setItem('rotanex-mode', %q)", mode)
		_, err := cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return err
	})
}

// SignIn opens the console at address and signs in with a token, in light or dark
// colours.
func SignIn(address, token, mode string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(
		Mode(mode),
		chromedp.Navigate(address),
		chromedp.WaitVisible("input[type=password]", Patiently),
		chromedp.SendKeys("input[type=password]", token),
		chromedp.Click("button[type=submit]"),
		chromedp.WaitVisible("nav", Patiently),
	)
}

// Settled waits until the page shows its title and nothing is loading any more.
func Settled() chromedp.Action[chromedp.Void] {
	return chromedp.Steps(
		chromedp.WaitVisible("main h1", Patiently),
		chromedp.WaitNotPresent("[aria-label=Loading]", Patiently),
		chromedp.Poll[chromedp.Void]("Array.from(document.images).every((i) => i.complete)", Calmly),
	)
}
