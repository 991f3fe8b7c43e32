package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/e2e/browser"
	"rotanex.example/service/testdb"
)

// tab is a page of the console in a browser.
type tab struct {
	context.Context
	t       testing.TB
	address string
}

// shut ends the browser that all tests share, if one of them has opened it.
var shut = func() {}

var chromium = sync.OnceValues(func() (context.Context, error) {
	running, end, err := browser.Start(context.Background(), 1280, 800, time.Hour)
	if err == nil {
		shut = end
	}
	return running, err
})

// page opens a page in the browser, with a profile of its own.
func (h *house) page() tab {
	h.t.Helper()
	running, err := chromium()
	require.NoError(h.t, err)
	ctx, end, err := browser.Beside(running, 1280, 800, 3*testdb.Patience)
	require.NoError(h.t, err)
	h.t.Cleanup(end)
	return tab{ctx, h.t, h.address}
}

// open signs in to the console.
func (h *house) open(mode string) tab {
	h.t.Helper()
	b := h.page()
	b.do(browser.SignIn(h.address, h.token, mode))
	return b
}

func (b tab) goTo(path string) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.Context, chromedp.Navigate(b.address+path), browser.Settled()))
}

func (b tab) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.Context, steps...))
}

func read[T any](b tab, script string) T {
	b.t.Helper()
	v, err := chromedp.Run(b.Context, chromedp.Evaluate[T](script))
	require.NoError(b.t, err)
	return v
}

func (b tab) text() string { return read[string](b, "document.body.innerText") }

// shows waits until the page says something.
func (b tab) shows(what string) {
	b.t.Helper()
	testdb.Until(b.t, "the page to show "+what, func() bool { return strings.Contains(b.text(), what) })
}

// axe says what a checker of accessibility finds serious on the page, in the colours that it
// has and, where they can be changed, in the others.
func (b tab) axe() []string {
	b.t.Helper()
	script, err := os.ReadFile(filepath.Join("..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(b.t, err, "the console's packages are installed by make")
	read[any](b, string(script)+"; null")
	out := b.serious(`{}`)
	const others = `button[aria-label$=" colours"]`
	if read[bool](b, "document.querySelector('"+others+"') !== null") {
		b.do(chromedp.Click(others))
		out = append(out, b.serious(`{ runOnly: ["color-contrast"] }`)...)
	}
	return out
}

// serious has axe look at the page once nothing moves on it.
func (b tab) serious(options string) (out []string) {
	b.t.Helper()
	b.do(chromedp.Poll[chromedp.Void]("document.getAnimations().every((a) => a.playState !== 'running' || a.effect.getComputedTiming().iterations === Infinity)", browser.Calmly))
	found, err := chromedp.Run(b.Context, chromedp.Evaluate[string]("axe.run("+options+`).then((r) => JSON.stringify(r.violations
		.filter((v) => v.impact === "serious" || v.impact === "critical")
		.map((v) => v.id + ": " + v.nodes.map((n) => n.html.slice(0, 160) + " " + (n.any[0]?.message ?? "")).slice(0, 3).join(" | "))))`, chromedp.EvalAwaitPromise))
	require.NoError(b.t, err)
	require.NoError(b.t, json.Unmarshal([]byte(found), &out))
	return out
}

func TestTheConsoleShowsARunLive(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-6")
	b := h.open("dark")
	b.shows("Plans being carried out")
	b.goTo("/runs/" + run.Id.String())
	b.shows("0 of 6")
	for range 6 {
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				a.deliver(l)
			}
		}
	}
	b.shows("6 of 6")
	b.shows("complete")
	assert.Contains(t, b.text(), "€", "money has its currency")

	// The grid is one stop for the tab key, and arrows move about in it.
	b.do(chromedp.Focus(`[role=listbox]`), chromedp.KeyEvent(kb.Home), chromedp.KeyEvent(kb.ArrowRight))
	b.shows("coda-060, frame 2")
	assert.Equal(t, 1, read[int](b, `document.querySelectorAll('[role=option][aria-selected=true]').length`))
	testdb.Until(t, "the picture to be shown", func() bool {
		return read[int](b, `document.querySelector('section a img')?.naturalWidth ?? 0`) == 64
	})
	b.do(chromedp.Reload(), browser.Settled()) // a route can be reloaded
	b.shows("6 of 6")

	// How results are named is looked at as it is typed.
	b.shows("coda-060/coda-060.0001.png")
	b.do(chromedp.Focus(`input[aria-describedby]`), chromedp.KeyEvent(kb.End), chromedp.KeyEvent("{"))
	b.shows("a brace is not closed")
	b.do(chromedp.KeyEvent(kb.Backspace), chromedp.KeyEvent("x"))
	b.shows("coda-060/coda-060.0001.pngx")

	b.goTo("/runs/" + run.Id.String() + "/flipbook/coda-060")
	b.shows("all 6 frames")
	for _, step := range []struct{ key, frame string }{{kb.ArrowRight, "Frame 2"}, {kb.End, "Frame 6"}, {kb.ArrowRight, "Frame 1"}, {kb.ArrowLeft, "Frame 6"}, {kb.Home, "Frame 1"}} {
		b.do(chromedp.KeyEvent(step.key))
		b.shows(step.frame)
	}
	testdb.Until(t, "the picture to be shown", func() bool {
		return read[bool](b, `[...document.querySelectorAll('main canvas')].some((c) => c.width === 64 && c.height === 36)`)
	})
	b.do(chromedp.KeyEvent(" "))
	b.shows("Stop")
	b.shows("Frame 4")
	b.do(chromedp.KeyEvent(" "))
	b.shows("Play")
}

