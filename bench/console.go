package bench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"rotanex.example/e2e/browser"
)

// looking is how long a page is looked at while frames change.
const looking = 30 * time.Second

// observe keeps the longest task of a page's scripts.
const observe = `window.longest = 0; new PerformanceObserver((l) => { for (const e of l.getEntries()) window.longest = Math.max(window.longest, e.duration); }).observe({ type: "longtask", buffered: true });`

// seen is how a page is, as its browser says.
type seen struct {
	Longest  float64 `json:"longest"`  // milliseconds, of one task
	Elements int     `json:"elements"` //
	Heap     float64 `json:"heap"`     // megabytes, of scripts
	Bytes    float64 `json:"bytes"`    // kilobytes, beside the program
	Requests int     `json:"requests"`

	Asked map[string]int `json:"asked"` // how often for what
}

const look = `JSON.stringify((() => {
	const all = performance.getEntriesByType("resource").filter((e) => e.initiatorType !== "script" && e.initiatorType !== "link" && !e.name.includes("/events"));
	const out = { longest: window.longest, elements: document.querySelectorAll("*").length, heap: performance.memory.usedJSHeapSize / 1e6,
		bytes: all.reduce((n, e) => n + e.transferSize, 0) / 1000, requests: all.length, asked: {} };
	for (const e of all) { const at = new URL(e.name).pathname.replace(/[0-9a-f]{8}-[0-9a-f-]+/, "ID").replace(/\/[0-9]+/g, "/N"); out.asked[at] = (out.asked[at] ?? 0) + 1; }
	window.longest = 0; performance.clearResourceTimings();
	return out;
})())`

const scroll = `new Promise((done) => {
	let frames = 0; const began = performance.now();
	const step = () => { frames++; scrollBy(0, 40); performance.now() - began < 2000 ? requestAnimationFrame(step) : done((1000 * frames) / (performance.now() - began)); };
	requestAnimationFrame(step);
})`

// consolePages are the pages that are opened, with the big run's in the place of BIG.
var consolePages = []string{"/runs", "/runs/BIG", "/plans", "/shots", "/shots/" + "coda-001", "/hosts", "/schedule", "/sources", "/storage"}

// console measures what pages take, on the state that lists are measured on.
func (h *house) console(ctx context.Context, big string) (lines []Line, err error) {
	tab, end, err := browser.Start(ctx, 1280, 800, 10*time.Minute)
	if err != nil {
		return nil, err
	}
	defer end()
	do := func(actions ...chromedp.Action[chromedp.Void]) error { return chromedp.Do(tab, actions...) }
	prepare := chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: observe})
		return err
	})
	if err := do(prepare, browser.SignIn(h.address, h.token, "dark")); err != nil {
		return nil, err
	}
	for _, path := range consolePages {
		at := h.address + path
		if path == "/runs/BIG" {
			at = h.address + "/runs/" + big
		}
		var took []float64
		var last seen
		for range h.Rounds {
			began := time.Now()
			if err := do(chromedp.Navigate(at), browser.Settled()); err != nil {
				return lines, fmt.Errorf("%s: %w", path, err)
			}
			took = append(took, time.Since(began).Seconds())
			if last, err = h.seen(tab); err != nil {
				return lines, err
			}
		}
		h.say("  %s: %.2f s, longest task %.0f ms, %.0f MB, %d elements, %.0f KB", path, median(took), last.Longest, last.Heap, last.Elements, last.Bytes)
		lines = append(lines, atMost("console "+path+" is there after", "s", 1, took), atMost("console "+path+", longest task while loading", "ms", 200, []float64{last.Longest}))
		if path == "/runs/BIG" {
			found, err := h.watched(ctx, tab, last)
			if lines = append(lines, found...); err != nil {
				return lines, err
			}
		}
	}
	return lines, nil
}

func (h *house) seen(tab context.Context) (s seen, err error) {
	text, err := chromedp.Run(tab, chromedp.Evaluate[string](look))
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal([]byte(text), &s)
}

// watched looks at the big run's page while about 50 frames a second are handed in.
func (h *house) watched(ctx context.Context, tab context.Context, loaded seen) ([]Line, error) {
	pace, err := chromedp.Run(tab, chromedp.Evaluate[float64](scroll, chromedp.EvalAwaitPromise))
	if err != nil {
		return nil, err
	}
	crowd, err := h.gather(ctx, 1, h.Agents, time.Duration(h.Agents)*time.Second/50)
	if err != nil {
		return nil, err
	}
	rest(ctx, 3*time.Second)
	if _, err := h.seen(tab); err != nil {
		return nil, err
	}
	before := crowd.frames.Load()
	rest(ctx, looking)
	then, err := h.seen(tab)
	h.say("  while %.0f frames a second changed: longest task %.0f ms, %d requests: %v", float64(crowd.frames.Load()-before)/looking.Seconds(), then.Longest, then.Requests, then.Asked)
	return []Line{
		atMost("the big run's page, longest task while 50 frames a second change", "ms", 50, []float64{then.Longest}),
		atMost("script memory of the big run's page", "MB", 60, []float64{then.Heap}),
		atMost("elements of the big run's page", "", 3000, []float64{float64(then.Elements)}),
		atLeast("scrolling it, frames/s", 55, []float64{pace}),
		atMost("requests in 30 s of looking at it", "", 0, []float64{float64(then.Requests)}),
		atMost("bytes for it beside the program", "KB", 300, []float64{loaded.Bytes}),
	}, errors.Join(err, crowd.end())
}
