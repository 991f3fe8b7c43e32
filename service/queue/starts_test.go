package queue

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/simulate"
	"rotanex.example/core/timing"
	"rotanex.example/service/pictures"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
	"rotanex.example/service/turn"
)

// startHouse has a host with one crew that is booked for ten frames, of 10 s with their part of
// opening the scene, which takes 5 s.
func startHouse(t *testing.T) (*house, teststage.Stage) {
	db := testdb.Open(t)
	on := teststage.On(db)
	s := &scenario{}
	s.Tries = 3
	s.Hosts = []simulate.Host{{Name: "host-0", MemoryGB: 16, Up: six}}
	s.Pools = []simulate.Pool{{Name: "fathom", Seats: 1}}
	s.Shots = []simulate.Shot{{ID: "shot-0", Fresh: []int{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}}}
	crew := dispatch.Crew{ID: 1, Host: "host-0", Name: "g0", Place: "host-0/g0", Shot: "shot-0", Devices: []string{"g0"}, Frames: 10, Start: six, End: six.Add(time.Hour), Frame: 10 * time.Second}
	s.Crews = []simulate.Crew{{Crew: crew}}
	h := &house{scenario: s, t: t, db: db, wall: on.Wall, run: uuid.New(), boot: uuid.New(), q: New(db, on.Clock, on.Feed, pictures.New(on.Blobs), on.Log)}
	h.stored()
	require.NoError(t, db.Exec("UPDATE bookings SET opening_s = 5").Error)
	return h, on
}

// held is the numbers of the frames in each state, and how many frames the booking has taken.
func (h *house) frames() (waiting, begun, unbegun []int, taken int) {
	read := func(where string) []int {
		found, err := store.Column[int](h.db.Raw("SELECT frame FROM frames WHERE " + where + " ORDER BY frame"))
		require.NoError(h.t, err)
		return found
	}
	require.NoError(h.t, h.db.Raw("SELECT taken FROM bookings WHERE shot = 'shot-0' AND host = 'host-0'").Row().Scan(&taken))
	return read("state = 'waiting'"), read("state = 'rendering' AND begun"), read("state = 'rendering' AND NOT begun"), taken
}

func (h *house) granted(held ...Held) []turn.Lease {
	found, err := h.q.Grant(context.Background(), Holding{"host-0", h.boot, held, true})
	require.NoError(h.t, err)
	return found.Leases
}

func (h *house) end(l turn.Lease, r Result) error {
	r.Boot = h.boot
	if !r.Failed && !r.GivenBack {
		require.NoError(h.t, h.db.Exec("UPDATE frames SET sha256 = 'x' WHERE id = ?", l.Lease).Error)
		r.SHA256 = "x"
	}
	return h.q.End(context.Background(), "host-0", l.Lease, l.Fence, r)
}

func (h *house) renewed(all ...turn.Lease) []bool {
	of := Holding{"host-0", h.boot, nil, true}
	for _, l := range all {
		of.Held = append(of.Held, Held{Lease: l.Lease, Fence: l.Fence})
	}
	kept, err := RenewHeld(h.db.DB, []Holding{of}, h.wall.Now().Add(LeaseLife))
	require.NoError(h.t, err)
	var out []bool
	for _, x := range of.Held {
		out = append(out, kept[x])
	}
	return out
}

