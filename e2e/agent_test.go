package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/launchers"
)

// tried times one frame of a shot and returns the trial when it is over.
func (h *house) tried(shot string) api.Trial {
	h.t.Helper()
	trial := must[api.Trial](h.t)(h.admin().CreateTrial(h.t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: shot, Host: "bellows", Crew: "g0", Frames: 1}))
	h.until("the trial to be over", func() bool {
		trial = must[api.Trial](h.t)(h.admin().GetTrial(h.t.Context(), trial.Id))
		return trial.State != api.RunStateRunning
	})
	return trial
}

// What fails on a host is told by its cause, with the renderer's last words.
func TestAnAgentTellsCausesApart(t *testing.T) {
	h := newHouse(t, faster)
	h.runAgent(bellows, scenes(t))
	for fail, cause := range map[string]string{
		"crash": "crashed", "out-of-memory": "out-of-memory", "licence-lost": "licence-lost", "half-written": "bad-picture", "blank": "bad-picture",
	} {
		h.putShot("coda-060", "1", map[string]string{"fail": fail + "@1"})
		trial := h.tried("coda-060")
		assert.Equal(t, api.RunStateIncomplete, trial.State, fail)
		assert.Equal(t, cause, trial.Frames[0].Cause, fail)
		assert.Zero(t, trial.Summary.Frames)
	}
	words := query[string](t, h.database, "SELECT log_tail FROM tries WHERE cause = 'out-of-memory' LIMIT 1")
	assert.Contains(t, words, "out of device memory, on demand")
}

func TestAnAgentRefusesWhatItsHostDoesNotAllow(t *testing.T) {
	h := newHouse(t, faster)
	films := scenes(t)
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(films), "secret.yaml"), []byte(quickScene), 0o600))
	h.runAgent(bellows, films)
	// Neither is stored; an agent that is asked for it all the same, by a store that is older
	// than that, refuses it.
	h.putShot("coda-060", "1", nil)
	for name, value := range map[string]string{"colour": "red", "samples": "many"} {
		spec := api.ShotSpec{Name: "coda-060", Scene: "coda.yaml", Frames: "1", Width: 64, Height: 36, Launcher: "simulated", Settings: map[string]string{name: value}}
		refused(t, http.StatusUnprocessableEntity)(h.admin().PutShot(t.Context(), "coda-060", &api.PutShotParams{}, spec))
		require.Equal(t, 1, query[int](t, h.database, "UPDATE shots SET spec = jsonb_set(spec, '{settings}', jsonb_build_object($1::text, $2::text)) RETURNING 1", name, value))
		assert.Equal(t, "refused", h.tried("coda-060").Frames[0].Cause, name)
	}

	must[api.Shot](t)(h.admin().PutShot(t.Context(), "gone", &api.PutShotParams{}, api.ShotSpec{Name: "gone", Scene: "gone.yaml", Frames: "1", Width: 64, Height: 36, Launcher: "simulated"}))
	assert.Equal(t, "cannot-start", h.tried("gone").Frames[0].Cause, "a scene that is not there")

	must[api.Shot](t)(h.admin().PutShot(t.Context(), "traced", &api.PutShotParams{}, api.ShotSpec{Name: "traced", Scene: "coda.yaml", Frames: "1", Width: 64, Height: 36, Launcher: "povray"}))
	problem := refused(t, http.StatusConflict)(h.admin().CreateTrial(t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: "traced", Host: "bellows", Crew: "cpu", Frames: 1}))
	assert.Equal(t, "the agent of bellows may not start povray, the launcher of traced; it may start simulated", problem.Detail)
}

func TestARendererThatHangsIsKilled(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "launchers", "simulated.yaml"))
	require.NoError(t, err)
	impatient, err := launchers.Parse([]byte(strings.Replace(string(text), "quiet_s: 20", "quiet_s: 1", 1)))
	require.NoError(t, err)
	h := newHouse(t, faster)
	h.runAgentWith(bellows, scenes(t), impatient)
	h.putShot("coda-060", "1", map[string]string{"fail": "hang@1"})
	trial := h.tried("coda-060")
	assert.Equal(t, "hung", trial.Frames[0].Cause)
	assert.Contains(t, query[string](t, h.database, "SELECT log_tail FROM tries LIMIT 1"), "said nothing for 1s and was killed")
}

// tracing runs an agent that may start the real ray tracer, and stores a shot of the
// demo's scene.
func (h *house) tracing() {
	h.t.Helper()
	all, err := launchers.Shipped()
	require.NoError(h.t, err)
	h.runAgentWith(bellows, filepath.Join("..", "demo", "lanternfish", "scenes"), all["povray"])
	must[api.Shot](h.t)(h.admin().PutShot(h.t.Context(), "orrery-010", &api.PutShotParams{}, api.ShotSpec{
		Name: "orrery-010", Scene: "orrery/orrery.pov", Frames: "1-96", Width: 80, Height: 45, Launcher: "povray", Settings: map[string]string{"antialias": "0.9"},
	}))
}

// The real ray tracer renders the demo's scene.
func TestPovrayRendersTheOrrery(t *testing.T) {
	h := newHouse(t)
	h.tracing()
	trial := must[api.Trial](t)(h.admin().CreateTrial(t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: "orrery-010", Host: "bellows", Crew: "cpu", Frames: 3}))
	h.until("the trial to be over", func() bool {
		trial = must[api.Trial](t)(h.admin().GetTrial(t.Context(), trial.Id))
		return trial.State != api.RunStateRunning
	})
	require.Equal(t, api.RunStateComplete, trial.State, "%+v", trial.Frames)
	sums := map[string]bool{}
	for _, f := range trial.Frames {
		assert.Positive(t, f.Stages["work"], "its stage times are read")
		assert.Positive(t, f.PeakMemoryBytes)
		sums[query[string](t, h.database, "SELECT sha256 FROM frames WHERE run_id = $1 AND frame = $2 AND NOT warm_up", trial.Id, f.Frame)] = true
	}
	assert.Len(t, sums, 3, "it animates")
	refusedCrew := must[api.Trial](t)(h.admin().CreateTrial(t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: "orrery-010", Host: "bellows", Crew: "g0", Frames: 1}))
	h.until("the refusal", func() bool {
		refusedCrew = must[api.Trial](t)(h.admin().GetTrial(t.Context(), refusedCrew.Id))
		return refusedCrew.State == api.RunStateIncomplete
	})
	assert.Equal(t, "refused", refusedCrew.Frames[0].Cause, "it has no use for a GPU")
}
