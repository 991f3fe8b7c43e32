package queue

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/simulate"
	"rotanex.example/service/pictures"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
	"rotanex.example/service/turn"
)

// What is given back is no sign that a frame kills agents, however often it is; that they
// are lost with it is, in the end.
func TestAFrameThatKillsAgentsIsGivenUp(t *testing.T) {
	t.Parallel()
	db := testdb.Open(t)
	on := teststage.On(db)
	s := &scenario{}
	s.Tries = 3
	s.Pools = []simulate.Pool{{Name: "fathom", Seats: 1}}
	s.Hosts = []simulate.Host{{Name: "host-0", MemoryGB: 16, Up: six}}
	s.Shots = []simulate.Shot{{ID: "shot-0", Fresh: []int{7}}}
	crew := dispatch.Crew{ID: 1, Host: "host-0", Name: "g0", Place: "host-0/g0", Shot: "shot-0", Devices: []string{"g0"}, Frames: 1, Start: six, End: six.Add(time.Hour), Frame: time.Minute}
	s.Crews = []simulate.Crew{{Crew: crew}}
	h := &house{scenario: s, t: t, db: db, wall: on.Wall, run: uuid.New(), boot: uuid.New(), q: New(db, on.Clock, on.Feed, pictures.New(on.Blobs), on.Log)}
	h.stored()
	leased := func() turn.Lease {
		found, err := h.q.Grant(t.Context(), Holding{"host-0", h.boot, nil, false})
		require.NoError(t, err)
		require.Len(t, found.Leases, 1)
		return found.Leases[0]
	}
	state := func() (out string) {
		require.NoError(t, db.Raw("SELECT state FROM frames").Row().Scan(&out))
		return out
	}
	for range 2 * lossesAllowed {
		l := leased()
		back := Result{Boot: h.boot, GivenBack: true, LogTail: "somebody works at it"}
		require.NoError(t, h.q.End(t.Context(), "host-0", l.Lease, l.Fence, back))
		require.NoError(t, h.q.End(t.Context(), "host-0", l.Lease, l.Fence, back), "said again, it changes nothing")
	}
	for range lossesAllowed {
		leased()
		on.Wall.Advance(LeaseLife + time.Second)
		require.NoError(t, h.q.expire(t.Context(), false))
		assert.Equal(t, "waiting", state())
	}
	leased()
	on.Wall.Advance(LeaseLife + time.Second)
	require.NoError(t, h.q.expire(t.Context(), false))
	assert.Equal(t, "failed", state())
	var failures int
	require.NoError(t, db.Raw("SELECT failures FROM frames").Row().Scan(&failures))
	assert.Zero(t, failures, "none of it was a failed try")

	// Somebody lets it be tried again: as if nothing had been.
	require.NoError(t, TryAgain(db.DB, h.run))
	leased()
	on.Wall.Advance(LeaseLife + time.Second)
	require.NoError(t, h.q.expire(t.Context(), false))
	assert.Equal(t, "waiting", state(), "its first loss since")
}
