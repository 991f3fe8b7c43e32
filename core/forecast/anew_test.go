package forecast_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// upset is a shot on two own hosts, with servers at hand that the plan does not need.
func upset(t testing.TB) (planning.Problem, planning.Plan) {
	p, _ := loft(t, 200, 2, 1.15)
	step := planning.Millis(60_000)
	p.Offers = []planning.Offer{{
		ID: "tern-solo", Source: "tern", MaxServers: 3, Lead: 300_000, Price: pricing.MustMoney("6.00"), Increment: &step,
		Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}},
	}}
	p.Timings = append(p.Timings, planning.Timing{Shot: "stair-030", Offer: "tern-solo", Crew: "g0", Frame: 60_000})
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	require.Empty(t, plan.Servers)
	return p, plan
}

func TestARunThatHasLongToGoIsLookedAtLessOften(t *testing.T) {
	assert.Equal(t, 5*time.Minute, forecast.LookAfter(0), "it is not known")
	assert.Equal(t, 5*time.Minute, forecast.LookAfter(3*time.Hour))
	assert.Equal(t, 12*time.Minute, forecast.LookAfter(10*time.Hour))
	assert.Equal(t, 20*time.Minute, forecast.LookAfter(60*time.Hour))
}

func expected(t testing.TB, p planning.Problem, plan planning.Plan, rates disruptions.Rates, mayLet float64) forecast.Forecast {
	u := sure
	u.Disruptions = rates
	f, err := forecast.Simulate(t.Context(), p, plan, u, nil, forecast.Options{Simulations: 250, Seed: 3, MayLet: mayLet})
	require.NoError(t, err)
	return f
}

func TestSlowedAndLostHostsMakeAPlanLate(t *testing.T) {
	p, plan := upset(t)
	even := expected(t, p, plan, disruptions.Rates{}, 0)
	assert.Equal(t, 1.0, even.Chance)
	slowed := expected(t, p, plan, disruptions.Rates{SlowedEvery: 10 * time.Hour, SlowedFor: 2 * time.Hour, SlowedTimes: 3}, 0)
	lost := expected(t, p, plan, disruptions.Rates{LostEvery: 10 * time.Hour}, 0)
	urgent := expected(t, p, plan, disruptions.Rates{UrgentEvery: 6 * time.Hour, UrgentFor: time.Hour}, 0)
	for name, f := range map[string]forecast.Forecast{"slowed": slowed, "lost": lost, "urgent": urgent} {
		assert.Less(t, f.Chance, 0.9, name)
		assert.Greater(t, f.Chance, 0.2, name)
		assert.Greater(t, f.Finish.P90, even.Finish.P90, name)
	}
	// Two hosts render for 100 min each: both are there to the end in 72 % of the runs, and a few
	// more are saved by the time that is spare.
	assert.InDelta(t, 0.75, lost.Chance, 0.08)
	assert.NotZero(t, lost.Never, "both are lost now and then")
}

func TestAShotThatIsKnownWellIsNotExpectedToGrowHeavier(t *testing.T) {
	p, plan := upset(t)
	rates := disruptions.Rates{Heavier: 1, HeavierTimes: 3}
	assert.Equal(t, 1.0, expected(t, p, plan, rates, 0).Chance, "eight frames of it were timed")
	unknown := sure
	unknown.Ratios, unknown.Disruptions = nil, rates
	before := simulated(t, p, plan, unknown)
	unknown.Rendered = map[string]float64{"stair-030": 0.9}
	late := simulated(t, p, plan, unknown)
	assert.Less(t, before.Chance, 0.3)
	assert.Greater(t, late.Chance, before.Chance, "what is left is a tenth of it")
}

