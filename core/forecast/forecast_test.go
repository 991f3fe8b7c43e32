package forecast_test

import (
	"fmt"
	"math"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/pricing"
)

// loft is one shot on a number of hosts, with the deadline so much after what the
// frames take.
func loft(t testing.TB, frames, hosts int, spare float64) (planning.Problem, planning.Plan) {
	p := planning.Problem{Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest}
	need := planning.Millis(frames/hosts) * 60_000
	p.Shots = []planning.Shot{{ID: "stair-030", Frames: frames, Deadline: planning.Millis(float64(need) * spare)}}
	for i := range hosts {
		id := fmt.Sprintf("h%d", i)
		p.Hosts = append(p.Hosts, planning.Host{ID: id, Windows: [][2]planning.Millis{{0, 4 * need}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.60")}}})
		p.Timings = append(p.Timings, planning.Timing{Shot: "stair-030", Host: id, Crew: "g0", Frame: 60_000})
	}
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	return p, plan
}

func simulated(t testing.TB, p planning.Problem, plan planning.Plan, u forecast.Uncertainty) forecast.Forecast {
	f, err := forecast.Simulate(t.Context(), p, plan, u, nil, forecast.Options{Simulations: 400, Seed: 7})
	require.NoError(t, err)
	return f
}

var sure = forecast.Uncertainty{Ratios: map[string][]float64{"stair-030": {1, 1, 1, 1, 1, 1, 1, 1}}, Fails: map[string]float64{"h0": 0, "h1": 0, "h2": 0, "h3": 0}}

// Without uncertainty every simulation is the plan itself.
func TestWithoutUncertaintyThePlanComesTrue(t *testing.T) {
	p, plan := loft(t, 200, 4, 1.2)
	f := simulated(t, p, plan, sure)
	assert.Equal(t, 1.0, f.Chance)
	assert.InDelta(t, plan.Finish.Duration().Seconds(), f.Finish.P50, 1)
	assert.InDelta(t, plan.Cost.Float(), f.Cost.P50, 0.01)
	assert.Equal(t, f.Finish.P50, f.Finish.P90)
}

// More time to spare is more chance; half as many tries that fail cost as much as
// they take.
func TestChanceRisesWithTimeToSpare(t *testing.T) {
	var last float64
	for _, spare := range []float64{1.0, 1.03, 1.06, 1.3} {
		p, plan := loft(t, 400, 4, spare)
		f := simulated(t, p, plan, forecast.Uncertainty{})
		assert.GreaterOrEqual(t, f.Chance, last, "spare %v", spare)
		last = f.Chance
	}
	assert.Greater(t, last, 0.99)
	p, plan := loft(t, 400, 4, 1.0)
	assert.Less(t, simulated(t, p, plan, forecast.Uncertainty{}).Chance, 0.2, "no time to spare, and frames that vary")
}

func TestFailuresCostTimeAndMoney(t *testing.T) {
	p, plan := loft(t, 200, 4, 1.5)
	failing := sure
	failing.Fails = map[string]float64{"h0": 0.04, "h1": 0.04, "h2": 0.04, "h3": 0.04}
	f := simulated(t, p, plan, failing)
	// Of every 25 tries one fails, after half a frame on average: 0.04/0.96 × 0.5 more.
	assert.InDelta(t, (1+0.5*0.04/0.96)*plan.Cost.Float(), f.Cost.P50, 0.005*plan.Cost.Float())
	assert.Greater(t, f.Finish.P50, plan.Finish.Duration().Seconds())
	// A frame that fails three times is given up: 200 × 0.04³ of the runs.
	assert.InDelta(t, 200*math.Pow(0.04, 3), float64(f.Never)/float64(f.Simulations), 0.01)
}

// A host that turns out slow is helped by the others, as in a run.
func TestOthersHelpASlowCrew(t *testing.T) {
	p, plan := loft(t, 200, 4, 2)
	slow := sure
	slow.Typical = map[string]float64{}
	for _, row := range p.Timings {
		slow.Typical[forecast.TimingKey(row)] = 0.4
	}
	f := simulated(t, p, plan, slow)
	// Alone, the slowest of four would be exp(0.4 × 1.03) = 1.5 times as slow at the middle.
	assert.Less(t, f.Finish.P50, 1.4*plan.Finish.Duration().Seconds())
}

func TestTheSameSeedGivesTheSameForecastOnAnyNumberOfCores(t *testing.T) {
	p, plan := loft(t, 200, 4, 1.05)
	first := simulated(t, p, plan, forecast.Uncertainty{})
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	assert.Equal(t, first, simulated(t, p, plan, forecast.Uncertainty{}))
}

func TestNothingToSimulate(t *testing.T) {
	_, err := forecast.Simulate(t.Context(), planning.Problem{}, planning.Plan{Status: planning.Impossible}, forecast.Uncertainty{}, nil, forecast.Options{})
	require.ErrorIs(t, err, forecast.ErrNothing)
	p, plan := loft(t, 8, 2, 1.5)
	plan.Bookings = nil
	f := simulated(t, p, plan, sure)
	assert.Equal(t, 1.0, f.Chance, "what nobody is booked for is rendered by whoever is free")
	p.Hosts, p.Timings = nil, nil
	_, err = forecast.Simulate(t.Context(), p, plan, sure, nil, forecast.Options{})
	require.ErrorIs(t, err, forecast.ErrNothing)
}

// BenchmarkSimulate is a thousand simulations of a plan of 20,000 frames.
func BenchmarkSimulate(b *testing.B) {
	p, plan := loft(b, 20_000, 40, 1.1)
	for b.Loop() {
		if _, err := forecast.Simulate(b.Context(), p, plan, forecast.Uncertainty{}, nil, forecast.Options{Simulations: 1000}); err != nil {
			b.Fatal(err)
		}
	}
}

func TestAChanceIsNeverRoundedToCertainty(t *testing.T) {
	assert.Equal(t, "under 1 %", forecast.Percent(0.004))
	assert.Equal(t, "0 %", forecast.Percent(0))
	assert.Equal(t, "92 %", forecast.Percent(0.918))
	assert.Equal(t, "over 99 %", forecast.Percent(1))
}

// What slows all crews together makes a plan less sure, where what slows each by itself
// mostly evens out.
func TestWhatAllCrewsShareMakesAPlanLessSure(t *testing.T) {
	p := planning.Problem{
		Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest,
		Shots: []planning.Shot{{ID: "coda-060", Frames: 400, Deadline: 104 * 60_000}},
		Hosts: []planning.Host{{ID: "eddy", Windows: [][2]planning.Millis{{0, 600 * 60_000}}}},
	}
	plan := planning.Plan{Format: planning.PlanFormat, Status: planning.Meets}
	for _, id := range []string{"g0", "g1", "g2", "g3"} {
		p.Hosts[0].Crews = append(p.Hosts[0].Crews, planning.Crew{ID: id, Devices: []string{id}})
		p.Timings = append(p.Timings, planning.Timing{Shot: "coda-060", Host: "eddy", Crew: id, Frame: 60_000})
		plan.Bookings = append(plan.Bookings, planning.Booking{Shot: "coda-060", Host: "eddy", Crew: id, Frames: 100, End: 100 * 60_000})
	}
	even := make([]float64, 8)
	for i := range even {
		even[i] = 1
	}
	u := forecast.Uncertainty{Ratios: map[string][]float64{"coda-060": even}, Fails: map[string]float64{"eddy": 1e-12}}
	sure, err := forecast.Simulate(t.Context(), p, plan, u, nil, forecast.Options{Simulations: 2000, Seed: 1})
	require.NoError(t, err)
	assert.Equal(t, 1.0, sure.Chance)
	u.Common = 0.04
	f, err := forecast.Simulate(t.Context(), p, plan, u, nil, forecast.Options{Simulations: 2000, Seed: 1})
	require.NoError(t, err)
	assert.InDelta(t, 0.84, f.Chance, 0.03, "4 % are to spare: one standard deviation")
	assert.InDelta(t, 1.28*0.04*6000, f.Finish.P90-f.Finish.P50, 40)
}

// Where all is clear, fewer simulations say the same, and as many as there were of them.
func TestAForecastEndsWhereItIsClear(t *testing.T) {
	t.Parallel()
	p := planningtest.Parse(t, planningtest.Gale)
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	of := func(due planning.Millis, clear int) forecast.Forecast {
		deadlines := map[string]planning.Millis{}
		for _, s := range p.Shots {
			deadlines[s.ID] = due
		}
		f, err := forecast.Simulate(t.Context(), p, plan, forecast.Uncertainty{}, deadlines, forecast.Options{Simulations: 200, Seed: 3, Clear: clear})
		require.NoError(t, err)
		return f
	}
	early, late := of(plan.Finish*3, 40), of(1, 40)
	assert.Equal(t, 40, early.Simulations)
	assert.Equal(t, 1.0, early.Chance)
	assert.Equal(t, 40, late.Simulations)
	assert.Zero(t, late.Chance)
	half := planning.Millis(1000 * of(plan.Finish*3, 0).Finish.P50)
	assert.Equal(t, of(half, 0), of(half, 40), "where it is not, nothing is left out")
}
