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

// What was laid for a run that was never begun is deleted, frames first; one that is being laid is left alone.
func TestWhatIsLeftOfRunsThatWereNotBegunIsDeleted(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	r := New(on.DB, on.Feed, on.Jobs(t))
	old, late := uuid.New(), uuid.New()
	for id, age := range map[uuid.UUID]string{old: "2 hours", late: "1 minute"} {
		require.NoError(t, on.DB.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'laid', '', 'running', 3, now() - $2::interval)", id, age).Error)
		require.NoError(t, on.DB.Exec("INSERT INTO frames (run_id, shot, frame, state) SELECT $1, 'coda-060', n, 'waiting' FROM generate_series(1, $2::int) n", id, step+1).Error)
	}
	count := func(query string, of uuid.UUID) (n int) {
		require.NoError(t, on.DB.Raw(query, of).Row().Scan(&n))
		return n
	}
	for range 2 {
		require.NoError(t, r.Sweep(t.Context()))
	}
	assert.Equal(t, 1, count("SELECT count(*) FROM river_job WHERE args::text LIKE '%' || $1::text || '%'", old), "it is asked for once")
	assert.Zero(t, count("SELECT count(*) FROM river_job WHERE args::text LIKE '%' || $1::text || '%'", late))
	require.NoError(t, r.frames(t.Context(), old.String()))
	const runs, frames = "SELECT count(*) FROM runs WHERE id = $1", "SELECT count(*) FROM frames WHERE run_id = $1"
	assert.Zero(t, count(runs, old)+count(frames, old))
	assert.Equal(t, 1+step+1, count(runs, late)+count(frames, late))
}

// A shot goes with its passes and all their packages, and no pass goes by itself.
func TestAShotIsDeletedWithItsPasses(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	r := New(on.DB, on.Feed, on.Jobs(t))
	for name, spec := range map[string]string{"stair-030": `{}`, "stair-030.beauty": `{"pass_of": "stair-030"}`, "coda-060": `{}`} {
		require.NoError(t, on.DB.Exec("INSERT INTO shots (name, spec, frame_count, updated_at) VALUES ($1, $2, 1, now())", name, spec).Error)
		require.NoError(t, on.DB.Exec("INSERT INTO packages (shot, files, sum, size, made_at) VALUES ($1, '[]', '', 0, now())", name).Error)
	}
	left := func() (names string) {
		require.NoError(t, on.DB.Raw("SELECT concat((SELECT string_agg(name, ' ' ORDER BY name) FROM shots), '; ', (SELECT string_agg(shot, ' ' ORDER BY shot) FROM packages))").Row().Scan(&names))
		return names
	}
	require.ErrorContains(t, r.Shot(t.Context(), "stair-030.beauty"), "it is a pass of stair-030: change stair-030, or delete it")
	require.Error(t, r.Shot(t.Context(), "lamp-040"))
	require.NoError(t, r.Shot(t.Context(), "stair-030"))
	assert.Equal(t, "coda-060; coda-060", left())
}