func TestServersThatAreLetOnTheWaySaveDeadlinesAsLongAsTheMoneyLasts(t *testing.T) {
	p, plan := upset(t)
	rates := disruptions.Rates{SlowedEvery: 5 * time.Hour, SlowedFor: 2 * time.Hour, SlowedTimes: 3, LostEvery: 40 * time.Hour}
	none := expected(t, p, plan, rates, 0)
	little := expected(t, p, plan, rates, 5)
	much := expected(t, p, plan, rates, 60)
	assert.Less(t, none.Chance, little.Chance)
	assert.Less(t, little.Chance, much.Chance)
	assert.Greater(t, much.Chance, 0.8)
	assert.LessOrEqual(t, none.Cost.P90, plan.Cost.Float()+2, "slow frames take more power, and nothing is let")
	assert.Greater(t, much.Cost.P90, little.Cost.P90)
	assert.Less(t, little.Cost.P90, none.Cost.P90+5+1, "what is let may take longer than was expected, but no more is let")
	even := expected(t, p, plan, disruptions.Rates{}, 60)
	assert.InDelta(t, plan.Cost.Float(), even.Cost.P90, 0.01, "nothing is let where nothing falls behind")
}

// A problem of many frames is forecast as one of as much work in fewer.
func TestManyFramesAreTakenTogether(t *testing.T) {
	few, planOfFew := loft(t, 2000, 4, 1.02)
	many, planOfMany := loft(t, 400_000, 4, 1.02)
	for _, u := range []forecast.Uncertainty{{Common: 0.02}, {Fails: map[string]float64{"h0": 0.1}, Common: 0.02}} {
		fewer := forecast.Options{Simulations: 80, Seed: 7}
		one, err := forecast.Simulate(t.Context(), few, planOfFew, u, nil, fewer)
		require.NoError(t, err)
		other, err := forecast.Simulate(t.Context(), many, planOfMany, u, nil, fewer)
		require.NoError(t, err)
		assert.Zero(t, other.Never)
		assert.InDelta(t, one.Chance, other.Chance, 0.2)
		assert.InEpsilon(t, 200*one.Finish.P50, other.Finish.P50, 0.01)
		assert.InEpsilon(t, 200*one.Finish.P90, other.Finish.P90, 0.01)
		assert.InEpsilon(t, 200*one.Cost.P50, other.Cost.P50, 0.01)
	}
}

// What falls behind is let for when it has to be, not before: most of it may be made up for.
func TestNothingIsLetBeforeItHasToBe(t *testing.T) {
	slower := func(by float64, mayLet float64) forecast.Forecast {
		p, plan := upset(t)
		for i, row := range p.Timings {
			if row.Host != "" {
				p.Timings[i].Frame = planning.Millis(float64(row.Frame) * by)
			}
		}
		return expected(t, p, plan, disruptions.Rates{}, mayLet)
	}
	even := slower(1, 60)
	assert.Zero(t, even.Behind)
	little := slower(1.3, 60)
	assert.Zero(t, little.Behind, "three servers do what is late in a fifth of the time that is left")
	assert.Greater(t, little.Chance, 0.95, "and they are let later on")
	assert.Zero(t, slower(1.3, 0).Chance)
	much := slower(1.6, 60)
	assert.Greater(t, much.Behind, 0.9)
	assert.Greater(t, much.Chance, 0.95)
	assert.Zero(t, slower(1.6, 0).Behind, "nothing may be let")
}

// What a slow crew owes and a faster one has done is not behind: nothing is let for it.
func TestNothingIsLetForFramesThatOthersTook(t *testing.T) {
	p, plan := upset(t)
	u := sure
	u.Typical = map[string]float64{forecast.TimingKey(p.Timings[0]): 0.15}
	of := func(mayLet float64) forecast.Forecast {
		f, err := forecast.Simulate(t.Context(), p, plan, u, nil, forecast.Options{Simulations: 200, Seed: 3, MayLet: mayLet})
		require.NoError(t, err)
		return f
	}
	none, much := of(0), of(60)
	require.Greater(t, none.Chance, 0.95)
	assert.InDelta(t, none.MeanCost, much.MeanCost, 0.05)
}
