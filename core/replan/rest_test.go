package replan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// twoHosts is a run of 30 frames of which eddy has all, in half the time that there is; dory
// is free and as quick, and a server costs money.
func twoHosts(frame planning.Millis) Rest {
	p := left()
	p.Format, p.Currency, p.Goal = planning.ProblemFormat, "EUR", planning.Cheapest
	p.Farms, p.Offers[0].MaxServers = nil, 1
	p.Hosts[0].Windows = [][2]planning.Millis{{0, 600 * minute}}
	dory := p.Hosts[0]
	dory.ID = "dory"
	p.Hosts = append(p.Hosts, dory)
	p.Timings = []planning.Timing{{Shot: "coda-060", Host: "eddy", Crew: "g0", Frame: frame}, {Shot: "coda-060", Host: "dory", Crew: "g0", Frame: minute}, {Shot: "coda-060", Offer: "tern-solo", Crew: "g0", Frame: minute}}
	return Rest{
		Problem: p, Wanted: 0.95, Policy: Auto,
		Plan:        planning.Plan{Format: planning.PlanFormat, Status: planning.Meets, Bookings: []planning.Booking{{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 30, End: 30 * frame}}},
		Uncertainty: forecast.Uncertainty{Fails: map[string]float64{"eddy": 0, "dory": 0}},
	}
}

func TestARunInTimeIsLeftAlone(t *testing.T) {
	t.Parallel()
	r := twoHosts(minute)
	now, err := r.Look(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1.0, now.Chance)
	assert.False(t, r.Due())
	next, err := r.ByItself(t.Context())
	require.NoError(t, err)
	assert.Equal(t, Keep, next.Verdict.Act)
}

// A host that has become slow keeps what it can do, and only what is over goes to another of
// one's own; nothing is bought, and nobody is asked.
func TestOnlyWhatIsOverIsMoved(t *testing.T) {
	t.Parallel()
	r := twoHosts(4 * minute)
	_, err := r.Look(t.Context())
	require.NoError(t, err)
	require.True(t, r.Due())
	next, err := r.ByItself(t.Context())
	require.NoError(t, err)
	assert.Equal(t, Change, next.Verdict.Act)
	assert.GreaterOrEqual(t, next.Outlook.Chance, 0.95)
	assert.True(t, next.Outlook.Outside.IsZero())
	assert.LessOrEqual(t, Moved(r.Plan, next.Plan), 18, "eddy can do twelve or more in time")
}

// What had been on a server is on one of the same offer that another schedule lets, as far as
// there is one, and otherwise free to be taken by others.
func TestASchedulesServersAreReplaced(t *testing.T) {
	t.Parallel()
	had := planning.Plan{
		Servers:  []planning.Server{{ID: "a", Offer: "tern"}, {ID: "b", Offer: "skerry"}},
		Bookings: []planning.Booking{{Server: "a", Frames: 1}, {Server: "b", Frames: 2}, {Host: "eddy", Frames: 3}},
	}
	out := letting(had, planning.Plan{Servers: []planning.Server{{ID: "x", Offer: "tern"}, {ID: "y", Offer: "tern"}}})
	assert.Equal(t, []planning.Booking{{Server: "x", Frames: 1}, {Host: "eddy", Frames: 3}}, out.Bookings)
	assert.Len(t, out.Servers, 2)
	assert.Equal(t, "a", had.Bookings[0].Server, "the schedule itself is as it was")
}

func TestAScheduleIsLeftAloneForLongerWhereMuchTimeIsLeft(t *testing.T) {
	t.Parallel()
	r := Rest{Problem: planning.Problem{Start: six}}
	assert.Equal(t, 10*time.Minute, r.Settles(), "it never ends")
	for left, settles := range map[time.Duration]time.Duration{time.Hour: 10 * time.Minute, 10 * time.Hour: 30 * time.Minute, 90 * time.Hour: 2 * time.Hour} {
		r.present.Finish = six.Add(left)
		assert.Equal(t, settles, r.Settles(), left)
	}
	r.present.Behind = 0.7
	assert.Equal(t, 10*time.Minute, r.Settles(), "something has to be done")
}

// One that moves less is kept unless the other is surer while it is not sure enough, or saves
// money that is worth it.
func TestWhichScheduleIsTaken(t *testing.T) {
	t.Parallel()
	r := Rest{Wanted: 0.95}
	of := func(chance float64, cost string) Next {
		return Next{Forecast: forecast.Forecast{Chance: chance}, Outlook: Outlook{Chance: chance, Cost: pricing.MustMoney(cost)}}
	}
	assert.False(t, r.rather(of(0.99, "5.00"), of(0.96, "5.20")), "twenty cents are not worth it")
	assert.True(t, r.rather(of(0.96, "4.00"), of(0.99, "5.00")), "a fifth is")
	assert.False(t, r.rather(of(0.90, "1.00"), of(0.96, "5.00")), "what is not sure enough is not cheap")
	assert.True(t, r.rather(of(0.80, "9.00"), of(0.40, "1.00")), "neither is, and it is surer")
}

// A run that goes better than was expected does without what is still to be bought.
func TestARunThatIsAheadMaySaveMoney(t *testing.T) {
	t.Parallel()
	r := twoHosts(minute)
	r.Problem.Offers[0].Price = pricing.MustMoney("3.00")
	r.Plan.Servers = []planning.Server{{ID: "tern-solo#1", Offer: "tern-solo", From: 0, To: 30 * minute}}
	r.Plan.Bookings = []planning.Booking{{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 10, End: 10 * minute}, {Shot: "coda-060", Server: "tern-solo#1", Crew: "g0", Frames: 20, Start: 10 * minute, End: 30 * minute}}
	r.Plan.Cost = planning.Price(r.Problem, r.Plan).Total.Rounded()
	_, err := r.Look(t.Context())
	require.NoError(t, err)
	require.False(t, r.Due())
	assert.True(t, r.MaySave())
	spare := pricing.MustMoney("9.00")
	r.Spare = &spare
	next, err := r.ByItself(t.Context())
	require.NoError(t, err)
	assert.Equal(t, Change, next.Verdict.Act)
	assert.True(t, next.Outlook.Outside.IsZero())
	assert.Contains(t, next.Verdict.Gain, "less for the rest")

	own := twoHosts(minute)
	_, err = own.Look(t.Context())
	require.NoError(t, err)
	assert.False(t, own.MaySave(), "nothing is to be bought")
	at := six.Add(29 * minute.Duration())
	assert.False(t, TimeToSave(at.Add(-5*minute.Duration()), at, time.Hour))
	assert.True(t, TimeToSave(at, at.Add(5*minute.Duration()), time.Hour))
	half := six.Add(30 * minute.Duration())
	assert.False(t, TimeToSave(half.Add(-5*minute.Duration()), half, 20*time.Hour), "it is not worth so much planning")
}
