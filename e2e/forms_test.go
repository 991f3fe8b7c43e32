package e2e

import (
	"os"
	"path/filepath"
	"slices"
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

// types replaces what a field has.
func (b tab) types(field, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(field, browser.Patiently), chromedp.Focus(field),
		chromedp.Evaluate[chromedp.Void](`document.activeElement.select()`), chromedp.KeyEvent(text), chromedp.KeyEvent(kb.Tab))
}

func (b tab) clicks(text string) {
	b.t.Helper()
	b.do(chromedp.Click(`//*[self::button or self::a][normalize-space(.)="`+text+`"]`, browser.Patiently))
}

// opens unfolds what is folded below a line, by the keyboard.
func (b tab) opens(line string) {
	b.t.Helper()
	b.do(chromedp.Focus(`//summary[normalize-space(.)="`+line+`"]`, browser.Patiently), chromedp.KeyEvent(kb.Enter))
}

func TestTheConsoleMakesHostsAndShots(t *testing.T) {
	h := newHouse(t)
	b := h.open("light")
	b.goTo("/hosts")
	b.shows("No machine yet")
	b.clicks("New host")
	b.shows("Price a kWh")
	assert.Empty(t, b.axe())
	b.types("#root_name", "Bellows")
	b.shows("has to be at most 63 small letters")
	b.types("#root_memory_gb", "0")
	b.shows("has to be more than 0")

	// What was typed is there still after the page was closed.
	b.do(chromedp.Reload(), browser.Settled())
	b.shows("was kept here")
	assert.Equal(t, "Bellows", read[string](b, `document.querySelector("#root_name").value`))
	b.types("#root_name", "bellows")
	b.types("#root_cpu_model", "Keel 16")
	b.clicks("Make the host")
	b.shows("4 things are still to be put right")
	b.types("#root_source", "loft")
	b.types("#root_power_price_kwh", "0.31")
	b.types("#root_cpu_cores", "16")
	b.types("#root_memory_gb", "64.5")
	b.clicks("Make the host")
	b.shows("Another like it")
	made := must[api.Host](t)(h.admin().GetHost(t.Context(), "bellows"))
	assert.Equal(t, float32(64.5), float32(made.Spec.MemoryGb))
	assert.Equal(t, "0.31", made.Spec.Power.PriceKwh)

	b.clicks("Change")
	b.shows("Change bellows")
	b.shows("Price a kWh")
	assert.True(t, read[bool](b, `document.querySelector("#root_name").disabled`), "another name would be another host")
	assert.NotContains(t, b.text(), "was kept here", "it was saved")
	b.types("#root_note", "by the window")
	b.clicks("Save bellows")
	b.shows("by the window")
	b.clicks("Another like it")
	b.types("#root_name", "eddy")
	b.clicks("Make the host")
	testdb.Until(t, "the other host", func() bool {
		list := must[api.HostList](t)(h.admin().ListHosts(t.Context(), &api.ListHostsParams{}))
		return len(list.Items) == 2 && list.Items[1].Spec.Note == "by the window"
	})
	b.goTo("/hosts/eddy/edit")
	b.clicks("Delete")
	b.clicks("Yes, delete it")
	testdb.Until(t, "it to be gone", func() bool {
		return len(must[api.HostList](t)(h.admin().ListHosts(t.Context(), &api.ListHostsParams{})).Items) == 1
	})

	b.goTo("/shots/new")
	b.types("#root_name", "coda-060")
	b.types("#root_scene", "coda.yaml")
	b.types("#root_frames", "1-6x")
	b.types("#root_launcher", "simulated")
	b.clicks("Make the shot")
	b.shows("1-6x") // what only the service knows is said at its field
	assert.Contains(t, b.text(), "frames")
	b.types("#root_frames", "1-6")
	b.clicks("Make the shot")
	b.shows("6 frames, 1920 × 1080 px")
	assert.Equal(t, 6, must[api.Shot](t)(h.admin().GetShot(t.Context(), "coda-060")).FrameCount)
}

