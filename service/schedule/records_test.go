package schedule

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/service/hosts"
	"rotanex.example/service/runs"
	"rotanex.example/service/states"
	"rotanex.example/service/teststage"
)

var six = teststage.Six

// studio is schedules over a database of their own, with one run.
type studio struct {
	*Schedule
	t   *testing.T
	db  *gorm.DB
	run runs.Run
}

func newStudio(t *testing.T) *studio {
	t.Helper()
	t.Parallel()
	on := teststage.New(t)
	s := &studio{&Schedule{Config{Store: on.DB, Clock: on.Clock, Feed: on.Feed, Currency: "EUR", Log: on.Log}}, t, on.DB.DB, runs.Run{ID: uuid.New(), State: states.RunRunning}}
	s.exec("INSERT INTO runs (id, kind, request, state, tries, created_at, cap) VALUES (?, 'run', '', 'running', 3, ?, 5)", s.run.ID, six)
	return s
}

func (s *studio) exec(statement string, args ...any) {
	s.t.Helper()
	require.NoError(s.t, s.db.Exec(statement, args...).Error)
}

// changed stores a change of the run.
func (s *studio) changed(state State, at time.Time) Change {
	s.t.Helper()
	c := Change{ID: uuid.New(), RunID: s.run.ID, At: at, State: state, PlanID: uuid.New(), CostBefore: "1.00", CostAfter: "2.00", More: "0.00"}
	require.NoError(s.t, add(s.db, c))
	return c
}

func TestHowAProposalIsDecided(t *testing.T) {
	s := newStudio(t)
	first := s.changed(Proposed, six)
	got, err := s.decide(t.Context(), s.run.ID, first.ID, false, "mara")
	require.NoError(t, err)
	assert.Equal(t, Declined, got.State)
	assert.Equal(t, "mara", got.DecidedBy)
	again, err := s.decide(t.Context(), s.run.ID, first.ID, false, "juno")
	require.NoError(t, err, "a second time it changes nothing")
	assert.Equal(t, "mara", again.DecidedBy)
	_, err = s.decide(t.Context(), s.run.ID, first.ID, true, "juno")
	assert.ErrorContains(t, err, "the proposal is declined")
	_, err = s.decide(t.Context(), s.run.ID, uuid.New(), true, "juno")
	assert.ErrorContains(t, err, "has no change")

	// What is made or proposed later takes its place.
	second := s.changed(Proposed, six.Add(time.Minute))
	require.NoError(t, supersede(s.db, s.run.ID))
	_, err = s.decide(t.Context(), s.run.ID, second.ID, true, "juno")
	assert.ErrorContains(t, err, "the proposal is superseded")
	all, err := s.changes(t.Context(), s.run.ID)
	require.NoError(t, err)
	assert.Equal(t, []State{Superseded, Declined}, []State{all[0].State, all[1].State}, "newest first")
}

func TestHowLongAScheduleRests(t *testing.T) {
	t.Parallel()
	const settles = 10 * time.Minute
	assert.False(t, Change{}.rests(six, settles), "one that was never changed")
	for state, rests := range map[State]time.Duration{Made: settles, Proposed: settles, Superseded: settles, Declined: declined, Undone: declined} {
		c := Change{ID: uuid.New(), At: six, State: state}
		if rests == declined {
			c.At, c.DecidedAt = six.Add(-time.Hour), &six
		}
		assert.True(t, c.rests(six.Add(rests-time.Second), settles), state)
		assert.False(t, c.rests(six.Add(rests), settles), state)
	}
}

func TestTheOldestChangesAreForgotten(t *testing.T) {
	s := newStudio(t)
	for i := range keptChanges + 3 {
		s.changed(Superseded, six.Add(time.Duration(i)*time.Minute))
	}
	all, err := s.changes(t.Context(), s.run.ID)
	require.NoError(t, err)
	require.Len(t, all, keptChanges)
	assert.Equal(t, six.Add(3*time.Minute), all[len(all)-1].At.UTC())
}

// What bears on a run is seen as it stands, and what goes as planned is not in it.
func TestWhatBearsOnARun(t *testing.T) {
	s := newStudio(t)
	wall := s.Clock.WallNow()
	s.exec(`INSERT INTO hosts (name, source, spec, agent_seen, draining) VALUES
		('eddy', 'loft', '{}', ?, false), ('dory', 'loft', '{}', ?, false), ('punt', 'loft', '{}', ?, true), ('tern-1', 'tern', '{}', ?, false)`,
		wall, wall.Add(-2*hosts.LostLong), wall, wall)
	s.exec("INSERT INTO servers (run_id, id, offer, host, state, trouble, from_at, to_at, paid_at) VALUES (?, 'tern#1', 'tern', 'tern-1', 'up', '', ?, ?, ?)", s.run.ID, six, six, six)
	s.exec("INSERT INTO bookings (run_id, shot, host, crew, devices, frames, start_at, end_at, frame_s, excluded) VALUES (?, 'coda-060', 'eddy', 'g0', '[]', 3, ?, ?, 9, 'it crashed')", s.run.ID, six, six)
	world, err := s.world(s.db, s.run)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{
		"host eddy": "up", "host dory": "lost", "host punt": "draining", "crew eddy/g0 for coda-060": "it crashed", "cap": "5", "priority": "0", "deadline": "as planned",
	}, world, "the server does as it should")
	s.exec("UPDATE servers SET state = 'stopping', trouble = 'its agent could not be reached any more'")
	after, err := s.world(s.db, s.run)
	require.NoError(t, err)
	assert.Equal(t, []string{"server tern-1 failed: its agent could not be reached any more"}, happened(world, after))

	// The first sweep only notes how things are; later ones see what has happened since.
	due, err := s.due(t.Context(), s.run)
	require.NoError(t, err)
	assert.False(t, due)
	last, found, err := looked(s.db, s.run.ID)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Empty(t, happened(last.Seen, after))
}
