package e2e

import (
	"net/http"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/service/testdb"
)

// alone plays a run whose own host died, so that the rented server is left alone with
// all its frames, until it is stopped.
func (h *house) alone(clock *clockwork.FakeClock, source *company, run api.Run) {
	h.t.Helper()
	starting := h.server(clock, run, api.RunServerStateStarting)
	joined := must[struct{ Token string }](h.t)(h.as("").JoinAgent(h.t.Context(), api.JoinAgentJSONRequestBody{JoinToken: source.last().JoinToken, Host: starting.Host}))
	server := hand{h.as(joined.Token), h.t, uuid.New()}
	server.report(ternSolo.Server(starting.Host))
	h.server(clock, run, api.RunServerStateUp)
	testdb.Onward(h.t, "the server to be stopped", func() bool {
		clock.Advance(20 * time.Second)
		if h.run(run).Servers[0].State != api.RunServerStateUp {
			return h.run(run).Servers[0].State == api.RunServerStateStopped
		}
		server.serves()
		return false
	})
}

// serves renders what an agent is given. That a server is ended meanwhile, and its token with
// it, is how servers end; that a frame is not wanted any more, how sweeps do.
func (a hand) serves() {
	a.t.Helper()
	over := func(err error) bool {
		if s := client.Status(err); s != http.StatusUnauthorized && s != http.StatusConflict {
			require.NoError(a.t, err)
		}
		return err != nil
	}
	if _, err := client.Decode[api.HeartbeatAnswer](a.Heartbeat(a.t.Context(), api.Heartbeat{Boot: a.boot, Held: []api.Held{}})); over(err) {
		return
	}
	leases, err := client.Decode[[]api.Lease](a.Lease(a.t.Context(), api.LeaseRequest{Boot: a.boot, Held: []api.Held{}}))
	if over(err) {
		return
	}
	for _, l := range leases {
		data := frame(l.Width, l.Height)
		if _, err := client.Decode[struct{}](a.send(l, data)); over(err) {
			return
		}
		if _, err := client.Decode[struct{}](a.done(l, data)); over(err) {
			return
		}
	}
}

// A server that is left alone with a run's frames stays on, for as many paid hours as it
// takes, and no longer.
func TestAServerStaysOnWhereNobodyElseIsLeft(t *testing.T) {
	h, clock, source, _, run := hiredHouse(t)
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(30 * time.Minute)}))
	run = must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: "10.00"}))
	h.alone(clock, source, run)
	after := h.run(run)
	assert.Equal(t, api.RunStateComplete, after.State, "nothing is left lying over night")
	assert.Equal(t, 200, after.Counts.Done)
	assert.Contains(t, after.Servers[0].Trouble, "nobody else can render")
	assert.Equal(t, source.charged().String(), h.chargedBy(run, "tern").String())
	assert.Equal(t, "2.40", source.charged().String(), "two hours: 200 frames of 20 s and the boot")
	made, _ := source.counts()
	assert.Equal(t, 1, made, "it is not replaced as well")
}

// Where further hours are beyond the cap they are not bought; the run says that frames
// are stranded, and a plan for the rest takes them up.
func TestFramesThatNobodyIsLeftToTakeAreStranded(t *testing.T) {
	h, clock, source, _, run := hiredHouse(t) // it may spend what was planned: one hour
	assert.Empty(t, h.run(run).Stranded)
	h.alone(clock, source, run)
	after := h.run(run)
	require.Equal(t, api.RunStateRunning, after.State)
	assert.Equal(t, "1.20", source.charged().String())
	require.Len(t, after.Stranded, 1)
	assert.Equal(t, after.Counts.Waiting, after.Stranded[0].Frames)
	assert.Contains(t, after.Stranded[0].Why, "eddy is not heard of")
	assert.Contains(t, after.Stranded[0].Why, "is ended")
	assert.Contains(t, after.Servers[0].Trouble, "exceed the run's cap")
	short := run.Id.String()[:8]
	assert.Contains(t, h.good("runs", "show", short), "nobody is left to render")

	// What is late already is planned to be finished as soon as it can be.
	late := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, Run: &run.Id, By: h.now().Add(-time.Hour)}))
	assert.Equal(t, api.PlanStatusLate, late.Status)
	assert.NotEmpty(t, late.Bookings)
	refused(t, 422)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(-time.Hour)}))

	// A plan for the rest brings another server, once more money is allowed.
	rest := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, Run: &run.Id, By: h.now().Add(3 * time.Hour)}))
	require.Equal(t, api.PlanStatusMeets, rest.Status)
	must[api.Run](t)(h.admin().SetRunPlan(t.Context(), run.Id, api.SetRunPlanJSONRequestBody{Plan: rest.Id, Spend: "20.00"}))
	assert.Empty(t, h.run(run).Stranded)
}

// The ledger of all runs is that of each put together; what of a run that is over changes
// when it goes on again is in it.
func TestTheLedgerOfAllRuns(t *testing.T) {
	h, clock, one, two, run := playedHouse(t, "1-4")
	all := func() api.EntryList {
		return must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{}))
	}
	of := func(r api.Run) api.EntryList {
		return must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Run: &r.Id}))
	}
	h.until("the run to be over", func() bool {
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				if l.Frame == 3 {
					a.failed(l, api.ResultCauseCrashed)
				} else {
					a.deliver(l)
				}
			}
		}
		return h.run(run).State != api.RunStateRunning
	})
	require.Equal(t, api.RunStateIncomplete, h.run(run).State)
	before := all()
	assert.Equal(t, 3, before.Frames)
	assert.Equal(t, before.Items, all().Items, "asked again, it says the same")
	assert.Equal(t, before.Items, of(run).Items)

	clock.Advance(time.Second) // of runs that begin at one time either may be the newer
	_, second := h.started(2*time.Hour, "coda-060")
	assert.Greater(t, len(all().Items), len(before.Items), "another run is in it as it stands")
	must[api.Run](t)(h.admin().SetRunState(t.Context(), second.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "running"}))
	h.until("the frame that failed", func() bool {
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				a.deliver(l)
			}
		}
		return h.run(run).State == api.RunStateComplete
	})
	assert.Equal(t, 4, of(run).Frames, "what was kept of it before is not said any more")
	assert.Equal(t, 4, all().Frames)
	single := 1
	first := must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Limit: &single}))
	rest := must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Limit: &single, Cursor: &first.Next}))
	assert.Equal(t, all().Items, append(first.Items, rest.Items...), "a page is of so many runs, the newest first")
	assert.Equal(t, second.Id, first.Items[0].Run)
	assert.Empty(t, rest.Next)

	// Later on what they came to is read as it was written down: it is the same, in a service that starts anew too.
	entries, shown := all(), h.run(run)
	ledger := must[api.Ledger](t)(h.admin().GetLedger(t.Context(), run.Id))
	clock.Advance(11 * time.Minute)
	for range 2 {
		assert.Equal(t, entries, all())
		assert.Equal(t, shown, h.run(run))
		assert.Equal(t, ledger, must[api.Ledger](t)(h.admin().GetLedger(t.Context(), run.Id)))
		h.restart()
	}
	day := all().Items[0].Day
	assert.Equal(t, len(all().Items), len(must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Day: &day})).Items))
}
