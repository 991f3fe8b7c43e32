package questions_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
)

func parse(t require.TestingT, text string) planning.Problem {
	p, err := planning.ParseProblem(strings.NewReader(text))
	require.NoError(t, err)
	return p
}

func solve(t require.TestingT, p planning.Problem) planning.Plan {
	plan, err := planning.Solve(context.Background(), p, planning.Options{})
	require.NoError(t, err)
	require.NoError(t, planning.Check(p, plan))
	return plan
}

// gale is a shot on an owned host, a rented server and a farm.
const gale = `{"format":"rotanex-problem-1","start":"2031-03-03T18:00:00Z","currency":"EUR","goal":"cheapest",
	"shots":[{"id":"gale-010","frames":100,"ready_s":0,"deadline_s":7200,"ram_gb":18}],
	"hosts":[{"id":"anvil","ram_gb":64,"windows":[[0,3600],[5400,9000]],"crews":[{"id":"g0","devices":["g0"],"busy_price_h":"0.12"}]}],
	"offers":[{"id":"tern-solo","source":"tern","max_servers":2,"ram_gb":64,"lead_s":900,"wrap_s":60,"price_h":"2.00","fee":"0.50",
		"increment_s":3600,"minimum_s":3600,"crews":[{"id":"g0","devices":["g0"]}]}],
	"farms":[{"id":"ebb","source":"saltmarsh","nodes":4,"lead_s":600,"node_price_h":"1.50","frame_price":"0.01","minimum_charge":"3.00"}],
	"timings":[{"shot":"gale-010","host":"anvil","crew":"g0","frame_s":100},{"shot":"gale-010","offer":"tern-solo","crew":"g0","frame_s":60},
		{"shot":"gale-010","farm":"ebb","frame_s":90}],
	"transfers":[{"shot":"gale-010","source":"tern","upload_s":300,"delivery_s":20},{"shot":"gale-010","source":"saltmarsh","upload_s":200,"delivery_s":5}]}`

func TestEveryPointOfTheCurveIsAPlanAndLaterIsCheaper(t *testing.T) {
	p := parse(t, gale)
	known := solve(t, p)
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
	p := parse(t, gale)
	reasons := map[string]string{}
	for _, r := range questions.Reasons(p, solve(t, p)) {
		reasons[r.Place] = r.Text
	}
	// By hand: 37 frames on anvil for 0.1233, 63 on the farm for its minimum charge, 3.00.
	assert.Contains(t, reasons["anvil"], "EUR 0.0033 a frame")
	assert.Contains(t, reasons["ebb"], "EUR 3.00 in all")
	assert.Contains(t, reasons["tern-solo"], "at least 1 h is paid")
	assert.Contains(t, reasons["tern-solo"], "ebb does them for EUR 3.00")
}

func TestWhatWouldMendAProblem(t *testing.T) {
	p := parse(t, gale)
	p.Farms, p.Timings = nil, p.Timings[:2]
	p.Offers[0].MaxServers = 1
	p.Shots[0].Frames = 200
	late := solve(t, p)
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
	assert.Equal(t, planning.Meets, solve(t, more).Status, "what is said to fix it does")

	over := parse(t, strings.Replace(gale, `"goal":"cheapest"`, `"goal":"cheapest","budget":"1.00"`, 1))
	plan := solve(t, over)
	assert.Contains(t, planning.Shortages(over, plan)[0].Text, "the budget is EUR 1.00")
	remedies, err = questions.Remedies(t.Context(), over, plan, nil)
	require.NoError(t, err)
	assert.Contains(t, remedies[len(remedies)-1].Change, "a budget of EUR 3.12")
}

func TestChangesSayWhatAndWhy(t *testing.T) {
	a := parse(t, gale)
	before := solve(t, a)
	assert.Empty(t, questions.Changes(a, before, a, before))
	b := parse(t, gale)
	b.Farms = nil
	b.Timings = b.Timings[:2]
	b.Timings[0].Frame *= 2
	after := solve(t, b)
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
