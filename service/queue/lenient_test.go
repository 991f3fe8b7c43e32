package queue

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/bookings"
	"rotanex.example/service/pictures"
	"rotanex.example/service/teststage"
)

// After the service was away, agents get time to renew their leases; one that was dead while others were heard of does not.
func TestTheDeadGetNoTime(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	q := New(on.DB, on.Clock, on.Feed, pictures.New(on.Blobs), on.Log)
	run, now := uuid.New(), on.Wall.Now()
	exec := func(statement string, args ...any) { require.NoError(t, on.DB.Exec(statement, args...).Error) }
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES (?, 'run', '', 'running', 3, ?)", run, now)
	exec("INSERT INTO run_shots (run_id, shot, spec) VALUES (?, 'coda-060', '{}')", run)
	booked := []bookings.Booking{{RunID: run, Shot: "coda-060", Host: "eddy", Crew: "cpu", Devices: []string{}, Frames: 3, Taken: 3, StartAt: now, EndAt: now, FrameS: 60, Open: true}}
	require.NoError(t, bookings.Add(on.DB.DB, booked))
	for frame, host := range map[int]string{1: "eddy", 2: "bellows", 3: "a farm"} {
		exec("INSERT INTO frames (run_id, shot, frame, state, host, crew, devices, booking_id, leased_at, lease_until) VALUES (?, 'coda-060', ?, 'rendering', ?, 'cpu', '[]', ?, ?, ?)", run, frame, host, booked[0].ID, now.Add(-time.Minute), now.Add(-time.Second))
	}
	for host, seen := range map[string]time.Duration{"eddy": 20 * time.Second, "bellows": 45 * time.Second} {
		exec("INSERT INTO hosts (name, source, spec, launchers, findings, agent_seen) VALUES (?, '', '{}', '[]', '[]', ?)", host, now.Add(-seen))
	}
	held := func() (hosts []string) {
		require.NoError(t, on.DB.Raw("SELECT host FROM frames WHERE state = 'rendering' ORDER BY host").Scan(&hosts).Error)
		return hosts
	}
	require.NoError(t, q.Sweep(t.Context(), true))
	assert.Equal(t, []string{"a farm", "eddy"}, held(), "eddy was heard of with the last")
	require.NoError(t, q.Sweep(t.Context(), false))
	assert.Empty(t, held())
}
