package e2e

import (
	"bytes"
	"context"
	"image/png"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/planning"
	"rotanex.example/service/testdb"
)

// timedHouse is two hosts on which a shot was timed, with nothing running.
func timedHouse(t *testing.T, frames string) (h *house, one, two hand) {
	t.Helper()
	h = newHouse(t, withWall(clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))))
	one, two = h.hand(bellows), h.hand(eddy)
	h.putShot("coda-060", frames, nil)
	h.trialByHand(one, "coda-060", "bellows", "g0")
	h.trialByHand(two, "coda-060", "eddy", "g0")
	return h, one, two
}

func (h *house) plan(ask api.NewPlan) api.Plan {
	h.t.Helper()
	if ask.Shots == nil {
		ask.Shots = []string{"coda-060"}
	}
	if ask.By.IsZero() {
		ask.By = h.now().Add(time.Hour)
	}
	return must[api.Plan](h.t)(h.admin().CreatePlan(h.t.Context(), &api.CreatePlanParams{}, ask))
}

func places(p api.Plan) map[string]int {
	out := map[string]int{}
	for _, b := range p.Bookings {
		out[b.Place] += b.Frames
	}
	return out
}

func TestWhatAPersonFixesStaysFixed(t *testing.T) {
	h, _, _ := timedHouse(t, "1-40")
	assert.Equal(t, map[string]int{"eddy": 40}, places(h.plan(api.NewPlan{Without: []string{"bellows"}})))
	assert.Equal(t, map[string]int{"bellows": 40}, places(h.plan(api.NewPlan{Pin: []api.Pin{{Shot: "coda-060", Places: []string{"bellows"}}}})))
	one := h.plan(api.NewPlan{Pin: []api.Pin{{Shot: "coda-060", Places: []string{"bellows/g1"}}}})
	for _, b := range one.Bookings {
		assert.Equal(t, "bellows/g1", b.Place+"/"+b.Crew)
	}
	for _, b := range h.plan(api.NewPlan{Without: []string{"bellows/g0", "eddy"}}).Bookings {
		assert.NotEqual(t, "g0", b.Crew)
	}
	spec := must[api.Shot](t)(h.admin().GetShot(t.Context(), "coda-060")).Spec
	spec.Devices = []string{"cpu"}
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "coda-060", &api.PutShotParams{}, spec))
	assert.Equal(t, []string{"cpu"}, must[api.Shot](t)(h.admin().GetShot(t.Context(), "coda-060")).Spec.Devices)
	none := h.plan(api.NewPlan{})
	assert.Equal(t, api.PlanStatusImpossible, none.Status, "all that was timed is GPUs")
	assert.Contains(t, h.good("preflight", "coda-060"), "the shot may be rendered on cpu alone")
	spec.Devices = nil
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "coda-060", &api.PutShotParams{}, spec))
	later := h.now().Add(20 * time.Minute)
	for _, b := range h.plan(api.NewPlan{NotBefore: later}).Bookings {
		assert.False(t, b.Start.Before(later))
	}
	for name, c := range map[string]struct {
		ask  api.NewPlan
		says string
	}{
		"a place that is not there": {api.NewPlan{Without: []string{"nowhere"}}, "nowhere is no host, offer, source or crew"},
		"a shot that is not in it":  {api.NewPlan{Pin: []api.Pin{{Shot: "stair-030", Places: []string{"eddy"}}}}, "stair-030 is not among the shots"},
		"a host like none":          {api.NewPlan{Assume: []api.Assumption{{What: "host", Name: "eddy-2", Like: "eddie"}}}, `"eddie" is not`},
		"sure and slack at once":    {api.NewPlan{Slack: 0.1, Confidence: 0.9}, "do not go together"},
	} {
		c.ask.Shots, c.ask.By = []string{"coda-060"}, h.now().Add(time.Hour)
		problem := refused(t, http.StatusUnprocessableEntity)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, c.ask))
		assert.Contains(t, problem.Error(), c.says, name)
	}
	assert.Equal(t, 6, query[int](t, h.database, "SELECT count(*) FROM plans"), "what was refused left nothing")
}

