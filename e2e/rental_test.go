package e2e

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/testdb"
)

// ternSolo is an offer like eddy's one device, by the hour.
var ternSolo = stock.Offer{
	Name: "tern-solo", Source: "tern", MaxServers: 3, PriceH: pricing.MustMoney("1.20"), IncrementS: 3600, BootS: 600, ShutdownS: 60,
	CPU: stock.CPU{Model: "Keel 24", Cores: 24}, MemoryGB: 128, Devices: eddy.Devices, Launchers: []string{"simulated"},
}

// hiredHouse is a house with a run that needs one rented server beside eddy.
func hiredHouse(t *testing.T) (*house, *clockwork.FakeClock, *company, hand, api.Run) {
	t.Helper()
	clock := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	source := newCompany(t, clock.Now, ternSolo)
	h := newHouse(t, withWall(clock))
	h.putSource("tern", "rented", source.URL)
	a := h.hand(eddy)
	offer, err := convert[api.OfferSpec](ternSolo)
	require.NoError(t, err)
	must[api.Offer](t)(h.admin().PutOffer(t.Context(), "tern-solo", offer))
	// A frame takes ten seconds on either. In half an hour eddy does 180.
	h.putShot("coda-060", "1-200", nil)
	h.trialByHand(a, "coda-060", "eddy", "g0")
	plan, run := h.started(30*time.Minute, "coda-060")
	require.Len(t, plan.Servers, 1)
	require.Equal(t, "1.20", plan.Servers[0].Cost)
	return h, clock, source, a, run
}

// server waits until the run's server is in a state, with the clock going on.
func (h *house) server(clock *clockwork.FakeClock, run api.Run, state api.RunServerState) api.RunServer {
	h.t.Helper()
	h.until("the server to be "+string(state), func() bool {
		clock.Advance(time.Second)
		return h.run(run).Servers[0].State == state
	})
	return h.run(run).Servers[0]
}

func TestAServersLife(t *testing.T) {
	h, clock, source, own, run := hiredHouse(t)
	starting := h.server(clock, run, api.RunServerStateStarting)
	assert.WithinDuration(t, starting.From, starting.Started, 10*time.Second)
	assert.Equal(t, h.address, source.last().Service)

	// It boots, and its agent joins with the token that the source was given.
	joined := must[struct{ Token string }](t)(h.as("").JoinAgent(t.Context(), api.JoinAgentJSONRequestBody{JoinToken: source.last().JoinToken, Host: starting.Host}))
	server := hand{h.as(joined.Token), t, uuid.New()}
	spec := ternSolo.Server(starting.Host)
	server.report(spec)
	h.server(clock, run, api.RunServerStateUp)
	for range 20 {
		clock.Advance(30 * time.Second)
		own.beat()
		server.beat()
	}
	leases := server.lease()
	require.Len(t, leases, 1, "it renders what it was booked for")
	server.deliver(leases[0])
	assert.Equal(t, "1.20", h.run(run).CostSoFar, "an hour is paid once it has begun")

	// Before the next paid hour it is drained, but what it renders it finishes.
	last := server.lease()
	require.Len(t, last, 1)
	testdb.Onward(t, "the server to be drained", func() bool {
		clock.Advance(10 * time.Second)
		server.beat(holding(last[0]))
		return h.run(run).Servers[0].State == api.RunServerStateStopping
	})
	assert.Empty(t, server.lease(holding(last[0])))
	_, ended := source.counts()
	assert.Zero(t, ended)
	server.deliver(last[0])
	stopped := h.server(clock, run, api.RunServerStateStopped)
	made, ended := source.counts()
	assert.Equal(t, 1, made)
	assert.Equal(t, 1, ended)
	assert.True(t, stopped.Stopped.After(stopped.Started))
	ledger := must[api.Ledger](t)(h.admin().GetLedger(t.Context(), run.Id))
	for _, row := range ledger.Rows {
		if row.Source == "tern" {
			assert.InDelta(t, 3600, row.PaidS, 0)
			assert.Equal(t, "1.20", row.Cost)
		}
	}
}

func TestASourceThatFailsIsAskedAgain(t *testing.T) {
	h, clock, source, _, run := hiredHouse(t)
	source.fails(2)
	got := h.server(clock, run, api.RunServerStateStarting)
	assert.NotEmpty(t, got.Host)
	made, _ := source.counts()
	assert.Equal(t, 1, made, "asked again and again, there is one server")
}

func TestAServerOfACancelledRunIsEndedOrNeverMade(t *testing.T) {
	h, clock, source, _, run := hiredHouse(t)
	h.server(clock, run, api.RunServerStateStarting)
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	h.server(clock, run, api.RunServerStateStopped)
	made, ended := source.counts()
	assert.Equal(t, made, ended)
	late := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(time.Hour), Rented: new(false)}))
	assert.Empty(t, late.Servers, "rent nothing means rent nothing")
}

func TestAServerThatNeverComesUpIsEndedWithTheReason(t *testing.T) {
	h, clock, source, _, run := hiredHouse(t)
	h.server(clock, run, api.RunServerStateStarting)
	clock.Advance(2 * time.Hour)
	gone := h.server(clock, run, api.RunServerStateStopped)
	assert.Equal(t, "it was not up 2h0m0s after it was asked for", gone.Trouble)
	_, ended := source.counts()
	assert.Equal(t, 1, ended, "it is never left running")
}

// A run that is started later than it was planned asks for its servers later: what is
// paid for then begins later, and ends later as well.
func TestAServerAskedForLateIsUsedForAllThatIsPaid(t *testing.T) {
	h, clock, _, own, first := hiredHouse(t)
	must[api.Run](t)(h.admin().SetRunState(t.Context(), first.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(30 * time.Minute)}))
	require.Len(t, plan.Servers, 1)
	for range 24 {
		clock.Advance(30 * time.Second) // twelve minutes go by before somebody starts it
		own.beat()
	}
	run := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: plan.OutsideCost}))
	asked := h.server(clock, run, api.RunServerStateStarting)
	late := asked.From.Sub(plan.Servers[0].From)
	assert.InDelta(t, 720, late.Seconds(), 20)
	assert.WithinDuration(t, asked.From, asked.Started, time.Second)
	assert.WithinDuration(t, plan.Servers[0].To.Add(late), asked.To, time.Second)
	paid := query[time.Time](t, h.database, "SELECT paid_at FROM servers WHERE run_id = $1", run.Id)
	assert.WithinDuration(t, asked.From.Add(time.Hour), paid, time.Second, "the hour that is paid begins when it is asked for")
	closes := query[time.Time](t, h.database, "SELECT close_at FROM bookings WHERE run_id = $1 AND host = $2 LIMIT 1", run.Id, asked.Host)
	assert.WithinDuration(t, paid.Add(-time.Minute), closes, time.Second)
}
