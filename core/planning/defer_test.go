package planning_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
)

const rented = `{"format":"rotanex-problem-1","start":"2031-03-03T18:00:00Z","currency":"EUR","goal":"cheapest",
	"shots":[{"id":"gale-010","frames":30,"ready_s":0,"deadline_s":2000}],
	"hosts":[{"id":"eddy","windows":[[0,9000]],"crews":[{"id":"g0","devices":["g0"]}]}],
	"offers":[{"id":"tern-solo","source":"tern","max_servers":2,"lead_s":100,"wrap_s":20,"price_h":"3.60","increment_s":1,"crews":[{"id":"g0","devices":["g0"]}]}],
	"timings":[{"shot":"gale-010","host":"eddy","crew":"g0","frame_s":100},{"shot":"gale-010","offer":"tern-solo","crew":"g0","frame_s":50}],
	"transfers":[{"shot":"gale-010","source":"tern","upload_s":30,"delivery_s":7}]}`

func TestServersAreLetAsLateAsTheyCan(t *testing.T) {
	t.Parallel()
	p := planningtest.Parse(t, rented)
	plan := planningtest.Solve(t, p)
	require.Len(t, plan.Servers, 1)
	later := planning.Defer(p, plan)
	require.NoError(t, planning.Check(p, later))
	assert.Equal(t, plan.Cost, later.Cost)
	assert.Greater(t, later.Servers[0].From, plan.Servers[0].From)
	assert.Equal(t, planning.Millis(2_000_000), later.Finish, "the last frame is home when it is due")
	assert.Equal(t, later, planning.Defer(p, later))
	assert.Equal(t, framesAt(plan), framesAt(later))
}

func TestADeferredPlanIsValidAndCostsTheSame(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		plan := planningtest.Solve(t, p)
		later := planning.Defer(p, plan)
		require.NoError(t, planning.Check(p, later))
		assert.Equal(t, plan.Cost, later.Cost)
		for i, v := range later.Servers {
			assert.GreaterOrEqual(t, v.From, plan.Servers[i].From)
		}
	})
}