// The stored problem is the one that was solved, to the last decimal of a price.
func TestAPlanIsValidForTheProblemStoredWithIt(t *testing.T) {
	h, _, _ := timedHouse(t, "1-60")
	stored := h.plan(api.NewPlan{By: h.now().Add(8 * time.Hour)})
	problem, err := convert[planning.Problem](stored.Problem)
	require.NoError(t, err)
	plan, err := convert[planning.Plan](stored.Plan)
	require.NoError(t, err)
	assert.NoError(t, planning.Check(problem, plan))
}

// What was asked of a plan is kept with it, and asked again gives the same.
func TestAPlanKeepsWhatWasAsked(t *testing.T) {
	h, _, _ := timedHouse(t, "1-60")
	no := false
	ask := api.NewPlan{
		Shots: []string{"coda-060"}, By: h.now().Add(8 * time.Hour).Truncate(time.Second), Goal: api.NewPlanGoalFastest, Budget: "250.00", Rented: &no,
		Without: []string{"bellows"}, Pin: []api.Pin{{Shot: "coda-060", Places: []string{"eddy"}}}, Slack: 0.1,
		Assume: []api.Assumption{{What: "time", Name: "coda-060", Factor: 0.5}},
	}
	plan := h.plan(ask)
	assert.Equal(t, ask, plan.Choices)
	assert.WithinRange(t, plan.FinishBound, plan.Finish.Add(-time.Minute), plan.Finish, "none is sooner by much")
	require.NotNil(t, plan.Chance)
	f := must[api.PlanForecast](t)(h.admin().ForecastPlan(t.Context(), plan.Id, &api.ForecastPlanParams{}))
	assert.InDelta(t, f.Chance, *plan.Chance, 1e-9, "the chance beside the status is its forecast's")
	assert.False(t, f.KeptFinish.P50.IsZero())
	assert.True(t, f.KeptFinish.P50.After(f.Finish.P50), "time that is left is used for money")
	assert.Contains(t, strings.Join(f.RestsOn, "\n"), "none of yours has ended")
	assert.Contains(t, h.good("forecast", "latest"), "Kept by itself (policy auto), as runs before went: half end by ")
	list := must[api.PlanList](t)(h.admin().ListPlans(t.Context(), &api.ListPlansParams{}))
	assert.Equal(t, plan.Chance, list.Items[0].Chance)
}

// What a run has done is not planned and not rendered again, but taken over, picture and
// all, as long as the shot is the same.
func TestFramesThatAreDoneAreKept(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-6")
	for _, a := range []hand{one, two} {
		for _, l := range a.lease() {
			a.deliver(l)
		}
	}
	done := h.run(run).Counts.Done
	require.Positive(t, done)
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))

	next := h.plan(api.NewPlan{})
	require.Len(t, next.Kept, 1)
	assert.Equal(t, done, next.Kept[0].Count)
	assert.Equal(t, run.Id, next.Kept[0].Run)
	frames := 0
	for _, n := range places(next) {
		frames += n
	}
	assert.Equal(t, 6-done, frames)
	again := h.plan(api.NewPlan{Again: true})
	assert.Empty(t, again.Kept)

	second := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: next.Id}))
	assert.Equal(t, api.FrameCounts{Waiting: 6 - done, Done: done}, second.Counts)
	for h.run(second).Counts.Waiting+h.run(second).Counts.Rendering > 0 {
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				a.deliver(l)
			}
		}
	}
	require.Equal(t, api.RunStateComplete, h.run(second).State)
	for n := 1; n <= 6; n++ {
		answer, err := h.admin().GetPicture(t.Context(), second.Id, "coda-060", n, &api.GetPictureParams{})
		require.NoError(t, err)
		assert.Equal(t, http.StatusOK, answer.StatusCode, "frame %d has its picture", n)
		require.NoError(t, answer.Body.Close())
	}
	all := refused(t, http.StatusUnprocessableEntity)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(time.Hour)}))
	assert.Contains(t, all.Error(), "done already, every frame")
	h.putShot("coda-060", "1-6", map[string]string{"samples": "9"})
	h.trialByHand(one, "coda-060", "bellows", "g0")
	assert.Empty(t, h.plan(api.NewPlan{}).Kept, "with other settings it is another picture")
}

