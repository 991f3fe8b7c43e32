package licences

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/preflight"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/bookings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

var six = teststage.Six

// studio is a run of a licensed shot on three hosts, in which frames wait.
type studio struct {
	t   *testing.T
	db  *store.Store
	run uuid.UUID
}

func newStudio(t *testing.T, seats int) *studio {
	t.Parallel()
	s := &studio{t, testdb.Open(t), uuid.New()}
	require.NoError(t, New(s.db).put(t.Context(), preflight.Licence{Pool: "fathom", Kind: "floating", Seats: seats, ExtraSeats: 2, ExtraSeatPrice: pricing.MustMoney("12.50")}))
	require.NoError(t, s.db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", s.run, six).Error)
	require.NoError(t, s.db.Exec(`INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'lamp-040', '{"name": "lamp-040", "licence": "fathom"}')`, s.run).Error)
	var all []bookings.Booking
	for i, name := range []string{"bellows", "dory", "eddy"} {
		seen, boot := six, uuid.New()
		require.NoError(t, s.db.Create(&hosts.Host{
			Name: name, Source: "loft", Spec: stock.Host{Name: name}, Launchers: []string{}, Findings: []string{}, Missing: []string{},
			Renderers: []preflight.Renderer{}, Boot: &boot, AgentSeen: &seen,
		}).Error)
		start := six.Add(time.Duration(i) * time.Hour)
		all = append(all, bookings.Booking{RunID: s.run, Shot: "lamp-040", Host: name, Crew: "g0", Devices: []string{"g0"}, Frames: 2, StartAt: start, EndAt: start.Add(time.Hour), FrameS: 60, Open: true})
	}
	require.NoError(t, bookings.Add(s.db.DB, all))
	return s
}

// waiting says that a frame never tried waits, or with nothing that none does.
func waiting(kinds ...dispatch.Kind) Waiting {
	return func(uuid.UUID, string) ([]dispatch.Kind, error) { return kinds, nil }
}

func (s *studio) pool(host string, now, wall time.Time, w Waiting) dispatch.Pool {
	s.t.Helper()
	p, counted, err := PoolFor(s.db.DB, host, "fathom", now, wall, false, w)
	require.NoError(s.t, err)
	require.True(s.t, counted)
	return p
}

func (s *studio) take(host string, wall time.Time) {
	s.t.Helper()
	require.NoError(s.t, Take(s.db.DB, "fathom", host, s.run, six, wall.Add(SeatLife)))
}

func TestSeatsAsTheyStandForAHost(t *testing.T) {
	s := newStudio(t, 2)
	w := waiting(dispatch.Kind{Waiting: 3})
	p := s.pool("bellows", six, six, w)
	assert.Equal(t, dispatch.Pool{Name: "fathom", Total: 2}, p, "at six only bellows itself wants one: the others begin later")
	p = s.pool("bellows", six.Add(3*time.Hour), six, w)
	assert.Equal(t, 2, p.Wanted)

	s.take("dory", six)
	p = s.pool("bellows", six.Add(3*time.Hour), six, w)
	assert.Equal(t, 1, p.Held)
	assert.Equal(t, 1, p.Wanted, "who holds one wants none")
	assert.True(t, s.pool("dory", six, six, w).Mine)

	require.NoError(t, s.db.Exec("INSERT INTO hired_seats (run_id, pool, seats, price, from_at, days) VALUES ($1, 'fathom', 3, 12.5, $2, 1)", s.run, six).Error)
	assert.Equal(t, 5, s.pool("bellows", six, six, w).Total, "with those that the run hired")
	_, counted, err := PoolFor(s.db.DB, "bellows", "another", six, six, true, w)
	require.NoError(t, err)
	assert.False(t, counted, "a pool that is not known is counted by nobody")
}

// A seat is kept by who renders with it or has frames to take, and is heard of; each of the
// others gives it back.
func TestSeatsAreGivenBack(t *testing.T) {
	s := newStudio(t, 3)
	ctx := t.Context()
	seats := func() (names []string) {
		all, err := New(s.db).holdings(ctx)
		require.NoError(t, err)
		for _, x := range all {
			names = append(names, x.Host)
		}
		return names
	}
	for _, host := range []string{"bellows", "dory", "eddy"} {
		s.take(host, six)
	}
	freed, err := ReturnUnused(s.db.DB, six, waiting(dispatch.Kind{Waiting: 3}))
	require.NoError(t, err)
	assert.False(t, freed, "all of them have frames to take")

	later := six.Add(SeatLife)
	require.NoError(t, s.db.Exec("UPDATE hosts SET agent_seen = $1 WHERE name = 'bellows'", later).Error)
	require.NoError(t, Keep(s.db.DB, []string{"bellows"}, later.Add(SeatLife)))
	freed, err = ReturnUnused(s.db.DB, later, waiting(dispatch.Kind{Waiting: 3}))
	require.NoError(t, err)
	assert.True(t, freed)
	assert.Equal(t, []string{"bellows"}, seats(), "of the others nobody has heard for a seat's life")

	freed, err = ReturnUnused(s.db.DB, later, waiting(dispatch.Kind{FailedOn: []string{"bellows/g0"}, Tried: true, Waiting: 1}))
	require.NoError(t, err)
	assert.True(t, freed, "the one frame that waits failed on it")
	assert.Empty(t, seats())

	s.take("eddy", later)
	require.NoError(t, Forget(s.db.DB, "eddy"))
	assert.Empty(t, seats(), "its host is no more")
	require.NoError(t, Take(s.db.DB, "another", "eddy", s.run, six, later))
	assert.Empty(t, seats(), "there is none to take of a pool that nobody counts")
}

// A seat that its host took up again after it was read is not given back.
func TestASeatThatIsTakenUpAgainStays(t *testing.T) {
	s := newStudio(t, 1)
	s.take("eddy", six)
	held, err := seats(s.db.DB, "fathom")
	require.NoError(t, err)
	require.Len(t, held, 1)
	s.take("eddy", six.Add(time.Second))
	gone, err := giveBack(s.db.DB, "fathom", held[0])
	require.NoError(t, err)
	assert.False(t, gone)
}

func TestPoolsAreReadAsTheyWereStored(t *testing.T) {
	s := newStudio(t, 2)
	found, err := New(s.db).Find(t.Context(), "fathom")
	require.NoError(t, err)
	require.NotNil(t, found)
	assert.Equal(t, "12.50", found.ExtraSeatPrice.String())
	assert.Equal(t, 2, found.ExtraSeats)
	none, err := New(s.db).Find(t.Context(), "another")
	require.NoError(t, err)
	assert.Nil(t, none)
}

func TestWhatHiredSeatsCome(t *testing.T) {
	sum, err := CostOf([]HiredSeats{{Seats: 2, Price: "18.00", Days: 3}, {Seats: 1, Price: "0.50", Days: 1}})
	require.NoError(t, err)
	assert.Equal(t, "108.50", sum.String())
	_, err = CostOf([]HiredSeats{{Price: "many"}})
	require.Error(t, err)
}
