package bookings

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/teststage"
)

// What is read row by row is what was stored.
func TestBookingsAreReadAsTheyWereStored(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	run, now := uuid.New(), on.Wall.Now().UTC()
	require.NoError(t, on.DB.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, now).Error)
	due := now.Add(time.Hour)
	stored := []Booking{
		{RunID: run, Shot: "coda-060", Host: "eddy", Crew: "g0+cpu", Devices: []string{"g0", "cpu"}, Frames: 7, Taken: 2, StartAt: now, EndAt: due, CloseAt: &due, DueAt: &due, FrameS: 12.5, Nodes: 3, Open: true, Excluded: "too slow"},
		{RunID: run, Shot: "lamp-040", Host: "bellows", Crew: "g0", Devices: []string{"g0"}, StartAt: now.Add(time.Minute), EndAt: due, Nodes: 1},
	}
	require.NoError(t, Add(on.DB.DB, stored))
	got, err := All(on.DB.DB, run)
	require.NoError(t, err)
	for i := range got {
		got[i].StartAt, got[i].EndAt = got[i].StartAt.UTC(), got[i].EndAt.UTC()
		for _, at := range []**time.Time{&got[i].CloseAt, &got[i].DueAt} {
			if *at != nil {
				utc := (*at).UTC()
				*at = &utc
			}
		}
	}
	assert.Equal(t, stored, got)
}