// A request that does not wait is told where to look; the same request gives the plan.
func TestAPlanIsMadeInTheBackground(t *testing.T) {
	h, _, _ := timedHouse(t, "1-60")
	ask := api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(8 * time.Hour)}
	hasty := func(_ context.Context, r *http.Request) error {
		r.Header.Set("Prefer", "wait=0")
		r.Header.Set("Authorization", "Bearer "+h.token)
		return nil
	}
	c, err := client.NewClient(h.address + "/api/v1") // one that does not ask again by itself
	require.NoError(t, err)
	key := "a key of its own"
	answer, err := c.CreatePlan(t.Context(), &api.CreatePlanParams{IdempotencyKey: &key}, ask, hasty)
	require.NoError(t, err)
	require.Equal(t, http.StatusAccepted, answer.StatusCode)
	under, err := client.Decode[api.Computation](answer, nil)
	require.NoError(t, err)
	assert.Equal(t, "coda-060", under.About)
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{IdempotencyKey: &key}, ask))
	assert.Equal(t, under.Id, plan.Id)
	ended := must[api.Computation](t)(h.admin().GetComputation(t.Context(), under.Id))
	assert.Equal(t, api.ComputationStateDone, ended.State)
	require.NoError(t, client.Check(h.admin().CancelComputation(t.Context(), under.Id)))
	open := true
	assert.Empty(t, must[api.ComputationList](t)(h.admin().ListComputations(t.Context(), &api.ListComputationsParams{Open: &open})).Items)
}

func TestSlackAndConfidenceKeepTimeSpare(t *testing.T) {
	h, _, _ := timedHouse(t, "1-200")
	tight := h.plan(api.NewPlan{By: h.now().Add(24 * time.Hour)})
	need := tight.Finish.Sub(tight.Start)
	by := h.now().Add(need * 115 / 100)
	slack := h.plan(api.NewPlan{By: by, Slack: 0.1})
	assert.Equal(t, by.Truncate(time.Second), slack.Deadline.Truncate(time.Second), "the deadline that is shown is the real one")
	assert.LessOrEqual(t, slack.Finish.Sub(slack.Start), by.Sub(slack.Start)*91/100)
	run := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: slack.Id}))
	assert.Equal(t, by.Truncate(time.Second), run.Deadline.Truncate(time.Second), "with the run too")
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))

	sure := h.plan(api.NewPlan{By: by, Confidence: 0.9})
	f := must[api.PlanForecast](t)(h.admin().ForecastPlan(t.Context(), sure.Id, &api.ForecastPlanParams{}))
	assert.GreaterOrEqual(t, f.Chance, 0.85)
	again := must[api.PlanForecast](t)(h.admin().ForecastPlan(t.Context(), sure.Id, &api.ForecastPlanParams{}))
	assert.Equal(t, f, again, "the same seed, the same forecast")
	assert.Contains(t, strings.Join(f.RestsOn, "\n"), "when it ends, planned anew by itself on the way (policy auto)")
}

func TestWhatIfCanBeSeenButNotStarted(t *testing.T) {
	h, _, _ := timedHouse(t, "1-60")
	now := h.plan(api.NewPlan{By: h.now().Add(2 * time.Minute)})
	require.Equal(t, api.PlanStatusLate, now.Status)
	what := h.plan(api.NewPlan{By: h.now().Add(2 * time.Minute), Assume: []api.Assumption{
		{What: "host", Name: "eddy-2", Like: "eddy"}, {What: "time", Name: "coda-060", Factor: 0.5},
	}})
	assert.True(t, what.Finish.Before(now.Finish))
	assert.NotZero(t, places(what)["eddy-2"])
	assert.Len(t, what.Assumes, 2)
	problem := refused(t, http.StatusConflict)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: what.Id}))
	assert.Contains(t, problem.Error(), "assumes what is not so")
	changes := must[api.PlanChanges](t)(h.admin().ComparePlans(t.Context(), what.Id, &api.ComparePlansParams{Since: now.Id}))
	var texts []string
	for _, c := range changes.Changes {
		texts = append(texts, c.Text)
	}
	assert.Contains(t, strings.Join(texts, "\n"), "because eddy-2 is there")
	assert.Contains(t, strings.Join(texts, "\n"), "faster than was thought")
}

