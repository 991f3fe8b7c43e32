package replan

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// drawnPart is a run's shots on hosts that runs share, and on an offer and a farm.
func drawnPart(t *rapid.T, n, hosts int, start time.Time) Part {
	label := func(what string) string { return fmt.Sprint(what, " of part ", n) }
	step := minute
	p := planning.Problem{
		Format: planning.ProblemFormat, Start: start.Add(time.Duration(rapid.IntRange(0, 90).Draw(t, label("start"))) * time.Second), Currency: "EUR", Goal: planning.Cheapest,
		Offers: []planning.Offer{{ID: "tern-solo", Source: "tern", MaxServers: 2, Lead: minute, Wrap: minute, Price: pricing.MustMoney("3.00"), Increment: &step, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}}}},
		Farms:  []planning.Farm{{ID: "ebb", Source: "ebb", Nodes: 4, Lead: minute, NodePrice: pricing.MustMoney("1.00")}},
	}
	for h := range hosts {
		from := planning.Millis(rapid.IntRange(0, 30).Draw(t, label("from"))) * minute
		host := planning.Host{ID: fmt.Sprintf("host-%d", h), Windows: [][2]planning.Millis{{from, 900 * minute}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.10")}}}
		if rapid.IntRange(0, 3).Draw(t, label("has")) > 0 {
			p.Hosts = append(p.Hosts, host)
		}
	}
	for s := range rapid.IntRange(1, 2).Draw(t, label("shots")) {
		id := fmt.Sprintf("shot-%d", s) // the same names in all runs
		p.Shots = append(p.Shots, planning.Shot{ID: id, Frames: rapid.IntRange(1, 30).Draw(t, label("frames")), Deadline: planning.Millis(rapid.IntRange(30, 500).Draw(t, label("deadline"))) * minute})
		for _, h := range p.Hosts {
			p.Timings = append(p.Timings, planning.Timing{Shot: id, Host: h.ID, Crew: "g0", Frame: planning.Millis(rapid.IntRange(30, 300).Draw(t, label("takes"))) * 1000})
		}
		p.Timings = append(p.Timings, planning.Timing{Shot: id, Offer: "tern-solo", Crew: "g0", Frame: minute}, planning.Timing{Shot: id, Farm: "ebb", Frame: 4 * minute})
	}
	part := Part{Problem: p, Priority: rapid.IntRange(0, 1).Draw(t, label("priority"))}
	if n > 0 && rapid.Bool().Draw(t, label("lets")) {
		part.Plan.Servers = []planning.Server{{ID: "tern-solo#1", Offer: "tern-solo"}}
		part.Plan.Bookings = []planning.Booking{{Shot: "shot-0", Farm: "ebb", Nodes: 2, Frames: 1}}
	}
	return part
}

// Whatever runs are planned together: each part's plan is one of its own problem, with the price
// that it states, and no two of them have a host's device, a server or a node at once.
func TestWhatIsPlannedTogetherIsAPlanForEach(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		start := time.Date(2031, 3, 8, 6, 0, 0, 0, time.UTC)
		hosts := rapid.IntRange(1, 3).Draw(t, "hosts")
		var parts []Part
		for n := range rapid.IntRange(1, 3).Draw(t, "parts") {
			parts = append(parts, drawnPart(t, n, hosts, start))
		}
		all := Together(parts)
		require.NoError(t, all.Validate())
		plan, err := planning.Solve(t.Context(), all, planning.Options{})
		require.NoError(t, err)
		require.NoError(t, planning.Check(all, plan))
		if plan.Status != planning.Meets {
			t.Skip()
		}
		frames, lets, nodes, cost := 0, 0, 0, pricing.Money{}
		for i, one := range Apart(parts, all, plan) {
			require.NoError(t, planning.Check(parts[i].Problem, one), "part %d", i)
			cost = cost.Plus(one.Cost)
			lets += len(one.Servers)
			most := 0
			for _, b := range one.Bookings {
				frames += b.Frames
				most = max(most, b.Nodes)
			}
			nodes += most
		}
		wanted := 0
		for _, p := range parts {
			for _, s := range p.Problem.Shots {
				wanted += s.Frames
			}
		}
		assert.Equal(t, wanted, frames)
		assert.InDelta(t, plan.Cost.Float(), cost.Float(), 0.01*float64(len(parts)))
		assert.LessOrEqual(t, nodes, 4)
	})
}

