package questions_test

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
)

func TestWhatIsAssumedChangesTheProblemAndNothingElse(t *testing.T) {
	at := time.Date(2031, 3, 3, 23, 0, 0, 0, time.UTC)
	price := pricing.MustMoney("1.25")
	for _, c := range []struct {
		a    questions.Assumption
		text string
		then func(planning.Problem) bool
	}{
		{
			questions.Assumption{What: "host", Name: "anvil-2", Like: "anvil"},
			"a host anvil-2 like anvil",
			func(p planning.Problem) bool {
				return len(p.Hosts) == 2 && len(p.Timings) == 4 && p.Timings[3].Host == "anvil-2"
			},
		},
		{
			questions.Assumption{What: "offer", Name: "tern-duo", Like: "tern-solo", Price: &price, Count: 5},
			"an offer tern-duo like tern-solo at EUR 1.25 an hour",
			func(p planning.Problem) bool { return p.Offers[1].MaxServers == 5 && p.Offers[1].Price.Cmp(price) == 0 },
		},
		{
			questions.Assumption{What: "price", Name: "tern-solo", Price: &price},
			"tern-solo costs EUR 1.25 an hour",
			func(p planning.Problem) bool { return p.Offers[0].Price.Cmp(price) == 0 },
		},
		{
			questions.Assumption{What: "price", Name: "anvil", Price: &price},
			"anvil costs EUR 1.25 an hour",
			func(p planning.Problem) bool { return p.Hosts[0].Crews[0].BusyPrice.Cmp(price) == 0 },
		},
		{
			questions.Assumption{What: "servers", Name: "tern-solo", Count: 7},
			"up to 7 servers of tern-solo",
			func(p planning.Problem) bool { return p.Offers[0].MaxServers == 7 },
		},
		{
			questions.Assumption{What: "time", Name: "gale-010", Factor: 0.5},
			"a frame of gale-010 takes 0.5 times as long",
			func(p planning.Problem) bool { return p.Timings[0].Frame == 50_000 && p.Timings[2].Frame == 45_000 },
		},
		{
			questions.Assumption{What: "deadline", Name: "gale-010", At: at},
			"gale-010 is due Mon 3 Mar 23:00",
			func(p planning.Problem) bool { return p.Shots[0].Deadline == 5*3600*1000 },
		},
		{
			questions.Assumption{What: "hours", Name: "anvil"},
			"anvil is free all the time",
			func(p planning.Problem) bool { return len(p.Hosts[0].Windows) == 1 },
		},
	} {
		p := planningtest.Parse(t, planningtest.Gale)
		then, text, err := questions.Assume(p, c.a)
		require.NoError(t, err, c.a)
		assert.Equal(t, c.text, text)
		assert.True(t, c.then(then), text)
		assert.NoError(t, then.Validate())
		assert.Equal(t, planningtest.Parse(t, planningtest.Gale), p, "the problem given is as it was: %s", text)
	}
	for what, bad := range map[string]questions.Assumption{
		"wants a new name":        {What: "host", Name: "anvil", Like: "anvil"},
		"like` an offer":          {What: "offer", Name: "x", Like: "anvil"},
		"wants a `price` an hour": {What: "price", Name: "anvil"},
		"is no offer or host":     {What: "price", Name: "nosuch", Price: &price},
		"no number of servers":    {What: "servers", Name: "tern-solo", Count: -1},
		"a `factor` above 0":      {What: "time", Name: "gale-010"},
		"a time to come":          {What: "deadline", Name: "gale-010", At: at.AddDate(-1, 0, 0)},
		"is no host":              {What: "hours", Name: "tern-solo"},
		"is none of host, offer":  {What: "weather", Name: "anvil"},
	} {
		_, _, err := questions.Assume(planningtest.Parse(t, planningtest.Gale), bad)
		assert.ErrorContains(t, err, what)
	}
}

// unsure is a problem whose frames vary much: a fifth takes half as long again.
func unsure(t *testing.T) (planning.Problem, forecast.Uncertainty) {
	p := planningtest.Parse(t, planningtest.Gale)
	p.Offers, p.Transfers, p.Shots[0].Frames = nil, nil, 200
	p.Timings = []planning.Timing{p.Timings[0], p.Timings[2]}
	return p, forecast.Uncertainty{Ratios: map[string][]float64{"gale-010": {0.95, 0.95, 1, 1, 1.5}}}
}

