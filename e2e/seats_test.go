package e2e

import (
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

func TestASeatNeverStaysWithADeadHost(t *testing.T) {
	clock := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	h := newHouse(t, withWall(clock))
	seats := func(n int) {
		must[api.Licence](t)(h.admin().PutLicence(t.Context(), "fathom", api.Licence{Pool: "fathom", Kind: "floating", Seats: n}))
	}
	seats(2)
	one, two := h.hand(bellows), h.hand(eddy)
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "lamp-040", &api.PutShotParams{}, api.ShotSpec{
		Name: "lamp-040", Scene: "coda.yaml", Frames: "1-40", Width: 64, Height: 36, Launcher: "simulated", Licence: "fathom",
	}))
	h.trialByHand(one, "lamp-040", "bellows", "g0")
	h.trialByHand(two, "lamp-040", "eddy", "g0")
	held := func() []api.Seat {
		return must[struct{ Items []api.Seat }](t)(h.admin().ListSeats(t.Context())).Items
	}
	h.until("the seats of the trials to be free", func() bool {
		clock.Advance(time.Second)
		one.beat()
		two.beat()
		return len(held()) == 0
	})
	_, run := h.started(280*time.Second, "lamp-040")
	seats(1) // somebody took one away: only one host may render
	first := one.lease()
	require.NotEmpty(t, first)
	require.Len(t, held(), 1)
	assert.Equal(t, "bellows", held()[0].Host)
	assert.Empty(t, two.lease(), "there is no seat for the other")

	// bellows dies. Its lease ends, its seat comes back, and the other goes on.
	h.until("the seat to come back", func() bool {
		clock.Advance(5 * time.Second)
		two.beat()
		return len(held()) == 0
	})
	assert.NotEmpty(t, two.lease())
	assert.Equal(t, "eddy", held()[0].Host)

	// What is cancelled needs no seat.
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	h.until("all seats to be free", func() bool { clock.Advance(time.Second); return len(held()) == 0 })
}