func TestTheConsoleDoesTheJob(t *testing.T) {
	h := newHouse(t, faster)
	h.putShot("coda-060", "1-6", nil)
	h.runAgent(bellows, scenes(t))
	b := h.open("light")
	b.goTo("/hosts")
	b.shows("bellows")
	assert.Contains(t, b.text(), "24 GB")
	b.do(chromedp.Click(`button[aria-label="Drain bellows"]`))
	b.shows("Take work again")
	b.do(chromedp.Click(`button[aria-label="Open bellows"]`))
	testdb.Until(t, "the host to be open", func() bool {
		return !must[api.Host](t)(h.admin().GetHost(t.Context(), "bellows")).Draining
	})

	b.goTo("/shots")
	b.shows("Time a test frame")
	testdb.Until(t, "the crew to be offered", func() bool {
		return read[bool](b, `[...(document.querySelector('select[aria-label="Crew"]')?.options ?? [])].some((o) => o.value === "bellows/g0")`)
	})
	read[any](b, `(() => { const s = document.querySelector('select[aria-label="Crew"]');
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "bellows/g0");
		s.dispatchEvent(new Event("change", { bubbles: true })); })()`)
	b.do(chromedp.Click(`//button[text()="Time a frame"]`))
	testdb.Until(t, "the trial to be over", func() bool {
		list := must[api.TrialList](t)(h.admin().ListTrials(t.Context(), &api.ListTrialsParams{}))
		return len(list.Items) == 1 && list.Items[0].State == api.RunStateComplete
	})
	b.shows("bellows/g0")
	b.do(chromedp.Focus(`input[aria-label="Plan coda-060"]`), chromedp.KeyEvent(" "))
	b.shows("Plan 1 shot")
	b.do(chromedp.SendKeys(`input[type=number]`, "2"), chromedp.Click(`//button[starts-with(., "Plan 1 shot")]`))
	b.shows("Who renders what, when")
	assert.Contains(t, b.text(), "no plan costs less than")
	b.do(chromedp.SendKeys(`select[aria-label="Plan anew"]`, "ask"), chromedp.Click(`//button[starts-with(., "Start the run")]`))
	b.shows("Every frame")
	assert.Equal(t, api.PolicyAsk, must[api.RunList](t)(h.admin().ListRuns(t.Context(), &api.ListRunsParams{})).Items[0].Policy, "the house's own is off")
	b.shows("6 of 6")
	b.shows("Ledger")
}

func TestTheConsoleIsForEverybody(t *testing.T) {
	h, _, one, _, run := playedHouse(t, "1-40")
	for _, l := range one.lease() {
		one.deliver(l)
	}
	for _, l := range one.lease() {
		one.failed(l, api.ResultCauseOutOfMemory)
	}
	b := h.open("dark")
	for _, path := range []string{"/hosts", "/shots", "/plans", "/plans/" + run.Plan.String(), "/runs", "/runs/" + run.Id.String(), "/runs/" + run.Id.String() + "/flipbook/coda-060", "/audit", "/storage", "/nowhere"} {
		b.goTo(path)
		assert.Empty(t, b.axe(), path)
	}
	b.goTo("/runs/" + run.Id.String() + "/flipbook/coda-060")
	b.shows("39 of 40 frames are not done")
	b.do(chromedp.KeyEvent(kb.End))
	b.shows("frame 40: waiting")
}

