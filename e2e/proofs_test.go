package e2e

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/simulator"
)

// unattended is a run at the farm whose proof frames are to be accepted by check. The
// local frames that there are to compare with were really rendered.
func unattended(t *testing.T, change func(*simulator.Farm)) (*house, api.Run) {
	t.Helper()
	h, _ := farmBeside(t, change, func(farm http.Handler) http.Handler { return farm }, func(h *house, films string) {
		stop := h.runAgent(eddy, films)
		h.timed("coda-060", "eddy/g0")
		stop()
	})
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(300 * time.Second), Without: []string{"eddy"}}))
	require.NotEmpty(t, plan.OutsideCost)
	// More than is planned: on a busy machine frames take longer, and are not to be stopped for their cost here.
	return h, must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: "5.00", AcceptProofs: true}))
}

func TestProofFramesThatLookAsElsewhereAreAcceptedByCheck(t *testing.T) {
	h, run := unattended(t, func(f *simulator.Farm) { f.LinkMBps = 0.001 }) // a slow line, too
	ended := h.job(run, api.FarmJobStateEnded)
	assert.True(t, *ended.Accepted)
	assert.Empty(t, ended.Trouble)
	assert.Equal(t, 40, ended.Done)
	assert.Positive(t, query[float64](t, h.database, "SELECT seconds FROM transfers WHERE source = 'gannet'"), "what the line took is known")
	bytes := query[float64](t, h.database, "SELECT bytes FROM transfers WHERE source = 'gannet'")
	assert.GreaterOrEqual(t, query[float64](t, h.database, "SELECT seconds FROM transfers WHERE source = 'gannet'"), bytes/1000, "a thousand bytes a second")
}

func TestProofFramesThatLackSomethingWaitForAPerson(t *testing.T) {
	h, run := unattended(t, func(f *simulator.Farm) { f.Lacks = "lamp" })
	held := h.job(run, api.FarmJobStateHeld)
	assert.Nil(t, held.Accepted)
	assert.Contains(t, held.Trouble, "not accepted by check: frame ")
	assert.Contains(t, held.Trouble, "eddy")
	h.restart()
	assert.Equal(t, api.FarmJobStateHeld, h.job(run, api.FarmJobStateHeld).State, "it stays with the person")
	must[api.FarmJob](t)(h.admin().JudgeProofs(t.Context(), held.Id, api.JudgeProofsJSONRequestBody{Accept: false}))
	assert.Equal(t, 40, h.run(run).Counts.Waiting+h.run(run).Counts.Rendering+h.run(run).Counts.Done)
	h.job(run, api.FarmJobStateEnded)
}
