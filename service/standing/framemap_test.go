package standing

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/service/events"
	"rotanex.example/service/queue"
	"rotanex.example/service/testdb"
)

// tell changes a frame as what renders it does, and tells of it.
func (s *still) tell(frame int, state queue.State) {
	s.t.Helper()
	require.NoError(s.t, s.db.Exec("UPDATE frames SET state = $2 WHERE frame = $1", frame, state).Error)
	require.NoError(s.t, s.feed.Write(s.db.DB, events.Event{Kind: events.Frame, Run: s.run.String(), Shot: "lamp-040", Frame: frame, State: string(state)}))
}

func (s *still) mapped() FrameMap {
	s.t.Helper()
	m, err := s.Map(s.t.Context(), s.run)
	require.NoError(s.t, err)
	return m
}

// shows waits until a map shows the frames so: what happened is told once all transactions are over that were open then, those of
// other tests too.
func (s *still) shows(want string) {
	s.t.Helper()
	got := ""
	testdb.Until(s.t, "the map to show "+want, func() bool { got = s.mapped().Shots[0].States; return got == want })
}

// A map is read once, and kept up by what is told of single frames; anything else that happens to the run has it read anew.
func TestAMapOfFrames(t *testing.T) {
	s := newStill(t)
	s.frames(queue.Frame{}, queue.Frame{}, queue.Frame{}, queue.Frame{}, queue.Frame{State: queue.Failed, Cause: "timeout"}, queue.Frame{State: queue.Failed, Cause: "timeout"}, queue.Frame{State: queue.Failed, Cause: "crashed"})
	first := s.mapped()
	require.Len(t, first.Shots, 1)
	assert.Equal(t, "4w3f", first.Shots[0].States)
	assert.Equal(t, "1-7", first.Shots[0].Frames.String())
	require.Len(t, first.Failed, 2)
	assert.Equal(t, "timeout", first.Failed[0].Cause)
	assert.Equal(t, "5-6", first.Failed[0].Frames.String())

	s.tell(2, queue.Rendering)
	s.shows("1w1r2w3f")
	s.tell(2, queue.Done)
	s.tell(3, queue.Rendering)
	s.shows("1w1d1r1w3f")
	require.NoError(t, s.db.Exec("UPDATE frames SET state = 'waiting' WHERE state = 'failed'").Error)
	assert.Equal(t, "1w1d1r1w3f", s.mapped().Shots[0].States, "nobody told of it")
	require.NoError(t, s.feed.Write(s.db.DB, events.Event{Kind: events.Run, Run: s.run.String(), State: "running"}))
	s.shows("1w1d1r4w")
	s.tell(99, queue.Done) // there is no such frame
	s.tell(1, queue.Rendering)
	s.shows("1r1d1r4w")

	_, err := s.Map(t.Context(), uuid.New())
	assert.ErrorContains(t, err, "there is no run")
}

func TestRunLengthsSayEveryLetter(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		letters := rapid.SliceOf(rapid.SampledFrom([]byte("wrdf"))).Draw(t, "letters")
		var back []byte
		n := 0
		for _, c := range []byte(runLengths(letters)) {
			if c >= '0' && c <= '9' {
				n = 10*n + int(c-'0')
				continue
			}
			for range n {
				back = append(back, c)
			}
			n = 0
		}
		assert.Equal(t, string(letters), string(back))
	})
}
