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
	whole := flag.Bool("whole", false, "the whole page, not only the window")
	flag.Parse()
	if err := take(*address, *token, *to, *mode, *width, *height, *whole, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

func take(address, token, to, mode string, width, height int, whole bool, pages []string) error {
	ctx, end, err := browser.Start(context.Background(), width, height, 2*time.Minute)
	if err != nil {
		return err
	}
	defer end()
	if err := chromedp.Do(ctx, browser.SignIn(address, token, mode)); err != nil {
		return err
	}
	for _, p := range pages {
		name, path, ok := strings.Cut(p, "=")
		if !ok {
			return fmt.Errorf("%q: want NAME=PATH", p)
		}
		shot := chromedp.CaptureScreenshot()
		if whole {
			shot = chromedp.FullScreenshot(100)
		}
		err := chromedp.Do(ctx, chromedp.Navigate(address+path), browser.Settled(), chromedp.Sleep(700*time.Millisecond), browser.Settled())
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		picture, err := chromedp.Run(ctx, shot)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if err := os.WriteFile(filepath.Join(to, name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}
