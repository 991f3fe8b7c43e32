package bookings

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/service/teststage"
)

// What is asked with each lease reads no table from end to end, whatever the planner thinks of most frames waiting: those that are
// done would be read each time.
func TestWhatWaitsIsReadFromItsIndex(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	run := uuid.New()
	exec := func(statement string, args ...any) { require.NoError(t, on.DB.Exec(statement, args...).Error) }
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, on.Wall.Now())
	exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'coda-060', '{}')", run)
	exec("INSERT INTO frames (run_id, shot, frame, state) SELECT $1, 'coda-060', n, CASE WHEN n <= 500 THEN 'done' ELSE 'waiting' END FROM generate_series(1, 20000) n", run)
	exec("UPDATE frames SET failures = 1, failed_on = '[\"eddy/g0\"]' WHERE frame % 5000 = 0")
	exec("ANALYZE frames")
	require.NoError(t, on.DB.DB.Transaction(func(tx *gorm.DB) error {
		scans := func() (n int) {
			require.NoError(t, tx.Raw("SELECT seq_scan FROM pg_stat_xact_user_tables WHERE relname = 'frames'").Row().Scan(&n))
			return n
		}
		for name, ask := range map[string]func() (any, error){
			"whether any waits": func() (any, error) { return CountWaiting(tx, run, "coda-060", 1) },
			"whether few wait":  func() (any, error) { return CountWaiting(tx, run, "coda-060", Few+1) },
			"what waits":        func() (any, error) { return Kinds(tx, run, "coda-060") },
			"of all shots":      func() (any, error) { return KindsOfRun(tx, run) },
		} {
			before := scans()
			got, err := ask()
			require.NoError(t, err)
			assert.NotEmpty(t, got, name)
			assert.Equal(t, before, scans(), name)
		}
		before := scans()
		_, err := CountWaiting(tx, run, "no such shot", 0)
		require.NoError(t, err)
		require.NoError(t, tx.Exec("SELECT count(*) FROM frames WHERE seconds > 3").Error)
		assert.Equal(t, before+1, scans(), "one that reads all is seen")
		return nil
	}))
}
