package chaos

import (
	"os"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/service/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// What is lost, doubled or left behind is found.
func TestWhatIsNotAsItShouldBeIsFound(t *testing.T) {
	db := testdb.Open(t).DB
	w, run := &world{Config: Config{Frames: 3}}, api.Run{Id: uuid.New()}
	exec := func(statement string, args ...any) { require.NoError(t, db.Exec(statement, args...).Error) }
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES (?, 'run', '', 'complete', 3, now())", run.Id)
	for frame := range 3 {
		exec("INSERT INTO frames (run_id, shot, frame, state) VALUES (?, 'coda-000', ?, 'done')", run.Id, frame)
	}
	exec("INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds) SELECT id, run_id, 1, 'eddy', 'g0', 'done', now(), now(), 1 FROM frames")
	found := func() []string {
		all, err := w.counted(t.Context(), db, run)
		require.NoError(t, err)
		return all
	}
	require.Empty(t, found(), "all is well")
	for _, c := range []struct{ do, finds string }{
		{"UPDATE frames SET state = 'waiting' WHERE frame = 1", "2 frames are done, should be 3"},
		{"UPDATE frames SET state = 'rendering' WHERE frame = 1", "1 frames are under lease, should be 0"},
		{"INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds) SELECT id, run_id, 2, 'bellows', 'g0', 'done', now(), now(), 1 FROM frames WHERE frame = 1", "1 frames were done more than once, should be 0"},
		{"DELETE FROM tries WHERE frame_id = (SELECT id FROM frames WHERE frame = 1)", "2 tries gave a frame, should be 3"},
	} {
		err := db.Transaction(func(tx *gorm.DB) error {
			require.NoError(t, tx.Exec(c.do).Error)
			all, err := w.counted(t.Context(), tx, run)
			require.NoError(t, err)
			assert.Contains(t, all, c.finds)
			return gorm.ErrInvalidTransaction // it is taken back
		})
		require.ErrorIs(t, err, gorm.ErrInvalidTransaction)
	}
}