func TestConfidenceTakesAsLittleSlackAsItNeeds(t *testing.T) {
	p, u := unsure(t)
	var told atomic.Int32
	sure, err := questions.Confidently(t.Context(), p, u, questions.Wanted{Chance: 0.9}, planning.Options{}, func(done, all int, doing string) {
		told.Add(1)
		assert.Less(t, done, all)
		assert.Contains(t, doing, "kept spare")
	})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, sure.Chance, 0.9)
	assert.Positive(t, sure.Slack)
	assert.Greater(t, told.Load(), int32(1))
	plain, err := questions.Confidently(t.Context(), p, u, questions.Wanted{}, planning.Options{}, nil)
	require.NoError(t, err)
	assert.Zero(t, plain.Slack, "any chance will do without slack")
	assert.LessOrEqual(t, plain.Plan.Cost.Cmp(sure.Plan.Cost), 0)
	p.Farms, p.Timings = nil, nil
	none, err := questions.Confidently(t.Context(), p, u, questions.Wanted{Chance: 0.9}, planning.Options{}, nil)
	require.NoError(t, err)
	assert.Equal(t, planning.Impossible, none.Plan.Status)
}

func TestSourcesAddUpToThePlan(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	plan := planningtest.Solve(t, p)
	of := map[string]string{"anvil": "home", "tern-solo": "tern", "ebb": "saltmarsh"}
	var sum pricing.Money
	for _, s := range questions.SourceCosts(p, plan, of) {
		sum = sum.Plus(s.Cost)
		if s.Source == "saltmarsh" {
			// 63 frames at 0.0475 are 2.9925: 0.0075 more make the minimum charge.
			assert.Equal(t, "0.0075", s.MinimumCharge.Rat().FloatString(4))
		}
	}
	assert.Equal(t, plan.Cost.String(), sum.Rounded().String())
}

func TestEachSourceAloneAndTheBestMix(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	of := map[string]string{"anvil": "home", "tern-solo": "tern", "ebb": "saltmarsh"}
	rows, err := questions.Sources(t.Context(), p, []string{"home", "tern", "saltmarsh"}, of, func(x planning.Timing) bool { return x.Host != "" }, nil)
	require.NoError(t, err)
	require.Len(t, rows, 4)
	// By hand: anvil alone is open for 72 of the 100 frames in all.
	assert.Equal(t, planning.Impossible, rows[0].Status)
	assert.Positive(t, rows[3].Measured)
	assert.Less(t, rows[3].Measured, rows[3].Frames)
	// The farm alone: 100 × 0.0475.
	assert.Equal(t, "4.75", rows[2].Cost.String())
	assert.Equal(t, "0.0475", rows[2].FrameCost().Rat().FloatString(4))
	assert.Equal(t, 9000*time.Second, rows[2].Rendered)
	assert.Equal(t, questions.BestMix, rows[3].Source)
	for _, r := range rows[1:3] {
		assert.GreaterOrEqual(t, r.Cost.Cmp(rows[3].Cost), 0, "%s alone is no cheaper than the best mix", r.Source)
	}
	assert.Equal(t, rows[1].Paid > 0, rows[1].UnusedCost.Cmp(pricing.Money{}) > 0)
}

// Whatever solves more than once ends when it is told to.
func TestAQuestionEndsWithItsContext(t *testing.T) {
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	p := planningtest.Parse(t, planningtest.Gale)
	plan := planningtest.Solve(t, p)
	_, err := questions.Tradeoff(ended, p, 8, plan, nil)
	assert.ErrorIs(t, err, context.Canceled)
	_, err = questions.Sources(ended, p, nil, nil, nil, nil)
	assert.ErrorIs(t, err, context.Canceled)
	q, u := unsure(t)
	_, err = questions.Confidently(ended, q, u, questions.Wanted{Chance: 0.9}, planning.Options{}, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

// One more host is assumed, and the plan with it weighed against the one without.
func ExampleAssume() {
	p, _ := planning.ParseProblem(strings.NewReader(planningtest.Gale))
	then, text, _ := questions.Assume(p, questions.Assumption{What: questions.AssumeHost, Name: "anvil-2", Like: "anvil"})
	before, _ := planning.Solve(context.Background(), p, planning.Options{})
	after, _ := planning.Solve(context.Background(), then, planning.Options{})
	fmt.Printf("with %s: %s %s instead of %s\n", text, p.Currency, after.Cost, before.Cost)
	// Output: with a host anvil-2 like anvil: EUR 0.33 instead of 3.12
}

// Where no slack is enough, more of it is not bought for a chance that is the same but for luck.
func TestSlackThatMakesNothingSurerIsNotKept(t *testing.T) {
	p, u := unsure(t)
	u.Ratios = map[string][]float64{"gale-010": {1, 1, 1, 1, 1, 1, 1, 1}}

	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	takes := plan.Finish.Duration().Hours()
	// Now and then something more urgent comes, and has the hosts for good.
	u.Disruptions = disruptions.Rates{UrgentEvery: time.Duration(8 * takes * float64(time.Hour)), UrgentFor: 10_000 * time.Hour}
	best, err := questions.Confidently(t.Context(), p, u, questions.Wanted{Chance: 0.995}, planning.Options{}, nil)
	require.NoError(t, err)
	assert.Less(t, best.Chance, 0.995)
	assert.Greater(t, best.Chance, 0.7)
	assert.LessOrEqual(t, best.Slack, 0.04, "8 % would give a chance of one point more")
}
