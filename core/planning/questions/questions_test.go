package questions_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/planning/questions"
)

func TestEveryPointOfTheCurveIsAPlanAndLaterIsCheaper(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	known := planningtest.Solve(t, p)
	c, err := questions.Tradeoff(t.Context(), p, 8, known, nil)
	require.NoError(t, err)
	require.Greater(t, len(c.Points), 2)
	for i, x := range c.Points {
		assert.NoError(t, planning.Check(p, x))
		if i > 0 {
			assert.Greater(t, x.Finish, c.Points[i-1].Finish)
			assert.Negative(t, x.Cost.Cmp(c.Points[i-1].Cost))
		}
	}
	assert.Equal(t, known.Cost.String(), c.Points[c.Cheapest].Cost.String())
	assert.Zero(t, c.Fastest)
	alone, err := questions.OnlyOn(t.Context(), p, "anvil")
	require.NoError(t, err)
	// 100 frames of 100 s one after another, at 0.12 an hour.
	assert.Equal(t, "0.33", alone.Cost.String())
	assert.Equal(t, planning.Millis(10_000_000), alone.Finish)
}

func TestReasonsNameNumbers(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	reasons := map[string]string{}
	for _, r := range questions.Reasons(p, planningtest.Solve(t, p)) {
		reasons[r.Place] = r.Text
	}
	// By hand: 37 frames on anvil for 0.1233, 63 on the farm for its minimum charge, 3.00.
	assert.Contains(t, reasons["anvil"], "EUR 0.0033 a frame")
	assert.Contains(t, reasons["ebb"], "EUR 3.00 in all")
	assert.Contains(t, reasons["tern-solo"], "at least 1 h is paid")
	assert.Contains(t, reasons["tern-solo"], "ebb does them for EUR 3.00")
}

func TestWhatWouldMendAProblem(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	p.Farms, p.Timings = nil, p.Timings[:2]
	p.Offers[0].MaxServers = 1
	p.Shots[0].Frames = 200
	late := planningtest.Solve(t, p)
	require.Equal(t, planning.Late, late.Status)
	short := planning.Shortages(p, late)
	require.Len(t, short, 1)
	assert.Contains(t, short[0].Text, "of the 200 frames of gale-010 find no room")
	remedies, err := questions.Remedies(t.Context(), p, late, nil)
	require.NoError(t, err)
	var changes []string
	for _, r := range remedies {
		changes = append(changes, r.Change)
	}
	assert.Contains(t, changes, "one more server of tern-solo than the 1 there may be")
	assert.Contains(t, changes[len(changes)-1], "the deadlines")
	more := p
	more.Offers = append([]planning.Offer{}, p.Offers...)
	more.Offers[0].MaxServers = 2
	assert.Equal(t, planning.Meets, planningtest.Solve(t, more).Status, "what is said to fix it does")

	over := planningtest.Parse(t, strings.Replace(planningtest.Gale, `"goal":"cheapest"`, `"goal":"cheapest","budget":"1.00"`, 1))
	plan := planningtest.Solve(t, over)
	assert.Contains(t, planning.Shortages(over, plan)[0].Text, "the budget is EUR 1.00")
	remedies, err = questions.Remedies(t.Context(), over, plan, nil)
	require.NoError(t, err)
	assert.Contains(t, remedies[len(remedies)-1].Change, "a budget of EUR 3.12")
}

func TestChangesSayWhatAndWhy(t *testing.T) {
	a := planningtest.Parse(t, planningtest.Gale)
	before := planningtest.Solve(t, a)
	assert.Empty(t, questions.Changes(a, before, a, before))
	b := planningtest.Parse(t, planningtest.Gale)
	b.Farms = nil
	b.Timings = b.Timings[:2]
	b.Timings[0].Frame *= 2
	after := planningtest.Solve(t, b)
	var texts []string
	for _, c := range questions.Changes(a, before, b, after) {
		texts = append(texts, c.Text)
	}
	all := strings.Join(texts, "\n")
	assert.Contains(t, all, "because ebb is not there")
	assert.Contains(t, all, "because anvil is slower than was thought")
	assert.Contains(t, all, "gale-010 on ebb: 0 frames, were 63")
	assert.Contains(t, all, "more than EUR 3.12")
}
