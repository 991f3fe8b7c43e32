package queue

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/core/frames"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
)

// chained is a run of a composite of two passes, and a pass that is made of it, all of two frames.
func chained(t *testing.T, db *store.Store) uuid.UUID {
	run := uuid.New()
	require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at, chained) VALUES ($1, 'run', '', 'running', 3, now(), true)", run).Error)
	for shot, spec := range map[string]string{"beauty": `{}`, "occlusion": `{}`, "composite": `{"after": ["beauty", "occlusion"]}`, "grain": `{"after": ["composite"]}`} {
		require.NoError(t, db.Exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, $2, $3)", run, shot, spec).Error)
		set, err := frames.Parse("1-2")
		require.NoError(t, err)
		require.NoError(t, Add(db.DB, run, Asked{Shot: shot, Frames: set}))
	}
	require.NoError(t, Block(db.DB, run))
	return run
}

func stateOf(t *testing.T, db *store.Store, run uuid.UUID, shot string, frame int) (state string) {
	t.Helper()
	require.NoError(t, db.Raw("SELECT state FROM frames WHERE run_id = $1 AND shot = $2 AND frame = $3", run, shot, frame).Row().Scan(&state))
	return state
}

// finishes makes a frame done, as End does, and says whether another may be taken for it.
func finishes(tx *gorm.DB, run uuid.UUID, shot string, frame int) (bool, error) {
	if err := tx.Exec("UPDATE frames SET state = 'done' WHERE run_id = $1 AND shot = $2 AND frame = $3", run, shot, frame).Error; err != nil {
		return false, err
	}
	return arrived(tx, leased{run: run, shot: shot, frame: frame, chained: true})
}

// Of two inputs that become done at one time, the second lets the composite go on.
func TestTwoInputsAreDoneAtOnce(t *testing.T) {
	t.Parallel()
	db := testdb.Open(t)
	run := chained(t, db)
	assert.Equal(t, "blocked", stateOf(t, db, run, "composite", 1))
	one := db.Begin()
	any, err := finishes(one, run, "beauty", 1)
	require.NoError(t, err)
	assert.False(t, any)
	second := make(chan error, 1)
	go func() {
		second <- db.Transaction(func(two *gorm.DB) error {
			any, err := finishes(two, run, "occlusion", 1)
			assert.True(t, any)
			return err
		})
	}()
	testdb.Until(t, "the second to wait for the first", func() bool {
		var waits bool
		require.NoError(t, db.Raw("SELECT EXISTS (SELECT FROM pg_locks WHERE NOT granted)").Row().Scan(&waits))
		return waits
	})
	require.NoError(t, one.Commit().Error)
	require.NoError(t, <-second)
	assert.Equal(t, "waiting", stateOf(t, db, run, "composite", 1))
	assert.Equal(t, "blocked", stateOf(t, db, run, "composite", 2), "it needs others")
	assert.Equal(t, "blocked", stateOf(t, db, run, "grain", 1), "it needs the composite")
}

// What is given up gives up all that is made of it, and comes back with it.
func TestWhatIsGivenUpGivesUpWhatNeedsIt(t *testing.T) {
	t.Parallel()
	db := testdb.Open(t)
	run := chained(t, db)
	require.NoError(t, db.Exec("UPDATE frames SET state = 'failed', cause = 'crashed' WHERE run_id = $1 AND shot = 'beauty' AND frame = 2", run).Error)
	lost, err := blockedForEver(db.DB, run)
	require.NoError(t, err)
	assert.Len(t, lost, 2)
	assert.Equal(t, "failed", stateOf(t, db, run, "grain", 2))
	assert.Equal(t, "blocked", stateOf(t, db, run, "grain", 1))
	require.NoError(t, TryAgain(db.DB, run))
	for shot, want := range map[string]string{"beauty": "waiting", "composite": "blocked", "grain": "blocked"} {
		assert.Equal(t, want, stateOf(t, db, run, shot, 2), shot)
	}
}
