package runs

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/frames"
	"rotanex.example/service/queue"
)

// large is a run of more frames than a transaction has wait.
func (s *stage) large(id uuid.UUID, more int) Beginning {
	b := s.beginning(id)
	var numbers []int
	for n := range atOnce + more {
		numbers = append(numbers, n+1)
	}
	b.Frames = []queue.Asked{{Shot: "coda-060", Frames: frames.Of(numbers...)}}
	return b
}

func (s *stage) counted(run uuid.UUID) (n, waiting int) {
	s.t.Helper()
	require.NoError(s.t, s.db.Raw("SELECT count(*), count(*) FILTER (WHERE state = 'waiting') FROM frames WHERE run_id = $1", run).Row().Scan(&n, &waiting))
	return n, waiting
}

// A large run is laid in steps and is none until all of it is there. What stopped on the way is gone on from.
func TestALargeRunIsBegunWhole(t *testing.T) {
	s := newStage(t)
	id := uuid.New()
	b := s.large(id, 10)
	whole := b.Frames
	b.Kept = []Kept{{From: s.run, Shot: "coda-060", Frames: frames.Of(3)}} // which is not done there
	assert.ErrorContains(t, s.Begin(t.Context(), b), "are not there any more")
	n, _ := s.counted(id)
	assert.Equal(t, atOnce+10, n, "they are laid")

	_, err := s.Find(t.Context(), id)
	assert.ErrorContains(t, err, "there is no run")
	assert.ErrorContains(t, s.SetState(t.Context(), id, "cancelled"), "there is no run")
	running, err := s.Running(t.Context())
	require.NoError(t, err)
	assert.Len(t, running, 1, "the other")
	require.NoError(t, s.db.Exec("DELETE FROM frames WHERE run_id = $1 AND frame % 2 = 0", id).Error)
	require.NoError(t, s.Sweep(t.Context()))

	other := s.large(id, 10)
	other.Run.Request = []byte("otherwise")
	assert.ErrorContains(t, s.Begin(t.Context(), other), "Idempotency-Key")
	b = s.large(id, 10)
	for range 2 {
		b.Frames = whole
		require.NoError(t, s.Begin(t.Context(), b))
		n, waiting := s.counted(id)
		assert.Equal(t, []int{atOnce + 10, atOnce + 10}, []int{n, waiting}, "each once")
	}
	run, err := s.Find(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, KindRun, run.Kind)
	assert.Equal(t, six, run.CreatedAt.UTC())
}

func TestWhatWasLaidAndNeverBegunIsFound(t *testing.T) {
	s := newStage(t)
	old, late := uuid.New(), uuid.New()
	for _, id := range []uuid.UUID{old, late} {
		b := s.large(id, 1)
		is, err := layRun(s.db.DB, b.Run)
		require.NoError(t, err)
		require.True(t, is)
	}
	require.NoError(t, s.db.Exec("UPDATE runs SET created_at = now() - interval '61 minutes' WHERE id = $1", old).Error)
	left, err := Abandoned(s.db.DB)
	require.NoError(t, err)
	assert.Equal(t, []uuid.UUID{old}, left)
	assert.NoError(t, s.Begin(t.Context(), s.large(late, 1)))
	left, err = Abandoned(s.db.DB)
	require.NoError(t, err)
	assert.Empty(t, left)
}