func TestALatePlanSaysWhatIsShort(t *testing.T) {
	h, _, _ := timedHouse(t, "1-60")
	late := h.plan(api.NewPlan{By: h.now().Add(2 * time.Minute)})
	require.Equal(t, api.PlanStatusLate, late.Status)
	why := must[api.PlanReasons](t)(h.admin().ExplainPlan(t.Context(), late.Id))
	require.NotEmpty(t, why.Short)
	assert.Contains(t, why.Short[0].Text, "of the 60 frames of coda-060 find no room")
	require.NotEmpty(t, why.Remedies)
	last := why.Remedies[len(why.Remedies)-1]
	assert.Contains(t, last.Change, "the deadlines")
	assert.Equal(t, late.Finish, last.Finish)
}

func TestEveryPointOfTheCurveIsAPlan(t *testing.T) {
	h, _, _ := timedHouse(t, "1-60")
	plan := h.plan(api.NewPlan{By: h.now().Add(10 * time.Hour)})
	draw := func() api.Curve {
		alone := "bellows"
		return must[api.Curve](t)(h.admin().DrawCurve(t.Context(), plan.Id, &api.DrawCurveParams{Alone: &alone}))
	}
	list := func() api.PlanList {
		return must[api.PlanList](t)(h.admin().ListPlans(t.Context(), &api.ListPlansParams{}))
	}
	undrawn := list()
	assert.Equal(t, undrawn, list(), "it is read once")
	assert.Nil(t, undrawn.Items[0].CurveOf)
	curve := draw()
	require.NotEmpty(t, curve.Points)
	assert.Equal(t, curve, draw(), "it is drawn once")
	assert.Equal(t, "bellows", curve.Alone.Host)
	for i, p := range curve.Points {
		point := must[api.Plan](t)(h.admin().GetPlan(t.Context(), p.Plan))
		assert.Equal(t, p.Cost, point.Cost)
		assert.Equal(t, p.Finish, point.Finish)
		if i > 0 {
			assert.True(t, p.Finish.After(curve.Points[i-1].Finish), "later and cheaper")
		}
	}
	listed := list()
	assert.Len(t, listed.Items, 1, "points are not in the list of plans")
	assert.Equal(t, &plan.Id, listed.Items[0].CurveOf)
	listed.Items[0].CurveOf = nil
	assert.Equal(t, undrawn, listed)
}

func TestAPlanCanBeTakenAway(t *testing.T) {
	h, _, _ := timedHouse(t, "1-40")
	plan := h.plan(api.NewPlan{})
	fetch := func(format api.ExportPlanParamsFormat, of string) (string, []byte) {
		params := &api.ExportPlanParams{Format: format}
		if of != "" {
			o := api.ExportPlanParamsOf(of)
			params.Of = &o
		}
		answer, err := h.admin().ExportPlan(t.Context(), plan.Id, params)
		require.NoError(t, err)
		defer func() { _ = answer.Body.Close() }()
		require.Equal(t, http.StatusOK, answer.StatusCode)
		data, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.Header.Get("Content-Type"), data
	}
	kind, table := fetch("csv", "")
	assert.Contains(t, kind, "text/csv")
	assert.Len(t, strings.Split(strings.TrimSpace(string(table)), "\n"), 1+len(plan.Bookings))
	_, calendar := fetch("ics", "")
	assert.Contains(t, string(calendar), "SUMMARY:eddy renders")
	assert.Contains(t, string(calendar), "DTSTART:20310307T1800")
	_, drawn := fetch("png", "")
	picture, err := png.Decode(bytes.NewReader(drawn))
	require.NoError(t, err)
	assert.Greater(t, picture.Bounds().Dx(), 600)
	curve := api.ExportPlanParamsOf("curve")
	undrawn := refused(t, http.StatusConflict)(h.admin().ExportPlan(t.Context(), plan.Id, &api.ExportPlanParams{Format: "svg", Of: &curve}))
	assert.Contains(t, undrawn.Error(), "not drawn yet")
	must[api.Curve](t)(h.admin().DrawCurve(t.Context(), plan.Id, &api.DrawCurveParams{}))
	for _, of := range []string{"plan", "curve"} {
		kind, svg := fetch("svg", of)
		assert.Equal(t, "image/svg+xml", kind)
		assert.Contains(t, string(svg), "</svg>")
	}
	_, file := fetch("json", "")
	assert.Contains(t, string(file), `"rotanex-plan-1"`)
}

