package replan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

func TestWhichScheduleIsSurer(t *testing.T) {
	t.Parallel()
	f := func(chance, half float64) Next {
		return Next{Outlook: Outlook{Chance: chance}, Forecast: forecast.Forecast{Chance: chance, Finish: forecast.Spread{P50: half}}}
	}
	behind := f(0.97, 100)
	behind.Outlook.Behind = 0.8
	for name, c := range map[string]struct {
		next, before Next
		surer        bool
	}{
		"much surer":                       {f(0.9, 100), f(0.5, 90), true},
		"much less sure":                   {f(0.5, 90), f(0.9, 100), false},
		"by luck":                          {f(0.91, 90), f(0.9, 100), false},
		"both late, it ends earlier":       {f(0, 90), f(0.01, 100), true},
		"both late, it ends later":         {f(0, 110), f(0, 100), false},
		"both late, the other never ends":  {f(0, 110), f(0, -1), true},
		"neither ends":                     {f(0, -1), f(0, -1), false},
		"sure enough, much surer":          {f(1, 90), f(0.95, 100), true},
		"sure enough, the other is behind": {f(0.95, 100), behind, true},
		"the same, and neither is certain": {f(0.5, 90), f(0.5, 100), false},
	} {
		assert.Equal(t, c.surer, (&Rest{Wanted: 0.95}).surer(c.next, c.before), name)
	}
}

// Of a run that was to cost EUR 10, a tenth of the chance is worth EUR 4.
func TestNoMoreIsSpentForAChanceThanItIsWorth(t *testing.T) {
	t.Parallel()
	of := func(chance, expected float64) Outlook {
		return Outlook{Chance: chance, Expected: expected, Cost: pricing.MustMoney("1.00"), Finish: six}
	}
	spare := pricing.MustMoney("1.00")
	r := Rest{Wanted: 0.95, Planned: pricing.MustMoney("10.00"), Policy: Auto, Spare: &spare}
	decide := func(present, next Outlook) string { return Decide(Auto, present, next, r.limits()).Gain }
	assert.NotEmpty(t, decide(of(0.86, 2), of(0.96, 5.9)))
	assert.Empty(t, decide(of(0.86, 2), of(0.96, 6.1)))
	assert.NotEmpty(t, decide(of(0.01, 2), of(0.2, 90)), "what is lost otherwise is tried")
	cheaper := of(0.97, 1.5)
	cheaper.Cost = pricing.Money{}
	assert.NotEmpty(t, decide(of(0.97, 2.1), cheaper))
	assert.Empty(t, decide(of(0.97, 1.9), cheaper), "it would be spent on the way, mostly")
	next := func(chance, expected float64) Next {
		return Next{Forecast: forecast.Forecast{Chance: chance}, Outlook: of(chance, expected)}
	}
	assert.True(t, r.surer(next(0.9, 5.9), next(0.8, 2)))
	assert.False(t, r.surer(next(0.9, 6.1), next(0.8, 2)))

	spare = pricing.MustMoney("30.00")
	assert.NotEmpty(t, decide(of(0.86, 2), of(0.96, 7.9)), "who may spend EUR 30 has a deadline of EUR 60")
	r.asks = true
	assert.NotEmpty(t, decide(of(0.86, 2), of(0.96, 90)), "a person decides")
}

// A host may have been taken out of the stock since a plan was made, which is judged beside a newer rest.
func TestAPlanIsJudgedByTheProblemThatItIsOf(t *testing.T) {
	t.Parallel()
	host := func(id string) planning.Host {
		return planning.Host{ID: id, Windows: [][2]planning.Millis{{0, 36_000_000}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}}}
	}
	then := planning.Problem{
		Format: planning.ProblemFormat, Start: six, Currency: "EUR", Goal: planning.Cheapest,
		Shots: []planning.Shot{{ID: "gale-010", Frames: 10, Deadline: 3_600_000}}, Hosts: []planning.Host{host("bellows"), host("anvil")},
		Timings: []planning.Timing{{Shot: "gale-010", Host: "bellows", Crew: "g0", Frame: 60_000}, {Shot: "gale-010", Host: "anvil", Crew: "g0", Frame: 90_000}},
	}
	plan, err := planning.Solve(t.Context(), then, planning.Options{})
	require.NoError(t, err)
	now := then
	now.Hosts, now.Timings = then.Hosts[1:], then.Timings[1:]
	rest := Rest{Problem: now, Wanted: 0.95}
	next, err := rest.Of(t.Context(), then, plan, 0)
	require.NoError(t, err)
	assert.Greater(t, next.Outlook.Chance, 0.9)
}
