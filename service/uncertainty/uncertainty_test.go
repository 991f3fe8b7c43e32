package uncertainty

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/disruptions"
	"rotanex.example/service/clock"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

// What upset earlier runs is seen in the tries of one's own hosts: not in those of rented servers
// and farms, nor of frames that failed or were taken back, nor of long ago.
func TestWhatUpsetRunsIsSeenInTheTriesOfOnesOwnHosts(t *testing.T) {
	db, run, six := testdb.Open(t), uuid.New(), teststage.Six
	require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'complete', 3, $2)", run, six).Error)
	for name, server := range map[string]bool{"eddy": false, "dory": false, "tern-solo-1.ab": true} {
		require.NoError(t, db.Exec("INSERT INTO hosts (name, source, spec, server) VALUES ($1, 'loft', '{}', $2)", name, server).Error)
	}
	number := 0
	add := func(host, outcome string, begin time.Time, takes ...time.Duration) {
		for _, span := range takes {
			number++
			var id int64
			require.NoError(t, db.Raw("INSERT INTO frames (run_id, shot, frame, state) VALUES ($1, 'lamp-040', $2, 'done') RETURNING id", run, number).Row().Scan(&id))
			require.NoError(t, db.Exec(`INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, booking_id)
				VALUES ($1, $2, 1, $3, 'g0', $4, $5, $6, 60, 1)`, id, run, host, outcome, begin, begin.Add(span)).Error)
			begin = begin.Add(span)
		}
	}
	const m = time.Minute
	add("eddy", "done", six, m, m, m, m, m, m, 5*m, 5*m, 5*m, 5*m, m, m)
	add("dory", "done", six, 2*m, 2*m, 2*m, 2*m)
	add("dory", "lost", six.Add(8*m), m)
	add("dory", "failed", six.Add(9*m), time.Hour)
	add("dory", "revoked", six.Add(9*m), time.Hour)
	add("tern-solo-1.ab", "lost", six, time.Hour)
	add("ebb", "done", six, time.Hour, time.Hour, time.Hour)
	add("eddy", "done", six.Add(-100*24*time.Hour), time.Hour)

	d := New(db, clock.Wall(), nil, nil, nil)
	tries, err := d.triesSince(t.Context(), six.Add(-remembered))
	require.NoError(t, err)
	require.Len(t, tries, 17)
	seen := disruptions.See(tries)
	assert.Equal(t, []disruptions.Slowdown{{Lasted: 20 * m, Times: 5}}, seen.Slowed)
	assert.Equal(t, 1, seen.Lost)
	assert.Equal(t, 28*m+9*m, seen.HostTime)
	assert.Contains(t, about(disruptions.Learn(seen)), "2 cases seen in 60 days")
	assert.Contains(t, about(disruptions.Learn(disruptions.Seen{})), "slowed every 60 h for 1.5 h, 2.0 times as slow, and lost every 1000 h; a more urgent run every 200 h for 1.0 h; one shot of 10 grows heavier")
	urgent := disruptions.Learn(seen)
	urgent.UrgentEvery = 0
	assert.NotContains(t, about(urgent), "urgent", "nothing is more urgent than the most urgent")
}
