package e2e

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/launchers"
)

// heavyScene takes twenty times as long to open as a frame does.
const heavyScene = "title: heavy\nframes: 24\nprepare_s: 40\nwork_s: 1.5\nfinish_s: 0.5\ndevice_memory_gb: 3\nhue: 0.4\n"

// A scene that is slow to open is opened once for many frames: in trials it is seen how long
// that takes, so that plans count on it, and each start is given as many frames as make it pay.
func TestAStartRendersSeveralFrames(t *testing.T) {
	h := newHouse(t, faster)
	films := scenes(t)
	require.NoError(t, os.WriteFile(filepath.Join(films, "heavy.yaml"), []byte(heavyScene), 0o600))
	h.runAgent(bellows, films)
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "heavy-010", &api.PutShotParams{}, api.ShotSpec{
		Name: "heavy-010", Scene: "heavy.yaml", Frames: "1-24", Width: 64, Height: 36, Launcher: "simulated", Settings: map[string]string{"fail": "crash@9"},
	}))
	h.timed("heavy-010", "bellows/g0")
	g0 := crewOf(t, h.comparison("heavy-010"), "bellows/g0")
	assert.Greater(t, g0.OpeningS, 35.0)
	assert.Equal(t, 24, g0.InStart, "the whole shot is no more than opening asks for")
	assert.Less(t, g0.Seconds, 12.0)
	plan, run := h.started(time.Hour, "heavy-010")
	assert.Greater(t, plan.Bookings[0].OpeningS, 35.0)
	run = h.awaitOver(run)

	require.Equal(t, api.RunStateIncomplete, run.State, "one frame crashes each time")
	assert.Equal(t, 23, query[int](t, h.database, "SELECT count(*) FROM tries WHERE run_id = $1 AND outcome = 'done'", run.Id))
	assert.Zero(t, query[int](t, h.database, "SELECT count(*) FROM tries a JOIN frames f ON f.id = a.frame_id WHERE a.run_id = $1 AND a.outcome <> 'done' AND f.frame <> 9", run.Id), "it costs the others nothing")
	starts := query[int](t, h.database, "SELECT count(DISTINCT start) FROM frames WHERE run_id = $1 AND state = 'done' AND start > 0", run.Id)
	assert.Positive(t, starts)
	assert.LessOrEqual(t, starts, 8, "of 23 frames")
	opened := query[float64](t, h.database, "SELECT sum((measured->>'opening_part_s')::float8) FROM tries WHERE run_id = $1 AND outcome = 'done'", run.Id)
	assert.Less(t, opened, 23*20.0)

	// Forecast and ledger tell it from rendering.
	forecast := must[api.PlanForecast](t)(h.admin().ForecastPlan(t.Context(), plan.Id, &api.ForecastPlanParams{})).Shots[0]
	assert.GreaterOrEqual(t, forecast.OpeningS, 0.9*g0.OpeningS)
	assert.Greater(t, forecast.RenderingS, forecast.OpeningS+24)
	row := must[api.Ledger](t)(h.admin().GetLedger(t.Context(), run.Id)).Rows[0]
	assert.InDelta(t, opened, row.OpeningS, 0.05)
	assert.InDelta(t, 24*g0.OpeningS/float64(g0.InStart), row.OpeningPlannedS, 0.1)
	assert.Greater(t, row.BusyS, row.OpeningS)
}

// One that stays open is opened once for all that its crew renders of a shot, start after start.
func TestARendererStaysOpenFromStartToStart(t *testing.T) {
	sideBySide(t)
	h := newHouse(t, faster)
	films := scenes(t)
	require.NoError(t, os.WriteFile(filepath.Join(films, "heavy.yaml"), []byte(heavyScene), 0o600))
	all, err := launchers.Shipped()
	require.NoError(t, err)
	h.runAgentWith(bellows, films, all["simulated-open"])
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "heavy-010", &api.PutShotParams{}, api.ShotSpec{
		Name: "heavy-010", Scene: "heavy.yaml", Frames: "1-24", Width: 64, Height: 36, Launcher: "simulated-open", Settings: map[string]string{"fail": "out-of-memory@9"},
	}))
	h.timed("heavy-010", "bellows/g0")
	g0 := crewOf(t, h.comparison("heavy-010"), "bellows/g0")
	assert.Greater(t, g0.OpeningS, 35.0)
	_, run := h.started(time.Hour, "heavy-010")
	// Starts of four frames, as if others were to have some.
	query[int](t, h.database, "UPDATE bookings SET opening_s = 4 * 0.0205 * frame_s WHERE run_id = $1 RETURNING 1", run.Id)
	run = h.awaitOver(run)
	require.Equal(t, api.RunStateIncomplete, run.State)
	assert.Equal(t, 23, query[int](t, h.database, "SELECT count(*) FROM tries WHERE run_id = $1 AND outcome = 'done'", run.Id))
	assert.Positive(t, query[int](t, h.database, "SELECT count(*) FROM tries WHERE run_id = $1 AND cause = 'out-of-memory'", run.Id))
	failures := query[int](t, h.database, "SELECT count(*) FROM tries WHERE run_id = $1 AND outcome = 'failed'", run.Id)
	opened := query[float64](t, h.database, "SELECT sum((measured->>'opening_part_s')::float8) FROM tries WHERE run_id = $1", run.Id)
	assert.Less(t, opened, float64(1+failures)*1.2*g0.OpeningS, "once, and again after each failure")
	starts := query[int](t, h.database, "SELECT count(DISTINCT start) FROM frames WHERE run_id = $1 AND state = 'done'", run.Id)
	assert.Greater(t, starts, 2)
}

// Povray renders a range of frames by itself, and names the files.
func TestPovrayRendersARange(t *testing.T) {
	h := newHouse(t)
	all, err := launchers.Shipped()
	require.NoError(t, err)
	h.runAgentWith(eddy, filepath.Join("..", "demo", "lanternfish", "scenes"), all["povray"])
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "orrery-010", &api.PutShotParams{}, api.ShotSpec{
		Name: "orrery-010", Scene: "orrery/orrery.pov", Frames: "1-12", Width: 64, Height: 36, Launcher: "povray",
	}))
	h.timed("orrery-010", "eddy/cpu")
	_, run := h.started(time.Hour, "orrery-010")
	// However little it takes to open: here it is said to take long.
	query[int](t, h.database, "UPDATE bookings SET opening_s = 100 * frame_s WHERE run_id = $1 RETURNING 1", run.Id)
	run = h.awaitOver(run)
	require.Equal(t, api.RunStateComplete, run.State)
	eachDoneOnce(t, h.database, run, 12)
	assert.Positive(t, query[int](t, h.database, "SELECT count(*) FROM frames WHERE run_id = $1 AND start > 0", run.Id))
	assert.Equal(t, 12, query[int](t, h.database, "SELECT count(DISTINCT sha256) FROM frames WHERE run_id = $1", run.Id), "each is a picture of its own")
}
