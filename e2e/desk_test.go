package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/stock"
)

// A machine that somebody works at is lent while nobody touches it, and theirs when they come
// back: what it rendered waits again, whoever asks is told why, and its owner lends it and
// takes it back where it stands.
func TestADeskIsLentAndTakenBack(t *testing.T) {
	h := newHouse(t, faster)
	films := scenes(t)
	long := strings.Replace(quickScene, "work_s: 2", "work_s: 30", 1) // a second and a half of life
	require.NoError(t, os.WriteFile(filepath.Join(films, "coda.yaml"), []byte(long), 0o600))
	desk := bellows
	desk.Name, desk.Devices = "desk-ada", bellows.Devices[:1]
	desk.Open = []stock.Hours{{Days: "mon-sun"}}
	folder := t.TempDir()
	touched := filepath.Join(folder, "untouched-for")
	untouched := func(seconds string) { require.NoError(t, os.WriteFile(touched, []byte(seconds), 0o600)) }
	untouched("3600")
	h.putHost(desk)
	h.agentProcess(desk, folder, films, "--desk", "--desk-idle", "2s", "--desk-idle-command", "cat "+touched)
	state := func() api.DeskState {
		return must[api.Host](t)(h.admin().GetHost(t.Context(), "desk-ada")).Desk.State
	}
	says := func(args ...string) string {
		t.Helper()
		out, err := exec.Command(filepath.Join(bin, "rotanex-agent"), append(args, "--state-dir", folder)...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	h.until("the desk to be lent", func() bool { return state() == api.DeskStateLent })
	h.putShot("coda-060", "1-5", nil)
	h.timed("coda-060", "desk-ada/g0")
	plan, run := h.started(3600e9, "coda-060")
	assert.Equal(t, api.PlanStatusMeets, plan.Status)
	h.until("a frame to be rendered", func() bool { return h.run(run).Counts.Rendering > 0 })

	untouched("0")
	h.until("the desk to be in use", func() bool { return state() == api.DeskStateInUse })
	h.until("its frame to wait again", func() bool { return h.run(run).Counts.Rendering == 0 })
	assert.Equal(t, 1, query[int](t, h.database, "SELECT count(*) FROM tries WHERE run_id = $1 AND outcome = 'revoked' AND log_tail = 'given back: somebody works at it'", run.Id))
	assert.Zero(t, h.run(run).Counts.Failed)
	for _, c := range h.run(run).Crews {
		assert.Equal(t, api.RunCrewStateInUse, c.State)
	}
	assert.Contains(t, h.good("hosts", "why", "desk-ada"), "it is a desk that is not lent now: somebody works at it")
	assert.Contains(t, h.good("hosts", "show", "desk-ada"), "a desk, in use since")
	assert.Contains(t, h.good("hosts", "list", "--output", "csv"), ",up,in-use,")
	rest := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, Run: &run.Id, By: h.now().Add(36e12)}))
	assert.True(t, rest.Bookings[0].Start.After(h.now().Add(20*60e9)), "it is planned for when the desk is expected back: %s", rest.Bookings[0].Start)

	assert.Contains(t, says("take-back"), "taken back since")
	untouched("3600")
	h.until("the desk to be taken back", func() bool { return state() == api.DeskStateTakenBack })
	var told struct {
		State  string
		ByHand bool `json:"by_hand"`
	}
	require.NoError(t, json.Unmarshal([]byte(says("status", "--output", "json")), &told))
	assert.True(t, told.State == "taken-back" && told.ByHand)
	gone := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, Run: &run.Id, By: h.now().Add(36e12)}))
	assert.Empty(t, gone.Bookings, "who took it back without a time is not counted on")
	assert.Equal(t, "is not lent now: its owner took it back", gone.LeftOut[0].Why)
	b := h.open("light")
	b.goTo("/hosts")
	b.shows("taken back")
	b.shows("its owner took it back")

	assert.Contains(t, says("lend", "--until", "90m"), "lent since")
	require.Equal(t, api.RunStateComplete, h.awaitOver(run).State)
	eachDoneOnce(t, h.database, run, 5)
	host := must[api.Host](t)(h.admin().GetHost(t.Context(), "desk-ada"))
	assert.True(t, host.Desk.ByHand && !host.Desk.Until.IsZero())
	b.goTo("/hosts/desk-ada")
	b.shows("its owner lent it")
}
