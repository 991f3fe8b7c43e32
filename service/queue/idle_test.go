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

// A host on which nothing is booked in a run that runs, and that renders nothing, is told so: it need not ask often.
func TestAHostWithNothingBookedIsIdle(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	q := New(on.DB, on.Clock, on.Feed, pictures.New(on.Blobs), on.Log)
	run, boot, now := uuid.New(), uuid.New(), on.Wall.Now()
	exec := func(statement string, args ...any) { require.NoError(t, on.DB.Exec(statement, args...).Error) }
	exec("INSERT INTO hosts (name, source, spec, launchers, findings, missing, renderers, boot, agent_seen) VALUES ('eddy', 'loft', $1, '[]', '[]', '[]', '[]', $2, $3)", `{"name":"eddy","memory_gb":64}`, boot, now)
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, now)
	exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'coda-060', '{}')", run)
	idle := func() bool {
		got, err := q.Grant(t.Context(), Holding{"eddy", boot, nil, false})
		require.NoError(t, err)
		assert.Empty(t, got.Leases)
		return got.Idle
	}
	assert.True(t, idle())
	require.NoError(t, bookings.Add(on.DB.DB, []bookings.Booking{{RunID: run, Shot: "coda-060", Host: "eddy", Crew: "g0", Devices: []string{"g0"}, StartAt: now, EndAt: now.Add(time.Hour), FrameS: 10, Open: true}}))
	assert.False(t, idle(), "a reserve may have to help at any time")
	exec("UPDATE runs SET state = 'paused'")
	assert.True(t, idle())
	exec("INSERT INTO frames (run_id, shot, frame, state, host, crew, devices, booking_id, boot, leased_at) VALUES ($1, 'coda-060', 1, 'rendering', 'eddy', 'g0', '[\"g0\"]', 1, $2, $3)", run, boot, now)
	got, err := q.Grant(t.Context(), Holding{"eddy", boot, nil, false})
	require.NoError(t, err)
	assert.False(t, got.Idle)
	assert.Len(t, got.Leases, 1, "what it has without knowing it is told")
	_, err = q.Grant(t.Context(), Holding{"eddy", uuid.New(), nil, false})
	assert.ErrorContains(t, err, "another agent reported")
}
