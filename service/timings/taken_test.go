package timings

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
	"pgregory.net/rapid"

	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/hosts"
	"rotanex.example/service/runs"
	"rotanex.example/service/teststage"
)

// shelf is a database with runs and trials, and what they say of times.
type shelf struct {
	teststage.Stage
	*testing.T
	timings *Timings
}

func newShelf(t *testing.T) *shelf {
	s := &shelf{Stage: teststage.New(t), T: t}
	for _, name := range []string{"eddy", "dory"} {
		spec := stock.Host{Name: name, Devices: []stock.Device{{ID: "g0", Model: "Topsail 24", Backends: []string{"compute2"}}}}
		require.NoError(t, s.DB.Create(&hosts.Host{Name: name, Spec: spec, Launchers: []string{}, Findings: []string{}, Missing: []string{}, Renderers: []preflight.Renderer{}}).Error)
	}
	s.begin()
	return s
}

// begin is a service that has only just started.
func (s *shelf) begin() {
	s.timings = New(s.DB, s.Clock, hosts.New(hosts.Config{Store: s.DB, Clock: s.Clock}))
}

// run adds a run, or a trial, of a shot.
func (s *shelf) run(kind, shot string, frames int) uuid.UUID {
	s.Helper()
	id := uuid.New()
	s.exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, $2, '', 'running', 3, $3)", id, kind, s.Wall.Now())
	s.exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, $2, $3)", id, shot, fmt.Sprintf(`{"name": %q, "frames": "1-%d", "launcher": "simulated", "backend": "compute2"}`, shot, frames))
	return id
}

func (s *shelf) exec(statement string, args ...any) {
	s.Helper()
	require.NoError(s, s.DB.Exec(statement, args...).Error)
}

// done adds frames of a run that a host has done, from one to another, in so many seconds each.
func (s *shelf) done(in *gorm.DB, run uuid.UUID, shot, host string, from, to int, seconds float64) {
	s.Helper()
	require.NoError(s, in.Exec(`WITH f AS (INSERT INTO frames (run_id, shot, frame, state, fence) SELECT $1, $2, n, 'done', 1 FROM generate_series($3::int, $4::int) n RETURNING id)
		INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds) SELECT id, $1, 1, $5, 'g0', 'done', $6, $6, $7 FROM f ORDER BY id`,
		run, shot, from, to, host, s.Wall.Now(), seconds).Error)
}

// known counts the times that are known of a shot.
func (s *shelf) known(shot string) (n int) {
	s.Helper()
	k, err := s.timings.Know(s.Context())
	require.NoError(s, err)
	for _, r := range k.Rows {
		if r.Shot == shot {
			n++
		}
	}
	return n
}

// A run that is rendered crowds out neither other shots nor trials, and of itself every crew and part is known.
func TestALargeRunCrowdsNothingOut(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.done(s.DB.DB, s.run(runs.KindTrial, "lamp-040", 100), "lamp-040", "eddy", 1, 4, 9)
	s.done(s.DB.DB, s.run(runs.KindRun, "stair-030", 100), "stair-030", "eddy", 1, 10, 7)
	large := s.run(runs.KindRun, "reel-001", 8000)
	s.done(s.DB.DB, large, "reel-001", "dory", 1, 5, 3)
	s.done(s.DB.DB, large, "reel-001", "eddy", 6, 7000, 2)
	for range 2 {
		assert.Equal(t, 4, s.known("lamp-040"))
		assert.Equal(t, 10, s.known("stair-030"))
		assert.LessOrEqual(t, s.known("reel-001"), 9*perGroup)
		s.done(s.DB.DB, large, "reel-001", "eddy", 7001, 7500, 2)
		s.Wall.Advance(time.Minute)
		assert.Greater(t, s.known("reel-001"), 7*perGroup, "of each part of it")
		s.exec("DELETE FROM frames WHERE run_id = $1 AND frame > 7000", large)
		s.begin()
	}
}

