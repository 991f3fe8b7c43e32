package runs

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/frames"
	"rotanex.example/service/accounts"
	"rotanex.example/service/bookings"
	"rotanex.example/service/pictures"
	"rotanex.example/service/planned"
	"rotanex.example/service/queue"
	"rotanex.example/service/renderlogs"
	"rotanex.example/service/shots"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
	"rotanex.example/service/teststage"
)

var six = teststage.Six

// stage is runs over a database of its own, with one run of three frames.
type stage struct {
	*Runs
	t   *testing.T
	db  *store.Store
	run uuid.UUID
}

func newStage(t *testing.T) *stage {
	t.Helper()
	t.Parallel()
	on := teststage.New(t)
	s := &stage{t: t, db: on.DB, run: uuid.New()}
	kept := pictures.New(on.Blobs)
	q := queue.New(on.DB, on.Clock, on.Feed, kept, on.Log)
	s.Runs = New(Config{
		Store: on.DB, Clock: on.Clock, Feed: on.Feed, Queue: q, Standing: standing.New(on.DB, on.Clock, on.Feed, q, renderlogs.New(on.DB, on.Blobs)), Accounts: accounts.New(on.DB, on.Clock, q), Log: on.Log,
	})
	require.NoError(t, s.Begin(t.Context(), s.beginning(s.run)))
	return s
}

func (s *stage) beginning(id uuid.UUID) Beginning {
	b := Beginning{
		Run:   Run{ID: id, Kind: KindRun, Request: []byte("so"), Tries: 3, CreatedAt: six},
		Shots: []Shot{{RunID: id, Shot: "coda-060", Spec: shots.Spec{Name: "coda-060", Width: 64, Height: 36}}},
		Booked: planned.Booked{Bookings: []bookings.Booking{{
			RunID: id, Shot: "coda-060", Host: "eddy", Crew: "g0", Devices: []string{"g0"}, Frames: 3, StartAt: six, EndAt: six.Add(time.Hour), FrameS: 60,
		}}},
	}
	b.Frames = []queue.Asked{{Shot: "coda-060", Frames: frames.Of(1, 2, 3)}}
	return b
}

// frames puts the run's frames into states, one each.
func (s *stage) frames(states ...string) {
	s.t.Helper()
	for i, state := range states {
		require.NoError(s.t, s.db.Exec("UPDATE frames SET state = $1, failures = CASE WHEN $1 = 'failed' THEN 3 ELSE 0 END WHERE run_id = $2 AND frame = $3", state, s.run, i+1).Error)
	}
}

func (s *stage) states(run uuid.UUID) []string {
	s.t.Helper()
	all, err := store.Column[string](s.db.Raw("SELECT state FROM frames WHERE run_id = $1 ORDER BY frame", run))
	require.NoError(s.t, err)
	return all
}

func (s *stage) state() (r Run) {
	s.t.Helper()
	require.NoError(s.t, s.db.Where("id = ?", s.run).Take(&r).Error)
	return r
}

func (s *stage) open() (n int) {
	s.t.Helper()
	require.NoError(s.t, s.db.Raw("SELECT count(*) FROM bookings WHERE run_id = $1 AND open", s.run).Row().Scan(&n))
	return n
}

func (s *stage) excluded() (n int) {
	s.t.Helper()
	require.NoError(s.t, s.db.Raw("SELECT count(*) FROM bookings WHERE run_id = $1 AND excluded <> ''", s.run).Row().Scan(&n))
	return n
}