// The rest of a run goes on by another plan: nothing is rendered twice or lost, and
// what is being rendered stays where it is.
func TestTheRestOfARunIsPlannedAnew(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-12")
	held, other := one.lease(), two.lease()
	require.NotEmpty(t, held)
	require.NotEmpty(t, other)
	rest := h.plan(api.NewPlan{Run: &run.Id, Without: []string{"eddy"}})
	frames := 0
	for _, n := range places(rest) {
		frames += n
	}
	assert.Equal(t, 12-len(held)-len(other), frames, "frames that are being rendered stay")
	assert.Zero(t, places(rest)["eddy"])
	for _, b := range rest.Bookings {
		assert.True(t, b.Start.After(rest.Start), "bellows renders until its frame is expected to end")
	}
	assert.Contains(t, refused(t, http.StatusConflict)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: rest.Id})).Error(), "rest of a run")
	stranger := h.plan(api.NewPlan{Without: []string{"eddy"}, By: h.now().Add(5 * time.Hour)})
	assert.Contains(t, refused(t, http.StatusConflict)(h.admin().SetRunPlan(t.Context(), run.Id, api.SetRunPlanJSONRequestBody{Plan: stranger.Id})).Error(), "was not made for")

	must[api.Run](t)(h.admin().SetRunPlan(t.Context(), run.Id, api.SetRunPlanJSONRequestBody{Plan: rest.Id}))
	assert.Contains(t, refused(t, http.StatusConflict)(h.admin().SetRunPlan(t.Context(), run.Id, api.SetRunPlanJSONRequestBody{Plan: rest.Id})).Error(), "plan again")
	for _, l := range other {
		two.deliver(l)
	}
	assert.Empty(t, two.lease(), "eddy is not wanted any more while bellows keeps its plan")
	assert.Equal(t, 12, query[int](t, h.database, "SELECT sum(frames) FROM bookings WHERE run_id = $1", run.Id), "every frame is booked once")
}

func TestThePlanPageAnswersItsQuestions(t *testing.T) {
	h, _, _ := timedHouse(t, "1-60")
	plan := h.plan(api.NewPlan{By: h.now().Add(5 * time.Hour)})
	h.plan(api.NewPlan{By: h.now().Add(6 * time.Hour), Without: []string{"eddy"}})
	b := h.open("light")
	b.goTo("/plans/" + plan.Id.String())
	for _, want := range []string{"Chance to be in time", "In time", "Cost by source", "Plan again", "Against another plan", "Take away as", "Draw the trade-off curve"} {
		b.shows(want)
	}
	assert.Empty(t, b.axe())
	b.do(chromedp.Click(`//button[text()="Draw the trade-off curve"]`))
	b.shows("cheapest:")
	b.do(chromedp.Click(`//button[text()="Say why each place is used or not"]`))
	b.shows("Because")
	b.do(chromedp.Click(`//button[text()="Plan again"]`))
	testdb.Until(t, "another plan to open", func() bool { return read[string](b, "location.pathname") != "/plans/"+plan.Id.String() })
	b.shows("Who renders what, when")
}
