package planning_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Ten frames of a minute on the host take ten minutes; with the server beside it, that is there after two, six: 6 of the host's and 4.
func TestTheFastestPlanAndWhatNoneCanBeat(t *testing.T) {
	t.Parallel()
	const minute = planning.Millis(60_000)
	p := planning.Problem{
		Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Fastest,
		Shots: []planning.Shot{{ID: "gale-010", Frames: 10, Deadline: 30 * minute}},
		Hosts: []planning.Host{{ID: "bellows", Windows: [][2]planning.Millis{{0, 60 * minute}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.60")}}}},
		Offers: []planning.Offer{{
			ID: "tern-solo", Source: "tern", MaxServers: 1, Lead: 2 * minute, Price: pricing.MustMoney("6.00"), Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}},
		}},
		Timings: []planning.Timing{{Shot: "gale-010", Host: "bellows", Crew: "g0", Frame: minute}, {Shot: "gale-010", Offer: "tern-solo", Crew: "g0", Frame: minute}},
	}
	for budget, finish := range map[string]planning.Millis{"0.10": 10 * minute, "5.00": 6 * minute} {
		most := pricing.MustMoney(budget)
		p.Budget = &most
		plan, err := planning.Solve(t.Context(), p, planning.Options{})
		require.NoError(t, err)
		assert.Equal(t, planning.Meets, plan.Status)
		assert.Equal(t, finish, plan.Finish, "for EUR %s", budget)
		assert.Equal(t, finish, plan.FinishBound, "for EUR %s no plan is sooner", budget)
	}
	p.Goal, p.Budget = planning.Cheapest, nil
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	assert.Zero(t, plan.FinishBound)
}

// No plan that is found by trying everything is sooner, inside the budget, than it is said that none is.
func TestFinishBoundsAgainstTryingEverything(t *testing.T) {
	t.Parallel()
	met, proven := 0, 0
	for seed := range uint64(60) {
		p := jumble(rand.New(rand.NewPCG(seed, 19)))
		least := bruteForce(p)
		if math.IsInf(least, 1) {
			continue
		}
		budget := pricing.MustMoney(fmt.Sprintf("%.2f", least*(1+float64(seed%4)/4)+0.005))
		p.Goal, p.Budget = planning.Fastest, &budget
		plan, err := planning.Solve(t.Context(), p, planning.Options{})
		require.NoError(t, err)
		if plan.Status != planning.Meets {
			continue
		}
		met++
		require.LessOrEqual(t, plan.FinishBound, plan.Finish)
		if plan.FinishBound == plan.Finish {
			proven++
		}
		for i := range p.Shots { // the last whole second before
			p.Shots[i].Deadline = min(p.Shots[i].Deadline, max(0, (plan.FinishBound-1)/1000*1000))
		}
		if sooner := bruteForce(p); !math.IsInf(sooner, 1) {
			cost := pricing.MustMoney(fmt.Sprintf("%.6f", sooner)).Rounded()
			assert.Positive(t, cost.Cmp(budget), "seed %d: EUR %s of %s pay for an earlier end than %d ms", seed, cost, budget, plan.FinishBound)
		}
	}
	t.Logf("%d as fast as can be, %d proven", met, proven)
	assert.Greater(t, 3*proven, met)
}
