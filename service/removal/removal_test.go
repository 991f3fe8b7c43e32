package removal

import (
	"os"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// A run is gone at once; what it leaves is deleted in steps behind that, and nothing of another run.
func TestARunIsDeletedInSteps(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	r := New(on.DB, on.Feed, on.Jobs(t))
	run, other := uuid.New(), uuid.New()
	exec := func(statement string, args ...any) { require.NoError(t, on.DB.Exec(statement, args...).Error) }
	count := func(what string) (n int) {
		require.NoError(t, on.DB.Raw("SELECT count(*) FROM "+what).Row().Scan(&n))
		return n
	}
	for _, id := range []uuid.UUID{run, other} {
		exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'complete', 3, $2)", id, on.Wall.Now())
		exec("INSERT INTO frames (run_id, shot, frame, state) SELECT $1, 'coda-060', n, 'done' FROM generate_series(1, $2::int) n", id, 2*step)
		exec("INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds) SELECT id, run_id, 1, 'eddy', 'cpu', 'done', $2, $2, 1 FROM frames WHERE run_id = $1", id, on.Wall.Now())
		exec("INSERT INTO charges (run_id, source, place, at, metered_s, amount, unit, factor, cost) VALUES ($1, 'tern', $1::uuid::text, $2, 1, 2, 'EUR', '1', 2)", id, on.Wall.Now())
	}
	require.NoError(t, r.Run(t.Context(), run))
	assert.ErrorContains(t, r.Run(t.Context(), run), "there is no run")
	assert.ErrorContains(t, r.Archive(t.Context(), run, true), "there is no run")
	assert.Equal(t, 4*step, count("frames"), "nobody waits for that")
	assert.Equal(t, 1, count("river_job WHERE args->>'what' = 'delete frames'"))

	for range 2 {
		require.NoError(t, r.frames(t.Context(), run.String()), "the second time there is nothing left")
	}
	require.NoError(t, r.frames(t.Context(), uuid.NewString()))
	assert.Equal(t, 1, count("runs"))
	assert.Equal(t, 2*step, count("frames"))
	assert.Equal(t, 2*step, count("tries"))
	assert.Equal(t, 2, count("charges"), "what was paid stays")
}