func TestAStartLeasesSeveralFrames(t *testing.T) {
	t.Parallel()
	h, on := startHouse(t)
	leases := h.granted()
	require.Len(t, leases, 10, "opening costs 5 s of 100")
	for i, l := range leases {
		assert.Equal(t, i+1, l.Frame)
		assert.Equal(t, leases[0].Lease, l.Start)
	}
	_, begun, unbegun, taken := h.frames()
	assert.Equal(t, []int{1}, begun)
	assert.Len(t, unbegun, 9)
	assert.Equal(t, 10, taken)
	var begins, last time.Time
	require.NoError(t, h.db.Raw("SELECT min(leased_at), max(leased_at) FROM frames").Row().Scan(&begins, &last))
	assert.Equal(t, 90*time.Second, last.Sub(begins), "when the last is expected to begin")

	// The next begins as one is done; what its renderer gave is its time, with its part of opening.
	on.Wall.Advance(14 * time.Second)
	require.NoError(t, h.end(leases[0], Result{Measured: timing.Measurement{Seconds: 9.5, OpeningS: 5, OpeningPartS: 0.5}}))
	_, begun, unbegun, _ = h.frames()
	assert.Equal(t, []int{2}, begun)
	assert.Len(t, unbegun, 8)
	var held float64
	require.NoError(t, h.db.Raw("SELECT extract(epoch FROM ended_at - started_at)::float8 FROM tries").Row().Scan(&held))
	assert.InDelta(t, 9.5, held, 1e-3, "the crew's time is counted once")

	// Nobody renews what is not begun; what is lost is the one in hand.
	assert.Equal(t, []bool{false, true, true}, h.renewed(leases[0], leases[1], leases[9]))
	on.Wall.Advance(LeaseLife + time.Second)
	require.NoError(t, h.q.expire(t.Context(), false))
	waiting, begun, unbegun, taken := h.frames()
	assert.Equal(t, []int{2, 3, 4, 5, 6, 7, 8, 9, 10}, waiting)
	assert.Empty(t, append(begun, unbegun...))
	assert.Equal(t, 1, taken)
	var tried []string
	tried, err := store.Column[string](h.db.Raw("SELECT f.frame || ' ' || a.outcome FROM tries a JOIN frames f ON f.id = a.frame_id ORDER BY a.id"))
	require.NoError(t, err)
	assert.Equal(t, []string{"1 done", "2 lost"}, tried, "those after it go back untouched")
	assert.Error(t, h.end(leases[5], Result{}), "and a late answer is none")
}

func TestAFailureEndsAStart(t *testing.T) {
	t.Parallel()
	h, _ := startHouse(t)
	leases := h.granted()
	require.NoError(t, h.end(leases[0], Result{Measured: timing.Measurement{Seconds: 9}}))
	require.NoError(t, h.end(leases[1], Result{Failed: true, Cause: "crashed", Measured: timing.Measurement{Seconds: 3}}))
	waiting, begun, unbegun, taken := h.frames()
	assert.Equal(t, []int{2, 3, 4, 5, 6, 7, 8, 9, 10}, waiting)
	assert.Empty(t, append(begun, unbegun...))
	assert.Equal(t, 1, taken)
	again := h.granted()
	require.Len(t, again, 8, "it goes on with those that were not tried; the one that failed goes alone")
	assert.Equal(t, 3, again[0].Frame)
	require.NoError(t, h.end(again[0], Result{GivenBack: true, LogTail: "somebody works here"}))
	waiting, _, unbegun, taken = h.frames()
	assert.Len(t, waiting, 9)
	assert.Empty(t, unbegun)
	assert.Equal(t, 1, taken)
}