func TestARunsStates(t *testing.T) {
	for name, c := range map[string]struct {
		from, to states.Run
		becomes  states.Run // "" where it is refused
		open     int        // bookings by which frames are leased
	}{
		"paused":                     {"running", "paused", "paused", 1},
		"goes on":                    {"paused", "running", "running", 1},
		"is what it is":              {"running", "running", "running", 1},
		"cancelled":                  {"running", "cancelled", "cancelled", 0},
		"cancelled while it pauses":  {"paused", "cancelled", "cancelled", 0},
		"tried again":                {"incomplete", "running", "running", 1},
		"complete is final":          {"complete", "running", "", 0},
		"cancelled is final":         {"cancelled", "running", "", 0},
		"incomplete does not pause":  {"incomplete", "paused", "", 0},
		"incomplete is no cancelled": {"incomplete", "cancelled", "", 0},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStage(t)
			over := c.from != "running" && c.from != "paused"
			require.NoError(t, s.db.Exec("UPDATE runs SET state = $1, ended_at = CASE WHEN $2 THEN now() END", c.from, over).Error)
			require.NoError(t, bookings.SetOpen(s.db.DB, !over, s.run))
			require.NoError(t, s.db.Exec("UPDATE bookings SET excluded = 'its renderer did not start'").Error)
			if c.from == "incomplete" {
				s.frames("done", "failed", "failed")
			}
			err := s.SetState(t.Context(), s.run, c.to)
			if c.becomes == "" {
				assert.ErrorContains(t, err, "final")
				assert.Equal(t, c.from, s.state().State)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.becomes, s.state().State)
			assert.Equal(t, c.becomes == "cancelled", s.state().EndedAt != nil)
			assert.Equal(t, c.open, s.open())
			assert.Equal(t, c.to == "running" && c.from != "running", s.excluded() == 0, "who resumes has fixed what was wrong")
			if c.from == "incomplete" {
				assert.Equal(t, []string{"done", "waiting", "waiting"}, s.states(s.run), "what failed is tried again, what is done stays")
			}
		})
	}
}

// A run is over when none of its frames waits or is rendered: complete if all are done.
func TestARunIsClosedWithItsLastFrame(t *testing.T) {
	for name, c := range map[string]struct {
		frames  []string
		becomes states.Run
	}{
		"one waits":       {[]string{"done", "done", "waiting"}, "running"},
		"one is rendered": {[]string{"done", "failed", "rendering"}, "running"},
		"one failed":      {[]string{"done", "failed", "done"}, "incomplete"},
		"all are done":    {[]string{"done", "done", "done"}, "complete"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStage(t)
			s.frames(c.frames...)
			require.NoError(t, s.tryEnded(t.Context(), s.run, "coda-060", false))
			require.NoError(t, s.Sweep(t.Context()))
			assert.Equal(t, c.becomes, s.state().State)
			if c.becomes != "running" {
				assert.Zero(t, s.open())
				assert.Equal(t, six, s.state().EndedAt.UTC())
			}
		})
	}
}

// A run is begun once, and whole or not at all; frames that another has done are taken over.
func TestARunIsBegunOnceAndWhole(t *testing.T) {
	s := newStage(t)
	require.NoError(t, s.Begin(t.Context(), s.beginning(s.run)), "asked for again in the same words it is the same run")
	other := s.beginning(s.run)
	other.Run.Request = []byte("otherwise")
	assert.ErrorContains(t, s.Begin(t.Context(), other), "Idempotency-Key")
	assert.Len(t, s.states(s.run), 3)

	s.frames("done", "done", "waiting")
	next := uuid.New()
	b := s.beginning(next)
	b.Frames[0].Frames = frames.Of(3)
	b.Kept = []Kept{{From: s.run, Shot: "coda-060", Frames: frames.Of(1, 2)}}
	require.NoError(t, s.Begin(t.Context(), b))
	assert.Equal(t, []string{"done", "done", "waiting"}, s.states(next))

	b = s.beginning(uuid.New())
	b.Kept = []Kept{{From: s.run, Shot: "coda-060", Frames: frames.Of(3)}}
	b.Frames[0].Frames = frames.Of(1, 2)
	assert.ErrorContains(t, s.Begin(t.Context(), b), "are not there any more")
	var runs int
	require.NoError(t, s.db.Raw("SELECT count(*) FROM runs").Row().Scan(&runs))
	assert.Equal(t, 2, runs, "what could not be begun left nothing")
}
