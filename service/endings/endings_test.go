package endings

import (
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// house is a database with runs of a shot of one frame a minute, due in ten hours.
type house struct {
	*Endings
	t *testing.T
}

func (h house) run(state, policy string) uuid.UUID {
	h.t.Helper()
	id := uuid.New()
	require.NoError(h.t, h.store.Exec("INSERT INTO runs (id, kind, request, state, policy, tries, created_at, ended_at) VALUES ($1, 'run', '', $2, $3, 3, $4, CASE WHEN $2 = 'running' THEN NULL ELSE $4::timestamptz END)",
		id, state, policy, teststage.Six).Error)
	return id
}

// done ends a run with its last frame.
func (h house) done(run uuid.UUID, at time.Time) {
	h.t.Helper()
	require.NoError(h.t, h.store.Exec("INSERT INTO frames (run_id, shot, frame, state, done_at) VALUES ($1, 'coda-050', 1, 'done', $2)", run, at).Error)
	require.NoError(h.t, h.store.Exec("UPDATE runs SET state = 'complete', ended_at = $2 WHERE id = $1", run, at).Error)
}

// tell tells of a run of which so many frames wait.
func (h house) tell(run uuid.UUID, policy replan.Policy, at time.Time, frames int, moved bool) *Kept {
	h.t.Helper()
	const hour = planning.Millis(3_600_000)
	rest := replan.Rest{Policy: policy, Wanted: 0.9, Problem: planning.Problem{
		Format: planning.ProblemFormat, Start: at, Currency: "EUR", Goal: planning.Cheapest,
		Shots:   []planning.Shot{{ID: "coda-050", Frames: frames, Deadline: 10 * hour}},
		Hosts:   []planning.Host{{ID: "bellows", Windows: [][2]planning.Millis{{0, 40 * hour}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.10")}}}},
		Timings: []planning.Timing{{Shot: "coda-050", Host: "bellows", Crew: "g0", Frame: 60_000}},
	}}
	var err error
	rest.Uncertainty.Endings, _, err = h.Of(h.t.Context(), &run, frames)
	require.NoError(h.t, err)
	rest.Plan, err = planning.Solve(h.t.Context(), rest.Problem, planning.Options{})
	require.NoError(h.t, err)
	_, err = rest.Look(h.t.Context())
	require.NoError(h.t, err)
	kept, err := h.Tell(h.t.Context(), run, at, &rest, moved)
	require.NoError(h.t, err)
	return kept
}

func (h house) rows(run uuid.UUID) (out []forecasted) {
	h.t.Helper()
	require.NoError(h.t, h.store.Where("run_id = ?", run).Order("later").Find(&out).Error)
	return out
}

func TestRunsAreLearntFrom(t *testing.T) {
	h := house{New(testdb.Open(t)), t}
	six := teststage.Six
	_, said, err := h.Of(t.Context(), nil, 100)
	require.NoError(t, err)
	assert.Contains(t, said, "none of yours has ended")

	// A hundred frames take about a hundred minutes, of ten hours that there are.
	first := h.run("running", "auto")
	kept := h.tell(first, replan.Auto, six, 100, false)
	require.NotNil(t, kept)
	assert.True(t, kept.P10.Before(kept.P50) && kept.P50.Before(kept.P90))
	assert.WithinRange(t, kept.P50, six.Add(3*time.Hour), six.Add(8*time.Hour), "most of what is saved is given back for money")
	h.tell(first, replan.Auto, six.Add(time.Hour), 60, false)
	assert.Len(t, h.rows(first), 1, "it is not half done")
	h.tell(first, replan.Auto, six.Add(2*time.Hour), 50, false)
	h.tell(first, replan.Auto, six.Add(3*time.Hour), 40, false)
	rows := h.rows(first)
	require.Len(t, rows, 2)
	assert.Equal(t, six.Add(2*time.Hour), rows[1].ToldAt.UTC())
	require.NoError(t, h.Sweep(t.Context()))
	assert.Nil(t, h.rows(first)[0].EndedAt, "it goes on")

	h.done(first, six.Add(9*time.Hour))
	require.NoError(t, h.Sweep(t.Context()))
	rows = h.rows(first)
	require.NotNil(t, rows[0].EndedAt)
	require.Len(t, rows[0].Told, 2, "the run and its shot")
	for i, s := range rows[0].Told {
		assert.Equal(t, i == 0, s.Shot == "")
		assert.InDelta(t, 9*3600, s.Ended, 1)
		assert.InDelta(t, 7*3600, rows[1].Told[i].Ended, 1, "from when it was told")
		assert.InDelta(t, 10*3600, rows[1].Told[i].Due, 1)
	}
	of, said, err := h.Of(t.Context(), nil, 100)
	require.NoError(t, err)
	assert.Contains(t, said, "the last 1 of yours")
	assert.NotEqual(t, forecast.LearnEndings(nil, false), of)
}

func TestWhatTellsNothingIsForgotten(t *testing.T) {
	h := house{New(testdb.Open(t)), t}
	six := teststage.Six
	asked, cancelled, switched, moved := h.run("running", "ask"), h.run("running", "auto"), h.run("running", "auto"), h.run("running", "auto")
	assert.Nil(t, h.tell(asked, replan.Ask, six, 10, false), "it is not planned anew by itself")
	assert.Empty(t, h.rows(asked))
	for _, run := range []uuid.UUID{cancelled, switched, moved} {
		h.tell(run, replan.Auto, six, 10, false)
		require.Len(t, h.rows(run), 1)
	}
	require.NoError(t, h.store.Exec("UPDATE runs SET state = 'cancelled', ended_at = $2 WHERE id = $1", cancelled, six).Error)
	require.NoError(t, h.store.Exec("UPDATE runs SET policy = 'off' WHERE id = $1", switched).Error)
	h.tell(moved, replan.Auto, six.Add(time.Hour), 8, true)
	require.NoError(t, h.Sweep(t.Context()))
	assert.Empty(t, h.rows(cancelled))
	assert.Empty(t, h.rows(switched))
	rows := h.rows(moved)
	require.Len(t, rows, 1, "its deadline moved: it begins anew")
	assert.Equal(t, 8, rows[0].Waiting)

	for n := range newest + 5 {
		at := six.Add(time.Duration(n) * time.Minute)
		require.NoError(t, h.store.Create(&forecasted{RunID: uuid.New(), ToldAt: six, Told: []forecast.Ending{}, EndedAt: &at}).Error)
	}
	require.NoError(t, h.Sweep(t.Context()))
	var left int64
	require.NoError(t, h.store.Model(&forecasted{}).Where("ended_at IS NOT NULL").Count(&left).Error)
	assert.LessOrEqual(t, left, int64(newest+1))
	assert.GreaterOrEqual(t, left, int64(newest))
}