func TestWhatAStartHasNotBegunGoesBackWhenItIsToEnd(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]string{
		"paused": "UPDATE runs SET state = 'paused'", "drained": "UPDATE hosts SET draining = true", "in trouble": "UPDATE hosts SET trouble = 'its disk is full'",
		"closed": "UPDATE bookings SET open = false", "excluded": "UPDATE bookings SET excluded = 'it is too slow'", "stray": "UPDATE frames SET state = 'waiting' WHERE begun",
		"more urgent": `WITH u AS (INSERT INTO runs (id, kind, request, state, tries, created_at, priority) SELECT gen_random_uuid(), 'run', '', 'running', 3, now(), priority + 1 FROM runs RETURNING id),
			s AS (INSERT INTO run_shots (run_id, shot, spec) SELECT id, 'urgent', '{}' FROM u)
			INSERT INTO bookings (run_id, shot, host, crew, devices, frames, start_at, end_at, frame_s, open) SELECT u.id, 'urgent', b.host, b.crew, b.devices, 3, b.start_at, b.end_at, 1, true FROM u, bookings b`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h, _ := startHouse(t)
			leases := h.granted()
			require.NoError(t, h.q.Sweep(t.Context(), false))
			_, _, unbegun, _ := h.frames()
			require.Len(t, unbegun, 9, "as long as all is well it goes on")
			require.NoError(t, h.db.Exec(change).Error)
			for range straysEvery {
				require.NoError(t, h.q.Sweep(t.Context(), false))
			}
			_, begun, unbegun, taken := h.frames()
			assert.Empty(t, unbegun)
			assert.Equal(t, 1, taken)
			if name != "stray" {
				assert.Equal(t, []int{1}, begun, "the frame in hand is finished")
				assert.Equal(t, []bool{true, false}, h.renewed(leases[0], leases[1]))
				require.NoError(t, h.end(leases[0], Result{}))
			}
		})
	}
}

func TestAnAgentThatStartsAgainLosesTheFrameInHandAlone(t *testing.T) {
	t.Parallel()
	h, _ := startHouse(t)
	require.Len(t, h.granted(), 10)
	h.boot = uuid.New()
	require.NoError(t, h.db.Exec("UPDATE hosts SET boot = ?", h.boot).Error)
	h.granted()
	tried, err := store.Column[string](h.db.Raw("SELECT outcome FROM tries"))
	require.NoError(t, err)
	assert.Equal(t, []string{"lost"}, tried)
}

func TestAnAgentOfBeforeGetsOneFrameAStart(t *testing.T) {
	t.Parallel()
	h, _ := startHouse(t)
	found, err := h.q.Grant(t.Context(), Holding{"host-0", h.boot, nil, false})
	require.NoError(t, err)
	require.Len(t, found.Leases, 1)
	assert.Zero(t, found.Leases[0].Start)
}

func TestAStartEndsBeforeItsCrewCloses(t *testing.T) {
	t.Parallel()
	h, on := startHouse(t)
	require.NoError(t, h.db.Exec("UPDATE bookings SET close_at = ?", on.Clock.Now().Add(45*time.Second)).Error)
	assert.Len(t, h.granted(), 4)
}

// When nothing waits any more, whoever is free takes what a slow start holds and has not begun.
func TestWhoIsFreeTakesWhatASlowStartHolds(t *testing.T) {
	t.Parallel()
	h, on := startHouse(t)
	require.Len(t, h.granted(), 10)
	require.NoError(t, h.db.Exec("INSERT INTO hosts (name, source, spec, boot, agent_seen) SELECT 'host-1', source, spec, boot, agent_seen FROM hosts").Error)
	require.NoError(t, h.db.Exec(`INSERT INTO bookings (run_id, shot, host, crew, devices, frames, start_at, end_at, frame_s, opening_s, open)
		SELECT run_id, shot, 'host-1', crew, devices, 0, start_at, end_at, frame_s, opening_s, true FROM bookings`).Error)
	other := func() (frames []int) {
		found, err := h.q.Grant(context.Background(), Holding{"host-1", h.boot, nil, true})
		require.NoError(t, err)
		for _, l := range found.Leases {
			frames = append(frames, l.Frame)
		}
		return frames
	}
	assert.Empty(t, other(), "while the plan goes as it should")
	require.NoError(t, h.db.Exec("UPDATE bookings SET end_at = ?, frames = 5", on.Clock.Now().Add(-time.Minute)).Error)
	assert.Equal(t, []int{7, 8, 9, 10}, other())
	_, _, unbegun, _ := h.frames()
	assert.Equal(t, []int{2, 3, 4, 5, 6, 8, 9, 10}, unbegun, "both have a frame in hand")
}
