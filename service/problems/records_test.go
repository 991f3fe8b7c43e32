package problems

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/replan"
	"rotanex.example/service/clock"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

// What is being rendered tells at farms by how many nodes.
func TestWhatARunHasInHand(t *testing.T) {
	t.Parallel()
	db, run, six := testdb.Open(t), uuid.New(), teststage.Six
	require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, six).Error)
	require.NoError(t, db.Exec(`INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'storm-050', '{}')`, run).Error)
	number := 0
	add := func(host string, nodes int, devices string, frames int) (booking int64) {
		require.NoError(t, db.Raw(`INSERT INTO bookings (run_id, shot, host, crew, devices, frames, taken, frame_s, start_at, end_at, nodes)
			VALUES ($1, 'storm-050', $2, 'cpu', '[]', 9, $3, 90, $4, $4, $5) RETURNING id`, run, host, frames, six, nodes).Row().Scan(&booking))
		for range frames {
			number++
			require.NoError(t, db.Exec(`INSERT INTO frames (run_id, shot, frame, state, host, crew, devices, booking_id, leased_at)
				VALUES ($1, 'storm-050', $2, 'rendering', $3, 'cpu', $4, $5, $6)`, run, number, host, devices, booking, six).Error)
		}
		return booking
	}
	add("eddy", 1, `["cpu"]`, 1)
	gannet := add("gannet", 4, `[]`, 2)
	require.NoError(t, db.Exec(`INSERT INTO farm_jobs (id, run_id, order_id, booking_id, shot, farm, source, crew, frames, state, from_at)
		VALUES ($1, $2, $1, $3, 'storm-050', 'gannet', 'gannet', 'cpu', 9, 'rendering', $4)`, uuid.New(), run, gannet, six).Error)

	// Of a start whose frames take longer than was expected, the one in hand has begun after the others should have.
	slow := add("punt", 1, `["cpu"]`, 3)
	require.NoError(t, db.Exec(`UPDATE frames SET start = $2, begun = frame = $3, leased_at = CASE WHEN frame = $3 THEN $4::timestamptz ELSE $5::timestamptz END WHERE booking_id = $1`,
		slow, 77, number-2, six.Add(10*time.Minute), six.Add(3*time.Minute)).Error)

	p := &Problems{Config: Config{Store: db, Clock: clock.Wall()}}
	hand, err := p.leasedOf(t.Context(), run)
	require.NoError(t, err)
	for i := range hand {
		hand[i].Began = hand[i].Began.UTC()
	}
	at := replan.InHand{Shot: "storm-050", Host: "gannet", Crew: "cpu", Began: six, Takes: 90 * time.Second, Nodes: 4}
	assert.ElementsMatch(t, []replan.InHand{
		{Shot: "storm-050", Host: "eddy", Crew: "cpu", Began: six, Takes: 90 * time.Second, Devices: 1},
		at, at,
		{Shot: "storm-050", Host: "punt", Crew: "cpu", Began: six.Add(10 * time.Minute), Takes: 270 * time.Second, Devices: 1},
	}, hand)
	others, err := p.takenByOthers(t.Context(), nil, 0, []uuid.UUID{uuid.New()})
	require.NoError(t, err)
	assert.Len(t, others["eddy"], 2, "the frame in hand, and what is booked")
	own, err := p.takenByOthers(t.Context(), &run, 0, nil)
	require.NoError(t, err)
	assert.Empty(t, own)
	together, err := p.takenByOthers(t.Context(), nil, 0, []uuid.UUID{run})
	require.NoError(t, err)
	assert.Len(t, together["eddy"], 1, "what is being rendered is finished")
}
