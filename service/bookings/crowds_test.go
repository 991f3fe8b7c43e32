package bookings

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/teststage"
)

// Of many frames that wait a count of a moment ago will do; of few each is counted, and each crew read, every time.
func TestCrowdsAreExactWhereItMatters(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	run, now := uuid.New(), on.Wall.Now()
	exec := func(statement string, args ...any) { require.NoError(t, on.DB.Exec(statement, args...).Error) }
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, now)
	exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'coda-060', '{}')", run)
	exec("INSERT INTO frames (run_id, shot, frame) SELECT $1, 'coda-060', n FROM generate_series(1, 1000) n", run)
	require.NoError(t, Add(on.DB.DB, []Booking{{RunID: run, Shot: "coda-060", Host: "eddy", Crew: "g0", Devices: []string{"g0"}, Frames: 9, StartAt: now, EndAt: now.Add(time.Hour), FrameS: 10, Nodes: 1}}))
	crowds := NewCrowds()
	look := func() (taken, waiting int) {
		crews, waiting, err := crowds.Of(on.DB.DB, on.Wall.Now(), run, "coda-060")
		require.NoError(t, err)
		require.Len(t, crews, 1)
		return crews[0].Taken, waiting
	}
	done := func(upTo int) {
		exec("UPDATE frames SET state = 'done' WHERE frame <= $1", upTo)
		exec("UPDATE bookings SET taken = $1", upTo)
	}
	expect := func(wantTaken, wantWaiting int, why string) {
		t.Helper()
		taken, waiting := look()
		assert.Equal(t, []int{wantTaken, wantWaiting}, []int{taken, waiting}, why)
	}
	expect(0, 1000, "")
	done(10)
	expect(10, 990, "of a clock that stands nothing is kept")
	on.Wall.Advance(moment / 2)
	done(20)
	expect(10, 990, "of a moment ago")
	on.Wall.Advance(moment)
	expect(20, 990, "crews are read again before frames are counted again")
	on.Wall.Advance(recounted)
	expect(20, 980, "")
	on.Wall.Advance(time.Millisecond)
	done(1000 - Few)
	expect(1000-Few, Few, "few are counted each time")
	done(999)
	expect(999, 1, "")
}