func TestTheConsoleMakesSourcesAndTokens(t *testing.T) {
	h := newHouse(t)
	b := h.open("dark")
	b.goTo("/sources/new")
	b.types("#root_spec_name", "tern")
	b.do(chromedp.SendKeys("#root_spec_kind", "rented"))
	b.types("#root_spec_card_currency", "EUR")
	b.types("#root_spec_address", "ftp://tern.example")
	b.types("#root_secret", "hush")
	b.clicks("Make the source")
	b.shows("ftp://tern.example")
	assert.NotContains(t, read[string](b, "JSON.stringify(localStorage)"), "hush")
	b.types("#root_spec_address", "https://tern.example")
	b.clicks("Make the source")
	b.shows("No renderer needs a seat") // the page Sources
	b.clicks("New offer")
	for field, text := range map[string]string{"name": "tern-solo", "source": "tern", "price_h": "1.20", "memory_gb": "64", "max_servers": "3", "fee": "0", "increment_s": "60", "boot_s": "300", "cpu_model": "Keel 16", "cpu_cores": "16"} {
		b.types("#root_"+field, text)
	}
	assert.Empty(t, b.axe())
	b.clicks("Make the offer")
	b.shows("1.20 EUR")
	b.goTo("/licences/new")
	b.types("#root_pool", "fathom")
	b.do(chromedp.SendKeys("#root_kind", "floating"))
	b.types("#root_seats", "4")
	b.clicks("Make the licence pool")
	b.shows("floating")
	sources := must[struct{ Items []api.Source }](t)(h.admin().ListSources(t.Context()))
	assert.True(t, sources.Items[0].HasSecret)

	b.goTo("/access")
	b.types("#root_name", "night monitor")
	b.clicks("Make the token")
	b.shows("The token of night monitor")
	assert.Empty(t, b.axe())
	testdb.Until(t, "the token to be listed", func() bool {
		return read[bool](b, `document.querySelector('[aria-label="Revoke night monitor"]') !== null`)
	})
	b.do(chromedp.Click(`[aria-label="Revoke night monitor"]`))
	b.clicks("Yes, revoke it")
	testdb.Until(t, "the token to be worthless", func() bool {
		return len(must[api.TokenList](t)(h.admin().ListTokens(t.Context(), &api.ListTokensParams{})).Items) == 1
	})
}

func TestTheConsoleLeadsToTheFirstFrame(t *testing.T) {
	h := newHouse(t, faster)
	h.putShot("coda-060", "1-6", nil)
	b := h.open("light")
	b.goTo("/runs")
	b.shows("No run yet")
	b.clicks("First shot, in five steps")
	b.shows("Describe a machine")
	h.runAgent(bellows, scenes(t))
	b.shows("1 machine with an agent that is up: bellows")
	b.do(chromedp.SendKeys(`select[aria-label="One that is there"]`, "coda-060"))
	b.shows("Sweep: time the crews that tell most")
	assert.Empty(t, b.axe())
	b.clicks("Sweep: time the crews that tell most")
	b.shows("the fastest is bellows/")
	b.shows("Chance to be in time")
	b.types("#root_confidence", "0.5")
	b.clicks("Plan it")
	b.shows("All of it")
	b.do(chromedp.Click(`//button[starts-with(., "Start the run")]`, browser.Patiently))
	b.shows("6 of 6")
}

func TestTheConsolePlansWithAllThatMayBeSaid(t *testing.T) {
	h, _, _, _, _ := playedHouse(t, "1-6")
	spec := must[api.Shot](t)(h.admin().GetShot(t.Context(), "coda-060")).Spec
	spec.Deadline = time.Date(2031, 3, 8, 9, 0, 0, 0, time.UTC)
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "coda-060", &api.PutShotParams{}, spec))
	b := h.open("dark")
	b.goTo("/plans/new?shots=coda-060")
	b.shows("Budget")
	assert.Empty(t, b.axe())
	b.types("#root_budget", "9.50")
	b.types("#root_confidence", "2")
	b.shows("has to be at most 0.995")
	b.types("#root_confidence", "0.8")
	b.do(chromedp.Click("summary"), chromedp.SendKeys("#root_goal", "fastest"))
	b.clicks("Plan")
	b.shows("Who renders what, when")
	plans := must[api.PlanList](t)(h.admin().ListPlans(t.Context(), &api.ListPlansParams{})).Items
	assert.True(t, slices.ContainsFunc(plans, func(p api.Plan) bool { return p.Goal == "fastest" }))
}

