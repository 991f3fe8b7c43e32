package e2e

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/cli"
)

// The backlog is rendered when crews would else be idle: whatever has a deadline goes first.
func TestTheBacklogIsRenderedByIdleCrews(t *testing.T) {
	h, one, two := timedHouse(t, "1-6")
	assert.Contains(t, h.good("backlog", "list"), "The backlog is empty")
	assert.Contains(t, h.good("backlog", "add", "coda-060"), "Added 1 shot")
	runs := must[api.RunList](t)(h.admin().ListRuns(t.Context(), &api.ListRunsParams{Priority: new(api.Backlog)})).Items
	require.Len(t, runs, 1)
	backlog := runs[0]
	assert.True(t, backlog.Deadline.IsZero())
	listed := h.good("backlog", "list")
	assert.Contains(t, listed, "coda-060")
	assert.Contains(t, listed, "running")
	booked := map[string]bool{}
	for _, c := range backlog.Crews {
		booked[c.Host] = booked[c.Host] || c.Booked > 0
	}
	assert.Equal(t, map[string]bool{"bellows": true, "eddy": true}, booked, "all that are idle")

	assert.Contains(t, h.bad("runs", "deadline", "latest", "+3h"), "the backlog, which has no deadline")
	rest := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, Run: &backlog.Id}))
	assert.Equal(t, api.PlanStatusMeets, rest.Status, "its rest is planned without one too")

	// A plan with a deadline has the hosts from now on, and its crews choose first.
	h.putShot("coda-070", "1-4", nil)
	h.trialByHand(one, "coda-070", "bellows", "g0")
	h.trialByHand(two, "coda-070", "eddy", "g0")
	plan := h.plan(api.NewPlan{Shots: []string{"coda-070"}, By: h.now().Add(25 * time.Second)})
	assert.Equal(t, api.PlanStatusMeets, plan.Status, "%+v", plan.Bookings)
	due := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id}))
	rendered := map[string]int{}
	take := func() {
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				rendered[l.Shot]++
				a.deliver(l)
			}
		}
	}
	take()
	take()
	assert.Equal(t, map[string]int{"coda-070": 4}, rendered)
	h.until("the run to be over", func() bool { return h.run(due).State == api.RunStateComplete })
	h.until("the backlog to be done", func() bool { take(); return h.run(backlog).State == api.RunStateComplete })
	assert.Contains(t, h.good("backlog", "list"), "complete")

	b := h.open("light")
	b.goTo("/runs")
	b.shows("Backlog")
	b.shows("coda-060")
	assert.Empty(t, b.axe())

	// What cannot be planned stops nothing before it, and says so.
	h.putShot("coda-080", "1-2", nil)
	h.trialByHand(one, "coda-080", "bellows", "g0")
	status, _, errs := h.rotanex("backlog", "add", "coda-080", "nosuch")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "1 shot before it are added")
	assert.Contains(t, errs, "nosuch")
}
