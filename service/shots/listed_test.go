package shots

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/teststage"
)

// Hosts look for the inputs of what they may be given next: not for those of every shot there ever was.
func TestWhichInputsHostsLookFor(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	s := New(on.DB, on.Clock, on.Feed)
	files := func() []string {
		out, err := Files(on.DB.DB, on.Wall.Now())
		require.NoError(t, err)
		return out
	}
	state := func() (string, time.Time) {
		out, to, err := Listed(on.DB.DB, on.Wall.Now())
		require.NoError(t, err)
		return out, to
	}
	asked := func() Shot {
		shot, err := s.Find(t.Context(), "lamp-040")
		require.NoError(t, err)
		shot, err = s.Asked(t.Context(), shot)
		require.NoError(t, err)
		return shot
	}
	first, err := s.Put(t.Context(), "lamp-040", lamp(func(s *Spec) { s.Inputs = []string{"lamp/fog.vdb"} }))
	require.NoError(t, err)
	both := []string{"lamp/fog.vdb", "lamp/lamp.yaml"}
	assert.Equal(t, both, files())
	before, to := state()
	assert.True(t, to.Equal(first.InputsSince()))

	on.Wall.Advance(lately - time.Hour)
	assert.True(t, asked().InputsSince().Equal(first.InputsSince()), "it is on the list still: what hosts said holds")
	after, _ := state()
	assert.Equal(t, before, after, "nobody looks anew because somebody asks")
	on.Wall.Advance(lately - time.Hour)
	assert.Equal(t, both, files(), "somebody asked since")
	on.Wall.Advance(2 * time.Hour)
	assert.Empty(t, files(), "nobody asked for long")
	gone, _ := state()
	assert.NotEqual(t, before, gone)

	run := uuid.New()
	require.NoError(t, on.DB.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'paused', 3, $2)", run, on.Wall.Now()).Error)
	require.NoError(t, on.DB.Exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'lamp-040', '{}')", run).Error)
	assert.Equal(t, both, files(), "a run renders it")
	require.NoError(t, on.DB.Exec("UPDATE runs SET state = 'complete'").Error)
	assert.Empty(t, files())

	again := asked()
	assert.Equal(t, both, files())
	assert.True(t, again.InputsSince().Equal(on.Wall.Now()), "what hosts said long ago holds no more")
	_, to = state()
	assert.False(t, to.Before(again.InputsSince()))
}
