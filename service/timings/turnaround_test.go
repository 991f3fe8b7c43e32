package timings

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/clock"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

// A frame takes a crew up for longer than its renderer says: starting it, checking and
// sending. That is learnt by host, of hosts with little seen from all, and not from farms,
// of which a frame is under lease for as long as its job.
func TestWhatAFrameTakesBeyondItsRendererIsLearnt(t *testing.T) {
	db, run := testdb.Open(t), uuid.New()
	six := teststage.Six
	require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, six).Error)
	require.NoError(t, db.Exec(`INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'lamp-040', '{"name": "lamp-040"}')`, run).Error)
	require.NoError(t, db.Exec("INSERT INTO farm_jobs (id, run_id, order_id, booking_id, shot, farm, source, crew, frames, state, from_at) VALUES ($1, $2, $2, 1, 'lamp-040', 'ebb', 'saltmarsh', 'cpu', 9, 'ended', $3)", uuid.New(), run, six).Error)
	number, start := 0, 0
	add := func(host string, spans ...time.Duration) {
		for _, span := range spans {
			number++
			var id int64
			require.NoError(t, db.Raw("INSERT INTO frames (run_id, shot, frame, state, start) VALUES ($1, 'lamp-040', $2, 'done', $3) RETURNING id", run, number, start).Row().Scan(&id))
			require.NoError(t, db.Exec(`INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, booking_id)
				VALUES ($1, $2, 1, $3, 'g0', 'done', $4, $5, 60, 1)`, id, run, host, six, six.Add(span)).Error)
		}
	}
	timings := New(db, clock.Wall(), nil)
	none, err := timings.Turnaround(t.Context())
	require.NoError(t, err)
	assert.Zero(t, none.On("eddy"), "nothing was seen yet")

	add("eddy", 65*time.Second, 66*time.Second, 3*time.Minute)
	add("dory", 62*time.Second)
	add("ebb", time.Hour, time.Hour, time.Hour, time.Hour, time.Hour)
	add("bellows", 59*time.Second, 59*time.Second, 59*time.Second)
	start = 1
	add("eddy", 60*time.Second, 60*time.Second, 60*time.Second, 60*time.Second) // handed in behind the renderer's back
	seen, err := timings.Turnaround(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 6*time.Second, seen.On("eddy"), "one that took long is no rule")
	assert.Zero(t, seen.On("bellows"), "a lease is no shorter than its frame, whatever clocks say")
	assert.Equal(t, 2*time.Second, seen.On("dory"), "of one frame little is known: as all hosts do")
	assert.Equal(t, 2*time.Second, seen.On("tern-solo"))
}