func TestAFrameIsTakenInOnceHoweverLateItIsSeen(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	trial := s.run(runs.KindTrial, "lamp-040", 100)
	s.done(s.DB.DB, trial, "lamp-040", "eddy", 1, 1, 9)
	assert.Equal(t, 1, s.known("lamp-040"))
	late := s.DB.WithContext(t.Context()).Begin()
	s.done(late, trial, "lamp-040", "eddy", 2, 2, 9)
	s.done(s.DB.DB, trial, "lamp-040", "eddy", 3, 3, 9)
	assert.Equal(t, 2, s.known("lamp-040"))
	s.Wall.Advance(settles / 2)
	require.NoError(t, late.Commit().Error)
	assert.Equal(t, 3, s.known("lamp-040"), "one that was begun before, and ended after")
	s.Wall.Advance(settles / 2)
	assert.Equal(t, 3, s.known("lamp-040"))
	s.Wall.Advance(2 * settles)
	s.done(s.DB.DB, trial, "lamp-040", "eddy", 4, 4, 9)
	assert.Equal(t, 4, s.known("lamp-040"))
	s.exec("DELETE FROM tries")
	assert.Equal(t, 4, s.known("lamp-040"), "what was learnt stays, also when its frames are deleted")
}

// The model is not fitted anew for each frame of a run, but it is for trials, whose numbers somebody waits for.
func TestTheModelFollowsRunsAtItsOwnPace(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	run, trial := s.run(runs.KindRun, "reel-001", 100), s.run(runs.KindTrial, "lamp-040", 100)
	s.done(s.DB.DB, run, "reel-001", "eddy", 1, 10, 5)
	assert.Equal(t, 10, s.known("reel-001"))
	s.Wall.Advance(lag / 2)
	s.done(s.DB.DB, run, "reel-001", "eddy", 11, 11, 5)
	assert.Equal(t, 10, s.known("reel-001"))
	s.Wall.Advance(lag)
	assert.Equal(t, 11, s.known("reel-001"))
	s.Wall.Advance(lag / 2)
	s.done(s.DB.DB, run, "reel-001", "eddy", 12, 12, 5)
	s.done(s.DB.DB, trial, "lamp-040", "eddy", 1, 1, 9)
	assert.Equal(t, 1, s.known("lamp-040"))
	assert.Equal(t, 12, s.known("reel-001"))
	_, err := s.timings.Import(t.Context(), uuid.New(), "shot,host,crew,seconds\nreel-001,tern,g0,4\n")
	require.NoError(t, err)
	s.Wall.Advance(lag / 2)
	assert.Equal(t, 13, s.known("reel-001"), "what was imported is known at once")
}

// However times come, there are no more than there may be, of a group none but the newest, and those of trials go after those of runs.
func TestNoMoreIsKeptThanMayBe(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		const most = 1000
		kept := newTaken(most)
		crews := rapid.IntRange(1, 60).Draw(t, "crews")
		everyNth := rapid.IntRange(1, 20).Draw(t, "of trials")
		ofTrials, try := map[string]int{}, 0
		for range rapid.IntRange(1, 6).Draw(t, "batches") {
			var rows []Row
			for range rapid.IntRange(0, most).Draw(t, "rows") {
				try++
				r := Row{Time: timing.Time{Shot: "coda", Host: fmt.Sprint("host-", try*7919%crews), Devices: []string{"g0"}}, try: int64(try), Trial: try%everyNth == 0}
				if r.Trial {
					ofTrials[r.Host]++
				}
				rows = append(rows, r)
			}
			kept.take(rows)
		}
		list := kept.list()
		assert.Len(t, list, kept.rows)
		assert.LessOrEqual(t, len(list), most)
		assert.Equal(t, try, kept.all)
		trials, want := 0, 0
		for i, r := range list {
			assert.True(t, i == 0 || list[i-1].try < r.try, "in their order")
			if r.Trial {
				trials++
			}
		}
		for _, n := range ofTrials {
			want += min(n, perGroup)
		}
		assert.GreaterOrEqual(t, trials, min(want, most*9/20))
		for _, of := range kept.groups {
			assert.LessOrEqual(t, len(of), perGroup)
		}
		if try > 0 {
			assert.Equal(t, int64(try), list[len(list)-1].try, "the newest is kept")
		}
	})
}
