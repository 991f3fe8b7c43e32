package forecast_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/forecast"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// hired is a shot of a hundred one-minute frames that only a rented server of two crews
// can render: it boots for ten minutes and is billed by the minute.
func hired(t testing.TB, spare planning.Millis) (planning.Problem, planning.Plan) {
	step := planning.Millis(60_000)
	p := planning.Problem{
		Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest,
		Shots: []planning.Shot{{ID: "stair-030", Frames: 100, Deadline: 3_600_000 + spare}},
		Offers: []planning.Offer{{
			ID: "tern-solo", Source: "tern", MaxServers: 1, Lead: 600_000, Price: pricing.MustMoney("6.00"), Increment: &step,
			Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}, {ID: "g1", Devices: []string{"g1"}}},
		}},
		Timings: []planning.Timing{{Shot: "stair-030", Offer: "tern-solo", Crew: "g0", Frame: 60_000}, {Shot: "stair-030", Offer: "tern-solo", Crew: "g1", Frame: 60_000}},
	}
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	require.Equal(t, planning.Meets, plan.Status)
	return p, plan
}

func uncertain(offer string, kept leadtimes.Kept) forecast.Uncertainty {
	return forecast.Uncertainty{Ratios: map[string][]float64{"stair-030": {1, 1, 1, 1, 1, 1, 1, 1}}, Fails: map[string]float64{offer: 0}, Waits: map[string]leadtimes.Kept{offer: kept}}
}

func TestABootThatIsKnownToBeLateMakesThePlanLate(t *testing.T) {
	p, plan := hired(t, 0)
	punctual := simulated(t, p, plan, uncertain("tern-solo", leadtimes.Kept{Typical: 1, Spread: 0}))
	assert.Equal(t, 1.0, punctual.Chance)
	assert.InDelta(t, plan.Finish.Duration().Seconds(), punctual.Finish.P50, 1)
	assert.InDelta(t, plan.Cost.Float(), punctual.Cost.P50, 0.005)

	early := simulated(t, p, plan, uncertain("tern-solo", leadtimes.Kept{Typical: 0.5, Spread: 0}))
	assert.Equal(t, punctual.Finish, early.Finish, "who is early waits for the planned time")

	late := simulated(t, p, plan, uncertain("tern-solo", leadtimes.Kept{Typical: 1.5, Spread: 0}))
	assert.Zero(t, late.Chance)
}

func TestNobodyKnownIsTakenToBeLateNotEarly(t *testing.T) {
	p, plan := hired(t, 0)
	d := uncertain("tern-solo", leadtimes.Kept{})
	d.Waits = nil
	assert.Less(t, simulated(t, p, plan, d).Chance, 0.05)
	roomy, plan := hired(t, 900_000)
	assert.Greater(t, simulated(t, roomy, plan, d).Chance, 0.2)
}

// A server that never comes is replaced, which takes time and costs what the first one
// stood for.
func TestAServerThatNeverComesIsReplaced(t *testing.T) {
	p, plan := hired(t, 4*3_600_000)
	sure := simulated(t, p, plan, uncertain("tern-solo", leadtimes.Kept{Typical: 1}))
	never := simulated(t, p, plan, uncertain("tern-solo", leadtimes.Kept{Typical: 1, Never: 1}))
	lost := leadtimes.GivenUp(p.Offers[0].Lead.Duration())
	assert.InDelta(t, sure.Finish.P50+lost.Seconds(), never.Finish.P50, 1)
	assert.InDelta(t, sure.Cost.P50+p.Offers[0].Meter().Charge(lost).Float(), never.Cost.P50, 0.005)
	assert.Zero(t, never.Never, "its frames are rendered all the same")
	some := simulated(t, p, plan, uncertain("tern-solo", leadtimes.Kept{Typical: 1, Never: 0.3}))
	assert.InDelta(t, sure.Finish.P50, some.Finish.P50, 1)
	assert.InDelta(t, never.Finish.P90, some.Finish.P90, 1)
}

// farm is the same work for a farm of two nodes.
func farm(t testing.TB) (planning.Problem, planning.Plan) {
	p, _ := hired(t, 0)
	p.Offers, p.Farms = nil, []planning.Farm{{ID: "ebb", Source: "saltmarsh", Nodes: 2, Lead: 600_000, NodePrice: pricing.MustMoney("3.00"), MinimumCharge: pricing.MustMoney("2.00")}}
	p.Timings = []planning.Timing{{Shot: "stair-030", Farm: "ebb", Frame: 60_000}}
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	require.Equal(t, planning.Meets, plan.Status)
	return p, plan
}

func TestAFarmsQueueAndFailuresAreInTheForecast(t *testing.T) {
	p, plan := farm(t)
	punctual := simulated(t, p, plan, uncertain("ebb", leadtimes.Kept{Typical: 1}))
	assert.Equal(t, 1.0, punctual.Chance)
	assert.InDelta(t, 5.00, punctual.Cost.P50, 0.001)
	queued := simulated(t, p, plan, uncertain("ebb", leadtimes.Kept{Typical: 1, Spread: 0.5}))
	assert.InDelta(t, 0.5, queued.Chance, 0.08, "as often late as early, and there is no time to spare")
	assert.Greater(t, queued.Finish.P90, punctual.Finish.P90+300)

	failing := uncertain("ebb", leadtimes.Kept{Typical: 1})
	failing.Fails["ebb"] = 1.0 / 25
	f := simulated(t, p, plan, failing)
	assert.Greater(t, f.Finish.P50, punctual.Finish.P50, "some are rendered again")
	assert.InDelta(t, punctual.Cost.P50, f.Cost.P50, 0.001, "only usable frames are paid")
	// One that fails at the farm's second try too is nobody's: only the farm was booked.
	assert.InDelta(t, 1-math.Pow(1-1.0/625, 100), float64(f.Never)/float64(f.Simulations), 0.06)
}

// The real deadlines may be later than those that a plan with slack was made for.
func TestDeadlinesCanBeOthersThanTheProblems(t *testing.T) {
	p, plan := hired(t, 0)
	late := uncertain("tern-solo", leadtimes.Kept{Typical: 1.5})
	f, err := forecast.Simulate(t.Context(), p, plan, late, map[string]planning.Millis{"stair-030": 4_200_000}, forecast.Options{Simulations: 100, Seed: 3})
	require.NoError(t, err)
	assert.Equal(t, 1.0, f.Chance)
}

// What a farm has in hand is not in the problem, but its end, and its deadline, are the run's.
func TestWhatFarmsHaveInHandEndsToo(t *testing.T) {
	p, plan := loft(t, 40, 4, 3)
	none := simulated(t, p, plan, sure)
	with := func(held ...forecast.Held) forecast.Forecast {
		u := sure
		u.Held = held
		return simulated(t, p, plan, u)
	}
	same := with(forecast.Held{Shot: "stair-030", Ends: 60_000, Deadline: 3_600_000})
	assert.Equal(t, none.Finish, same.Finish, "it is through before the others")
	long := with(forecast.Held{Shot: "stair-030", Ends: 1_500_000, Deadline: 3_600_000})
	assert.InDelta(t, 1500, long.Finish.P50, 30)
	assert.Equal(t, long.Finish, long.Shots[0].Finish)
	assert.Greater(t, long.Chance, 0.9)
	late := with(forecast.Held{Shot: "coda-060", Ends: 1_500_000, Deadline: 1_500_000})
	assert.InDelta(t, 0.5, late.Chance, 0.08, "nothing else of its shot is left, and it is as likely late as not")
	assert.Equal(t, 1.0, late.Shots[0].Chance)
}