func TestTheConsoleShowsWhatWasMeasured(t *testing.T) {
	h, _, one, two, _ := playedHouse(t, "1-40")
	h.putShot("stair-030", "1-20", map[string]string{"samples": "64"})
	h.trialByHand(one, "stair-030", "bellows", "g0")
	h.trialByHand(one, "stair-030", "bellows", "g0+g1")
	h.trialByHand(two, "stair-030", "eddy", "g0")
	study := must[api.Study](t)(h.admin().CreateStudy(t.Context(), &api.CreateStudyParams{}, api.NewStudy{
		Shot: "stair-030", Host: "eddy", Crew: "g0", Variants: []variant{{Name: "own"}, {Settings: map[string]string{"samples": "16"}}},
	}))
	for range 4 {
		for _, l := range two.lease() {
			two.deliver(l)
		}
	}
	use := 0.9
	must[api.HeartbeatAnswer](t)(one.Heartbeat(t.Context(), api.Heartbeat{Boot: one.boot, Held: []api.Held{}, Samples: []api.DeviceSample{{Device: "g0", Use: use, Watts: 300}}}))
	b := h.open("light")
	for path, wants := range map[string][]string{
		"/shots/stair-030":           {"Heavy and light stretches", "bellows/g0+g1", "measured", "How to divide each host", "One more of each device"},
		"/shots/stair-030/memory":    {"On GPUs", "A crew's limit is its smallest device", "fits"},
		"/shots/stair-030/preflight": {"Blocked", "bellows", "Not known yet"},
		"/shots/stair-030/settings":  {"samples 16", "same", "Edge", "Zoom"},
		"/hosts/bellows":             {"Halyard 24", "90 %", "300 W", "Renderers"},
	} {
		b.goTo(path)
		for _, want := range wants {
			b.shows(want)
		}
		assert.Empty(t, b.axe(), path)
	}
	b.goTo("/shots/stair-030/settings")
	b.shows("Edge")
	b.do(chromedp.Focus(`[role=slider][aria-valuemax="16"]`), chromedp.KeyEvent(kb.ArrowRight))
	b.shows("×1.5")
	must[api.Study](t)(h.admin().GetStudy(t.Context(), study.Id))
	b.goTo("/shots/stair-030")
	b.shows("Sorted by")
	b.do(chromedp.Click(`button[role=tab][data-value=memory]`))
	b.shows("On the CPU alone")
	assert.Equal(t, "/shots/stair-030/memory", read[string](b, "location.pathname"))
}

// variant is one of a new study.
type variant = struct {
	Name     string            `json:"name,omitempty,omitzero"`
	Settings map[string]string `json:"settings,omitempty,omitzero"`
}

func TestTheConsoleSaysWhatIsWrong(t *testing.T) {
	h := newHouse(t)
	b := h.page()
	b.do(chromedp.Navigate(h.address+"/plans"), chromedp.WaitVisible("input[type=password]", browser.Patiently),
		chromedp.SendKeys("input[type=password]", "rtx_wrong"), chromedp.Click("button[type=submit]"))
	b.shows("the token is not known")
	assert.Empty(t, b.axe())
	b.do(chromedp.Reload(), chromedp.WaitVisible("input[type=password]", browser.Patiently), chromedp.SendKeys("input[type=password]", h.token), chromedp.Click("button[type=submit]"))
	b.shows("No plan yet") // and where one was going
	b.goTo("/runs")
	b.shows("No run yet")
	b.goTo("/runs/7f1f3f0e-0000-4000-8000-000000000000")
	b.shows("there is no run 7f1f3f0e")
}

func TestTheConsoleByKeyboardAndByRole(t *testing.T) {
	h, _, _, _, run := playedHouse(t, "1-6")
	secret := must[api.MadeToken](t)(h.admin().CreateToken(t.Context(), api.NewToken{Name: "night monitor", Role: "viewer"})).Secret
	h.token, secret = secret, h.token
	b := h.open("dark")
	b.goTo("/runs/" + run.Id.String())
	b.shows("Every frame")
	assert.NotContains(t, b.text(), "Pause", "a viewer is not offered what a viewer may not do")
	b.goTo("/shots")
	b.shows("coda-060")
	assert.NotContains(t, b.text(), "Time a test frame")

	// With the tab key alone: past the link to the contents, to the third place.
	b.do(chromedp.Evaluate[chromedp.Void]("document.activeElement.blur()"))
	for range 4 {
		b.do(chromedp.KeyEvent(kb.Tab))
	}
	assert.Equal(t, "Shots", read[string](b, "document.activeElement.innerText"))
	b.do(chromedp.KeyEvent(kb.Tab), chromedp.KeyEvent(kb.Enter))
	b.shows("No less than")
	assert.Equal(t, "Plans · Rotanex", read[string](b, "document.title"))

	b.do(chromedp.Click(`button[aria-label="Light colours"]`))
	assert.Equal(t, "light", read[string](b, "document.documentElement.className"))
	b.do(chromedp.Click(`button[aria-label^="Sign out"]`), chromedp.WaitVisible("input[type=password]", browser.Patiently))
	h.token = secret
}
