// Command screenshots takes pictures of the console's pages, for docs/screenshots
// and for looking at what was changed.
//
//	go run ./e2e/screenshots --address http://127.0.0.1:7070 --token TOKEN --to DIR run=/runs plan=/plans
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"rotanex.example/e2e/browser"
)

func main() {
	address := flag.String("address", "http://127.0.0.1:7070", "the service's address")
	token := flag.String("token", os.Getenv("ROTANEX_TOKEN"), "access token")
	to := flag.String("to", ".", "folder for the pictures")
	mode := flag.String("mode", "dark", "light or dark")
	width := flag.Int("width", 1280, "of the window")
	height := flag.Int("height", 800, "of the window")
	selector := flag.String("selector", "", "scroll to this element first")
	var clicks []string
	flag.Func("click", "click on this element first; as often as wanted, one after another", func(selector string) error {
		clicks = append(clicks, selector)
		return nil
	})
	signedOut := flag.Bool("signed-out", false, "the page for signing in")
	flag.Parse()
	s := session{*address, *token, *to, *mode, *selector, clicks, *width, *height, *signedOut}
	if err := s.take(flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

type session struct {
	address, token, to, mode, selector string

	clicks []string

	width, height int
	signedOut     bool
}

func (s session) take(pages []string) error {
	ctx, end, err := browser.Start(context.Background(), s.width, s.height, 2*time.Minute)
	if err != nil {
		return err
	}
	defer end()
	open := browser.SignIn(s.address, s.token, s.mode)
	if s.signedOut {
		open = browser.Mode(s.mode)
	}
	if err := chromedp.Do(ctx, open); err != nil {
		return err
	}
	for _, p := range pages {
		name, path, ok := strings.Cut(p, "=")
		if !ok {
			return fmt.Errorf("%q: want NAME=PATH", p)
		}
		steps := []chromedp.Action[chromedp.Void]{
			chromedp.Navigate(s.address + path), browser.Settled(), chromedp.Sleep(700 * time.Millisecond), browser.Settled(),
		}
		for _, click := range s.clicks {
			steps = append(steps, chromedp.Click(click), chromedp.Sleep(500*time.Millisecond))
		}
		if s.selector != "" {
			steps = append(steps, chromedp.ScrollIntoView(s.selector), chromedp.Sleep(300*time.Millisecond))
		}
		if err := chromedp.Do(ctx, steps...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if err := os.WriteFile(filepath.Join(s.to, name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}
