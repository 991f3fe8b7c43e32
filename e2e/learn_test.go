package e2e

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// wait is what is known of the only offer's boots.
func (h *house) wait() api.Wait {
	h.t.Helper()
	sources := must[struct{ Items []api.Source }](h.t)(h.admin().ListSources(h.t.Context())).Items
	require.Len(h.t, sources, 1)
	require.Len(h.t, sources[0].Waits, 1)
	return sources[0].Waits[0]
}

// A server that booted for longer than was declared makes later plans ask sooner, and
// forecasts rest on what was seen.
func TestWhatABootTookGoesIntoPlansAndForecasts(t *testing.T) {
	h, clock, source, own, run := hiredHouse(t)
	declared := h.wait()
	assert.Equal(t, []float64{600, 600, 0, 0}, []float64{declared.DeclaredS, declared.TypicalS, float64(declared.Seen), float64(declared.Ordered)})

	starting := h.server(clock, run, api.RunServerStateStarting)
	for range 40 { // twenty minutes, where ten were declared
		clock.Advance(30 * time.Second)
		own.beat()
	}
	joined := must[struct{ Token string }](t)(h.as("").JoinAgent(t.Context(), api.JoinAgentJSONRequestBody{JoinToken: source.last().JoinToken, Host: starting.Host}))
	server := hand{h.as(joined.Token), t, uuid.New()}
	server.report(ternSolo.Server(starting.Host))
	h.server(clock, run, api.RunServerStateUp)

	learnt := h.wait()
	assert.Equal(t, 1, learnt.Seen)
	assert.InDelta(t, 600*math.Cbrt(2), learnt.TypicalS, 15, "one late boot counts as one in three")
	assert.Greater(t, learnt.LateS, learnt.TypicalS)

	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	h.server(clock, run, api.RunServerStateStopped)
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(30 * time.Minute)}))
	require.NotEmpty(t, plan.Servers)
	at := slices.IndexFunc(plan.Bookings, func(b api.PlannedBooking) bool { return strings.HasPrefix(b.Place, "tern-solo") })
	require.GreaterOrEqual(t, at, 0)
	assert.InDelta(t, learnt.TypicalS, plan.Bookings[at].Start.Sub(plan.Servers[0].From).Seconds(), 1, "planned as it was seen, not as promised")
	forecast := must[api.PlanForecast](t)(h.admin().ForecastPlan(t.Context(), plan.Id, &api.ForecastPlanParams{}))
	assert.Contains(t, strings.Join(forecast.RestsOn, "\n"), "boots and queues: as in 1 seen so far")
}

func TestAServerThatNeverCameIsCounted(t *testing.T) {
	h, clock, _, own, run := hiredHouse(t)
	h.server(clock, run, api.RunServerStateStarting)
	for range 30 {
		clock.Advance(5 * time.Minute)
		own.beat()
	}
	h.server(clock, run, api.RunServerStateStopped)
	w := h.wait()
	assert.Equal(t, []int{0, 1, 1}, []int{w.Seen, w.Ordered, w.Never})
	assert.InDelta(t, w.DeclaredS, w.TypicalS, 0)
}

// Extra seats are hired by the day, where that makes a plan meet its deadline, and end
// with the run.
func TestExtraSeatsAreHiredByTheDay(t *testing.T) {
	clock := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	h := newHouse(t, withWall(clock))
	must[api.Licence](t)(h.admin().PutLicence(t.Context(), "fathom", api.Licence{Pool: "fathom", Kind: "floating", Seats: 1, ExtraSeats: 1, ExtraSeatPrice: "9.50"}))
	one, two := h.hand(bellows), h.hand(eddy)
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "lamp-040", &api.PutShotParams{}, api.ShotSpec{Name: "lamp-040", Scene: "coda.yaml", Frames: "1-40", Width: 64, Height: 36, Launcher: "simulated", Licence: "fathom"}))
	h.trialByHand(one, "lamp-040", "bellows", "g0")
	h.until("the seat to come back", func() bool {
		clock.Advance(time.Second)
		return len(must[struct{ Items []api.Seat }](t)(h.admin().ListSeats(t.Context())).Items) == 0
	})
	h.trialByHand(two, "lamp-040", "eddy", "g0")
	ask := api.NewPlan{Shots: []string{"lamp-040"}, By: h.now().Add(280 * time.Second)}
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, ask))
	assert.Equal(t, "9.50", plan.OutsideCost, "one seat for one day")
	unsaid := refused(t, 422)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id}))
	assert.Contains(t, unsaid.Error(), "9.50")
	run := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: "9.50"}))
	h.until("both hosts to render", func() bool {
		clock.Advance(time.Second)
		return len(one.lease()) > 0 || h.run(run).Counts.Rendering > 0
	})
	assert.NotEmpty(t, two.lease(), "the hired seat lets the other render as well")

	// While it is hired nobody else can hire it, and a day on it is paid again.
	other := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, ask))
	assert.Empty(t, other.OutsideCost)
	clock.Advance(25 * time.Hour)
	seats := func() (charged []string) {
		list := must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Run: &run.Id}))
		for _, e := range list.Items {
			if e.Kind == api.EntryKindSeats {
				charged = append(charged, e.Estimated+" "+e.Charged)
			}
		}
		return charged
	}
	assert.Equal(t, []string{"9.5000 9.5000", "0.0000 9.5000"}, seats())
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	clock.Advance(48 * time.Hour)
	assert.Len(t, seats(), 2, "they end with the run")
}
