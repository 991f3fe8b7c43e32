package planning_test

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// queueing is one host with one crew and shots of ten frames of ten seconds each, all due
// when one of them can be done.
func queueing(priorities ...int) planning.Problem {
	p := planning.Problem{Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest, Hosts: []planning.Host{{
		ID: "anvil", Windows: [][2]planning.Millis{{0, 1_000_000}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.36")}},
	}}}
	for i, n := range priorities {
		id := fmt.Sprintf("s%d", i)
		p.Shots = append(p.Shots, planning.Shot{ID: id, Frames: 10, Deadline: 100_000, Priority: n})
		p.Timings = append(p.Timings, planning.Timing{Shot: id, Host: "anvil", Crew: "g0", Frame: 10_000})
	}
	return p
}

// lateBy is how late each shot is, never less than 0.
func lateBy(p planning.Problem, plan planning.Plan) map[string]planning.Millis {
	out := map[string]planning.Millis{}
	for _, s := range p.Shots {
		for _, b := range plan.Bookings {
			if b.Shot == s.ID {
				out[s.ID] = max(out[s.ID], b.End-s.Deadline)
			}
		}
	}
	return out
}

func TestAHigherPriorityIsKeptFirst(t *testing.T) {
	for name, x := range map[string]struct {
		priorities []int
		late       []planning.Millis
	}{
		"the first":                 {[]int{1, 0}, []planning.Millis{0, 100_000}},
		"the second":                {[]int{0, 1}, []planning.Millis{100_000, 0}},
		"below nothing":             {[]int{0, -3}, []planning.Millis{0, 100_000}},
		"one after another":         {[]int{1, 3, 2}, []planning.Millis{200_000, 0, 100_000}},
		"of two alike the greatest": {[]int{7, 7}, nil},
	} {
		p := queueing(x.priorities...)
		plan, err := planning.Solve(t.Context(), p, planning.Options{})
		require.NoError(t, err, name)
		require.Equal(t, planning.Late, plan.Status, name)
		late := lateBy(p, plan)
		for i, want := range x.late {
			assert.Equal(t, want, late[fmt.Sprintf("s%d", i)], "%s: s%d", name, i)
		}
		if x.late == nil {
			assert.Equal(t, planning.Millis(100_000), plan.Lateness(p), name)
		}
	}
}

// Where all deadlines can be met, priorities change nothing.
func TestPrioritiesDoNotMatterInTime(t *testing.T) {
	p := queueing(0, 1)
	for i := range p.Shots {
		p.Shots[i].Deadline = 200_000
	}
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	assert.Equal(t, planning.Meets, plan.Status)
}

// The shots of the highest priority are as little late as if there were no others.
func TestNoLowerPriorityMakesAHigherOneLater(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		p.Shots[0].Deadline = planning.Millis(rapid.IntRange(1, 12).Draw(t, "soon")) * 500
		urgent := p
		urgent.Shots = slices.Clone(p.Shots)
		other := p.Shots[0]
		other.ID, other.Priority = "low", -1-rapid.IntRange(0, 3).Draw(t, "lower")
		p.Shots = append(slices.Clone(p.Shots), other)
		for _, row := range slices.Clone(p.Timings) {
			row.Shot = other.ID
			p.Timings = append(p.Timings, row)
		}
		alone, err := planning.Solve(context.Background(), urgent, planning.Options{})
		if err != nil || alone.Status == planning.Impossible {
			return
		}
		both, err := planning.Solve(context.Background(), p, planning.Options{})
		if err != nil || both.Status == planning.Impossible {
			return // there is no room for the other at all
		}
		require.NoError(t, planning.Check(p, both))
		home := func(plan planning.Plan) planning.Millis {
			only := plan
			only.Bookings = slices.DeleteFunc(slices.Clone(plan.Bookings), func(b planning.Booking) bool { return b.Shot != "s" })
			return max(0, only.Lateness(urgent))
		}
		assert.Equal(t, home(alone), home(both))
	})
}