func TestPlannedTogetherTheOneDueFirstGoesFirst(t *testing.T) {
	t.Parallel()
	start := time.Date(2031, 3, 8, 6, 0, 0, 0, time.UTC)
	run := func(shot string, frames int, due planning.Millis) Part {
		return Part{Problem: planning.Problem{
			Format: planning.ProblemFormat, Start: start, Currency: "EUR", Goal: planning.Cheapest,
			Shots:   []planning.Shot{{ID: shot, Frames: frames, Deadline: due}},
			Hosts:   []planning.Host{{ID: "eddy", Windows: [][2]planning.Millis{{0, 900 * minute}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}}}},
			Timings: []planning.Timing{{Shot: shot, Host: "eddy", Crew: "g0", Frame: minute}},
		}}
	}
	// The open run has the host for two hours, and until the evening; the new one is due in one.
	parts := []Part{run("storm-050", 50, 60*minute), run("orrery-020", 120, 600*minute)}
	all := Together(parts)
	plan, err := planning.Solve(t.Context(), all, planning.Options{})
	require.NoError(t, err)
	each := Apart(parts, all, plan)
	assert.Equal(t, []string{planning.Meets, planning.Meets}, []string{each[0].Status, each[1].Status})
	assert.LessOrEqual(t, each[0].Finish, 60*minute)
	assert.Equal(t, "orrery-020", each[1].Bookings[0].Shot)
}

func TestWhetherPlanningTogetherIsWorthIt(t *testing.T) {
	t.Parallel()
	now := time.Date(2031, 3, 8, 6, 0, 0, 0, time.UTC)
	out := func(chance float64, cost, outside string) Outlook {
		return Outlook{Chance: chance, Finish: now.Add(time.Hour), Cost: pricing.MustMoney(cost), Outside: pricing.MustMoney(outside)}
	}
	spare := pricing.MustMoney("3.00")
	late := Standing{Apart: out(0.2, "4.00", "0"), Together: out(0.97, "4.00", "0"), Wanted: 0.9}
	dear := Standing{Apart: out(0.97, "9.00", "8.00"), Together: out(0.96, "1.00", "0"), Wanted: 0.9}
	fine := Standing{Apart: out(0.97, "2.00", "0"), Together: out(0.92, "2.00", "1.00"), Wanted: 0.9, Spare: &spare}
	harmed := fine
	harmed.Together.Chance = 0.6
	lower := harmed
	lower.LessUrgent = true
	broke := fine
	broke.Together.Outside = pricing.MustMoney("3.01")
	for name, c := range map[string]struct {
		all  []Standing
		want string
	}{
		"saves the new one":                      {[]Standing{late, fine}, "97 % to be in time instead of 20 %"},
		"but not by another's deadline":          {[]Standing{late, fine, harmed}, ""},
		"unless that is less urgent":             {[]Standing{late, lower}, "97 % to be in time instead of 20 %"},
		"saves money":                            {[]Standing{dear, fine}, "EUR 8.00 less for all of them, 96 % to be in time"},
		"no money at the cost of a less urgent":  {[]Standing{dear, lower}, ""},
		"nor beyond what a run may spend":        {[]Standing{late, broke}, ""},
		"nothing is moved for what is as it was": {[]Standing{fine, fine}, ""},
	} {
		assert.Equal(t, c.want, Gain(c.all, now, "EUR"), name)
	}
	assert.True(t, MayGain(late.Apart, 0.9, pricing.MustMoney("4.00")))
	assert.True(t, MayGain(dear.Apart, 0.9, pricing.MustMoney("1.00")))
	assert.False(t, MayGain(dear.Apart, 0.9, pricing.MustMoney("8.90")))
}