func TestTheConsoleTakesInFilesAndTimes(t *testing.T) {
	h, _, _, _, run := playedHouse(t, "1-6")
	h.putShot("stair-030", "1-4", nil)
	b := h.open("light")
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "other.yaml"), []byte("frames: {}\n"), 0o600))
	b.goTo("/shots/coda-060/package")
	b.shows("1 file, 11 B")
	assert.Empty(t, b.axe())
	b.do(chromedp.SetUploadFiles("input[type=file]", []string{folder}))
	b.shows("coda-060 needs coda.yaml")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "coda.yaml"), []byte("frames: {}\n# heavier\n"), 0o600))
	b.do(chromedp.SetUploadFiles("input[type=file]", []string{folder}))
	b.shows("2 files, 32 B")
	assert.Equal(t, int64(32), must[api.Package](t)(h.admin().GetPackage(t.Context(), "coda-060")).Size)

	b.goTo("/shots")
	b.opens("Take in times that were measured elsewhere")
	b.types(`textarea[aria-label^="times"]`, "shot,crew,seconds,models\nstair-030,g0,x,Halyard 24")
	b.clicks("Take them in")
	b.shows("line 2")
	b.types(`textarea[aria-label^="times"]`, "shot,crew,seconds,models\nstair-030,g0,41.5,Halyard 24")
	b.clicks("Take them in")
	b.shows("1 time taken in")

	b.do(chromedp.Focus(`input[aria-label="Plan coda-060"]`), chromedp.KeyEvent(" "))
	b.clicks("Render 1 shot when idle")
	b.shows("In the backlog: coda-060")
	runs := must[api.RunList](t)(h.admin().ListRuns(t.Context(), &api.ListRunsParams{Priority: new(api.Backlog)}))
	require.Len(t, runs.Items, 1)
	assert.NotEqual(t, run.Id, runs.Items[0].Id)

	b.goTo("/sources")
	b.opens("Take in exchange rates")
	b.types(`textarea[aria-label^="exchange"]`, "date,from,to,rate\n2031-03-07,GBP,EUR,1.16")
	b.clicks("Take them in")
	b.shows("1.16 EUR")
}

func TestTheConsolesTablesAreSearchedSortedAndTaken(t *testing.T) {
	h := newHouse(t)
	for _, name := range []string{"coda-060", "lamp-040", "orrery-010", "orrery-020", "stair-030", "stair-100", "storm-050", "tide-070"} {
		h.putShot(name, "1-"+name[len(name)-3:], nil)
	}
	b := h.open("light")
	b.goTo("/shots")
	b.shows("tide-070")
	names := func() []string {
		return read[[]string](b, `[...document.querySelectorAll('table[aria-label="Shots"] tbody tr')].map((r) => r.cells[1].innerText)`)
	}
	b.do(chromedp.Focus(`//button[normalize-space(.)="Count"]`, browser.Patiently), chromedp.KeyEvent(kb.Enter))
	testdb.Until(t, "the most frames to be first", func() bool { return names()[0] == "stair-100" })
	b.do(chromedp.KeyEvent(kb.Enter))
	testdb.Until(t, "the fewest to be first", func() bool { return names()[0] == "orrery-010" })
	assert.Equal(t, "ascending", read[string](b, `document.querySelector("th[aria-sort]").ariaSort`))
	b.types(`input[aria-label="Search in shots"]`, "stair")
	b.shows("2 found")
	assert.Equal(t, []string{"stair-030", "stair-100"}, names())
	b.clicks("Copy as CSV")
	testdb.Until(t, "it to be said", func() bool { return read[bool](b, `/Copied|Saved/.test(document.body.innerText)`) })
	b.clicks("Columns")
	b.do(chromedp.Click(`//*[@role="menuitemcheckbox"][normalize-space(.)="Title"]`, browser.Patiently))
	testdb.Until(t, "the column to be gone", func() bool {
		return !read[bool](b, `[...document.querySelectorAll("th")].some((h) => h.innerText === "Title")`)
	})
	assert.Empty(t, b.axe())
}
