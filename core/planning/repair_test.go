package planning_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
)

const twins = `{"format":"rotanex-problem-1","start":"2031-03-03T18:00:00Z","currency":"EUR","goal":"cheapest",
	"shots":[{"id":"gale-010","frames":12,"ready_s":0,"deadline_s":100}],
	"hosts":[{"id":"eddy","windows":[[0,900]],"crews":[{"id":"g0","devices":["g0"]}]},{"id":"dory","windows":[[0,900]],"crews":[{"id":"g0","devices":["g0"]}]}],
	"timings":[{"shot":"gale-010","host":"eddy","crew":"g0","frame_s":10},{"shot":"gale-010","host":"dory","crew":"g0","frame_s":10}]}`

// slower is the problem with frames on a host that take so many times as long.
func slower(p planning.Problem, host string, by planning.Millis) planning.Problem {
	p.Timings = slices.Clone(p.Timings)
	for i := range p.Timings {
		if p.Timings[i].Host == host {
			p.Timings[i].Frame *= by
		}
	}
	return p
}

func framesAt(plan planning.Plan) map[string]int {
	out := map[string]int{}
	for _, b := range plan.Bookings {
		out[b.Where()] += b.Frames
	}
	return out
}

func TestOnlyWhatIsTooMuchIsMoved(t *testing.T) {
	p := planningtest.Parse(t, twins)
	plan := planningtest.Solve(t, p)
	require.Equal(t, map[string]int{"eddy": 6, "dory": 6}, framesAt(plan))
	same, ok := planning.Repair(p, plan)
	require.True(t, ok)
	assert.Equal(t, framesAt(plan), framesAt(same), "where nothing is wrong nothing is moved")

	repaired, ok := planning.Repair(slower(p, "eddy", 2), plan)
	require.True(t, ok)
	assert.Equal(t, map[string]int{"eddy": 5, "dory": 7}, framesAt(repaired), "eddy is through with five by then")
	assert.True(t, repaired.CostBound.IsZero(), "it proves nothing")

	_, ok = planning.Repair(slower(p, "eddy", 20), plan)
	assert.False(t, ok, "dory alone is not in time with twelve")
	p.Hosts[0].ID, p.Timings[0].Host = "punt", "punt"
	after, ok := planning.Repair(p, plan)
	require.True(t, ok)
	assert.Equal(t, map[string]int{"dory": 6, "punt": 6}, framesAt(after), "what a host that is gone had goes to others")
}

// What a plan books of servers and farms is let again, and no server more.
func TestServersAreRepairedInTheirTime(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	p.Farms, p.Timings = nil, p.Timings[:2]
	plan := planningtest.Solve(t, p)
	require.Len(t, plan.Servers, 1)
	repaired, ok := planning.Repair(slower(p, "anvil", 40), plan)
	require.True(t, ok)
	assert.Len(t, repaired.Servers, 1)
	assert.Equal(t, map[string]int{"tern-solo#1": 100}, framesAt(repaired), "it is kept for as long as that takes")
	plan.Servers, plan.Bookings = nil, slices.DeleteFunc(plan.Bookings, func(b planning.Booking) bool { return b.Server != "" })
	_, ok = planning.Repair(p, plan)
	assert.False(t, ok, "a server that was not let is Solve's to find")
}

func TestARepairedPlanIsValidAndMovesNoMoreThanItMust(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		plan := planningtest.Solve(t, p)
		if plan.Status != planning.Meets {
			return
		}
		same, ok := planning.Repair(p, plan)
		require.True(t, ok, "a plan that is in time needs no repair")
		require.Equal(t, framesAt(plan), framesAt(same))

		worse := slower(p, "h0", planning.Millis(rapid.IntRange(1, 4).Draw(t, "slower")))
		repaired, ok := planning.Repair(worse, plan)
		if !ok {
			return
		}
		require.NoError(t, planning.Check(worse, repaired))
		assert.LessOrEqual(t, len(repaired.Servers), len(plan.Servers))
		for where, n := range framesAt(plan) {
			if where != "h0" {
				assert.GreaterOrEqual(t, framesAt(repaired)[where], n, "%s has no less to do than before", where)
			}
		}
		best, err := planning.Solve(context.Background(), worse, planning.Options{})
		require.NoError(t, err)
		require.Equal(t, planning.Meets, best.Status, "there is a plan in time: the repaired one")
		assert.LessOrEqual(t, best.CostBound.Cmp(repaired.Cost), 0)
	})
}

// What costs as much is left as it was in the plan to start from, and what costs less is found still.
func TestSolveStartsFromAnEarlierPlan(t *testing.T) {
	t.Parallel()
	p := planningtest.Parse(t, twins)
	p.Shots[0].Deadline = 200_000
	earlier := planningtest.Solve(t, p)
	earlier.Bookings = []planning.Booking{
		{Shot: "gale-010", Host: "eddy", Crew: "g0", Frames: 2, End: 20_000}, {Shot: "gale-010", Host: "dory", Crew: "g0", Frames: 10, End: 100_000},
	}
	p.Shots[0].Deadline = 100_000 // there is no sooner plan that leaves dory its ten
	again, err := planning.Solve(t.Context(), p, planning.Options{From: &earlier})
	require.NoError(t, err)
	assert.Equal(t, planning.Meets, again.Status)

	rapid.Check(t, func(t *rapid.T) {
		q := slower(p, rapid.SampledFrom([]string{"eddy", "dory"}).Draw(t, "slow"), planning.Millis(rapid.IntRange(1, 3).Draw(t, "by")))
		fresh, err := planning.Solve(context.Background(), q, planning.Options{})
		require.NoError(t, err)
		from, err := planning.Solve(context.Background(), q, planning.Options{From: &earlier})
		require.NoError(t, err)
		assert.Equal(t, fresh.Status, from.Status)
		assert.Equal(t, fresh.Cost.String(), from.Cost.String())
	})
}
