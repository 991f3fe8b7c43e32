package planned

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/service/accounts"
)

// What is booked is due when the shot is, in truth: not when a plan with time spare has it done, and so much
// earlier that the last frame is home.
func TestWhatIsBookedIsDueWhenItsShotIs(t *testing.T) {
	t.Parallel()
	six, hour := time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC), planning.Millis(3_600_000)
	g0 := []planning.Crew{{ID: "g0", Devices: []string{"g0"}}}
	p := Plan{accounts.Carried{
		Problem: planning.Problem{
			Start: six, Shots: []planning.Shot{{ID: "coda-060", Deadline: 9 * hour}, {ID: "gale-010", Deadline: 5 * hour}},
			Hosts:     []planning.Host{{ID: "eddy", Windows: [][2]planning.Millis{{0, 24 * hour}}, Crews: g0}},
			Offers:    []planning.Offer{{ID: "tern-solo", Source: "tern", Crews: g0}},
			Farms:     []planning.Farm{{ID: "ebb", Source: "saltmarsh"}},
			Transfers: []planning.Transfer{{Shot: "coda-060", Source: "tern", Delivery: 60_000}, {Shot: "coda-060", Source: "saltmarsh", Delivery: 120_000}},
		},
		Plan: planning.Plan{
			Servers: []planning.Server{{ID: "tern-solo#1", Offer: "tern-solo", To: 9 * hour}},
			Bookings: []planning.Booking{
				{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 1, End: hour},
				{Shot: "gale-010", Host: "eddy", Crew: "g0", Frames: 1, End: hour},
				{Shot: "coda-060", Server: "tern-solo#1", Crew: "g0", Frames: 1, End: hour},
				{Shot: "coda-060", Farm: "ebb", Frames: 1, Nodes: 1, End: hour},
			},
		},
		Deadlines: map[string]planning.Millis{"coda-060": 10 * hour},
	}}
	booked := p.Rest(uuid.New(), uuid.New(), 1, six).Bookings
	require.Len(t, booked, 4)
	for i, want := range []time.Time{six.Add(10 * time.Hour), six.Add(5 * time.Hour), six.Add(10*time.Hour - time.Minute), six.Add(10*time.Hour - 2*time.Minute)} {
		assert.Equal(t, want, *booked[i].DueAt, booked[i].Host)
	}
}
