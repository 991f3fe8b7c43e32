package standing

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/service/bookings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/renderlogs"
	"rotanex.example/service/store"
	"rotanex.example/service/teststage"
)

// still is a queue over a database of its own, with one run of one shot and a clock that
// stands.
type still struct {
	*Standing
	queue *queue.Queue
	t     *testing.T
	db    *store.Store
	run   uuid.UUID
}

func newStill(t *testing.T) *still {
	t.Parallel()
	on := teststage.New(t)
	db := on.DB
	kept := pictures.New(on.Blobs)
	q := queue.New(db, on.Clock, on.Feed, kept, on.Log)
	s := &still{t: t, db: db, run: uuid.New(), queue: q, Standing: New(db, on.Clock, on.Feed, q, renderlogs.New(db, on.Blobs))}
	require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", s.run, teststage.Six).Error)
	require.NoError(t, db.Exec(`INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'lamp-040', '{"name": "lamp-040"}')`, s.run).Error)
	return s
}

// host puts a host into the stock whose agent was heard of so long ago.
func (s *still) host(name string, silent time.Duration) {
	seen, boot := teststage.Six.Add(-silent), uuid.New()
	require.NoError(s.t, s.db.Create(&hosts.Host{
		Name: name, Source: "loft", Spec: stock.Host{Name: name, MemoryGB: 64}, Launchers: []string{}, Findings: []string{}, Missing: []string{},
		Renderers: []preflight.Renderer{}, Boot: &boot, AgentSeen: &seen,
	}).Error)
}

// book books frames of the shot on a host for the next hour.
func (s *still) book(host string, frames int) {
	require.NoError(s.t, bookings.Add(s.db.DB, []bookings.Booking{{
		RunID: s.run, Shot: "lamp-040", Host: host, Crew: "g0", Devices: []string{"g0"}, Frames: frames, StartAt: teststage.Six, EndAt: teststage.Six.Add(time.Hour), FrameS: 60, Open: true,
	}}))
}

func (s *still) frames(all ...queue.Frame) {
	for i := range all {
		all[i].RunID, all[i].Shot, all[i].Frame = s.run, "lamp-040", i+1
	}
	require.NoError(s.t, s.db.Create(all).Error)
}

func tiedTo(place string) queue.Frame { return queue.Frame{Failures: 1, OnlyOn: []string{place}} }

// A frame that ran out of memory and is tied to a host that is gone is told as stranded,
// though others render its shot; a new plan's crews may have it then.
func TestAFrameThatIsTiedToADeadHostIsStranded(t *testing.T) {
	s := newStill(t)
	s.host("bellows", 0)
	s.host("eddy", hosts.Lost)
	s.book("bellows", 2)
	s.book("eddy", 1)
	s.frames(queue.Frame{}, tiedTo("eddy/g0"), tiedTo("bellows/g0"))
	stranded, err := s.Stranded(t.Context(), s.run)
	require.NoError(t, err)
	require.Len(t, stranded, 1)
	assert.Equal(t, 1, stranded[0].Frames)
	assert.Contains(t, stranded[0].Why, "eddy is not heard of")
	assert.Contains(t, stranded[0].Why, "bellows may not have it: it ran out of memory, and is for eddy/g0 alone")

	require.NoError(t, s.Untie(s.db.DB, s.run))
	stranded, err = s.Stranded(t.Context(), s.run)
	require.NoError(t, err)
	assert.Empty(t, stranded)
	var tied int
	require.NoError(t, s.db.Raw("SELECT count(*) FROM frames WHERE only_on <> '[]'").Row().Scan(&tied))
	assert.Equal(t, 1, tied, "the one that somebody is left for stays tied")
}

// A frame that failed on the only host is taken there again, though a farm renders others
// of the shot: a farm that has its job takes no more.
func TestAFarmThatHasItsJobKeepsNoFrameFromTheOthers(t *testing.T) {
	s := newStill(t)
	s.host("bellows", 0)
	s.book("bellows", 1)
	farm := []bookings.Booking{{RunID: s.run, Shot: "lamp-040", Host: "ebb", Crew: "node", Devices: []string{}, Frames: 3, Taken: 3, StartAt: teststage.Six, EndAt: teststage.Six.Add(time.Hour), FrameS: 60, Open: true}}
	require.NoError(t, bookings.Add(s.db.DB, farm))
	require.NoError(t, s.db.Exec(`INSERT INTO farm_jobs (id, run_id, order_id, booking_id, shot, farm, source, crew, frames, state, from_at)
		VALUES ($1, $2, $2, $3, 'lamp-040', 'ebb', 'saltmarsh', 'node', 3, 'rendering', $4)`, uuid.New(), s.run, farm[0].ID, teststage.Six).Error)
	s.frames(queue.Frame{Failures: 1, FailedOn: []string{"bellows/g0"}})
	var boot uuid.UUID
	require.NoError(t, s.db.Raw("SELECT boot FROM hosts").Row().Scan(&boot))
	granted, err := s.queue.Grant(t.Context(), queue.Holding{Host: "bellows", Boot: boot})
	require.NoError(t, err)
	require.Len(t, granted.Leases, 1)
	assert.Equal(t, 1, granted.Leases[0].Frame)
}

// What only one host is left for is counted with what it takes it; a frame tied to another
// is not its own.
func TestWhatOnlyOneHostIsLeftFor(t *testing.T) {
	s := newStill(t)
	s.host("tern-1", 0)
	s.host("eddy", hosts.Lost)
	s.book("tern-1", 2)
	s.book("eddy", 4)
	s.frames(queue.Frame{}, queue.Frame{}, tiedTo("eddy/g0"), tiedTo("tern-1/g0"))
	frames, takes, err := s.Alone(s.db.DB, s.run, "tern-1")
	require.NoError(t, err)
	assert.Equal(t, 3, frames)
	assert.Equal(t, 4*time.Minute, takes, "three minutes, and one for the last that is under way")
	s.host("bellows", 0)
	s.book("bellows", 0)
	frames, _, err = s.Alone(s.db.DB, s.run, "tern-1")
	require.NoError(t, err)
	assert.Equal(t, 1, frames, "a reserve is somebody: only what is tied is left")
}

// Who asks for frames is there, however long its last heartbeat is ago.
func TestWhoAsksIsThere(t *testing.T) {
	s := newStill(t)
	s.host("eddy", hosts.Lost)
	s.book("eddy", 1)
	s.frames(queue.Frame{})
	var boot uuid.UUID
	require.NoError(t, s.db.Raw("SELECT boot FROM hosts").Row().Scan(&boot))
	granted, err := s.queue.Grant(t.Context(), queue.Holding{Host: "eddy", Boot: boot})
	require.NoError(t, err)
	assert.Len(t, granted.Leases, 1)
}
