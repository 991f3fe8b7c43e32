package standing

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/hosts"
	"rotanex.example/service/queue"
	"rotanex.example/service/teststage"
)

func TestWhatWaitsForAPerson(t *testing.T) {
	s := newStill(t)
	waits := func() (out []api.Waiting) {
		all, err := s.AllWaiting(t.Context())
		require.NoError(t, err)
		for _, w := range all {
			out = append(out, w.Record()...)
		}
		return out
	}
	assert.Empty(t, waits())

	// Nobody is left for a frame; a schedule is proposed; a farm's proof frames are to be looked at.
	s.host("eddy", hosts.Lost)
	s.book("eddy", 1)
	s.frames(queue.Frame{})
	change := func(state string) {
		require.NoError(t, s.db.Exec(`INSERT INTO schedule_changes (id, run_id, at, state, cause, gain, decided_by, plan_id, chance_before, chance_after, cost_before, cost_after, more, moved, frames)
			VALUES ($1, $2, $3, $4, '', '', '', $1, 0, 1, 0, 0, 0, 0, 0)`, uuid.New(), s.run, teststage.Six, state).Error)
	}
	change("proposed")
	change("made")
	job := func(farm, state string, accepted *bool) {
		require.NoError(t, s.db.Exec(`INSERT INTO farm_jobs (id, run_id, order_id, booking_id, shot, farm, source, crew, frames, state, from_at, accepted)
			VALUES ($1, $2, $2, 9, 'lamp-040', $3, 'saltmarsh', 'node', 40, $4, $5, $6)`, uuid.New(), s.run, farm, state, teststage.Six, accepted).Error)
	}
	job("ebb", "held", nil)
	job("neap", "held", new(true))
	job("gannet", "rendering", nil)
	got := waits()
	require.Len(t, got, 3)
	assert.Equal(t, api.Waiting{Run: s.run, What: api.WaitingProposal}, got[0])
	assert.Equal(t, "ebb", got[1].Farm)
	assert.Equal(t, 40, got[1].Frames)
	assert.NotNil(t, got[1].Job)
	assert.Equal(t, api.WaitingStranded, got[2].What)
	assert.Contains(t, got[2].Why, "eddy is not heard of")

	// A paused run takes no frames, so none is stranded; of one that is over nothing waits.
	require.NoError(t, s.db.Exec("UPDATE runs SET state = 'paused'").Error)
	assert.Len(t, waits(), 2)
	require.NoError(t, s.db.Exec("UPDATE runs SET state = 'cancelled'").Error)
	assert.Empty(t, waits())
}
