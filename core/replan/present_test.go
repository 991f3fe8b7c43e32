package replan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

const minute = planning.Millis(60_000)

// left is the problem of a run's rest: an owned host, an offer and a farm.
func left() planning.Problem {
	return planning.Problem{
		Start:  six,
		Shots:  []planning.Shot{{ID: "coda-060", Frames: 30, Deadline: 60 * minute}},
		Hosts:  []planning.Host{{ID: "eddy", Windows: [][2]planning.Millis{{2 * minute, 20 * minute}, {40 * minute, 90 * minute}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.60")}}}},
		Offers: []planning.Offer{{ID: "tern-solo", Source: "tern", Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}}, Price: pricing.MustMoney("1.20")}},
		Farms:  []planning.Farm{{ID: "ebb", Source: "saltmarsh", Nodes: 4}},
		Timings: []planning.Timing{
			{Shot: "coda-060", Host: "eddy", Crew: "g0", Frame: minute}, {Shot: "coda-060", Offer: "tern-solo", Crew: "g0", Frame: minute}, {Shot: "coda-060", Farm: "ebb", Frame: 3 * minute},
		},
	}
}

func booked(host, crew string, frames, taken int, start time.Time, state dispatch.State) Booked {
	return Booked{Nodes: 1, Crew: dispatch.Crew{Shot: "coda-060", Host: host, Name: crew, Frames: frames, Taken: taken, Start: start, State: state}}
}

// What is booked is a plan for what is left: each case is one booking, and what it is there.
func TestTheScheduleAsItStandsIsAPlan(t *testing.T) {
	t.Parallel()
	server := []ToCome{{ID: "tern-solo#1", Offer: "tern-solo", Host: "tern-solo-1.x", FromAt: six.Add(5 * time.Minute), ToAt: six.Add(time.Hour)}}
	farm := booked("ebb", "cpu", 8, 0, six.Add(10*time.Minute), dispatch.Coming)
	farm.Farm, farm.Nodes = true, 4
	excluded := booked("eddy", "g0", 10, 4, six, dispatch.Ready)
	excluded.Excluded = "it crashed"
	for name, c := range map[string]struct {
		crew Booked
		is   []planning.Booking
	}{
		"what is owed still, from when the host is free": {booked("eddy", "g0", 10, 4, six.Add(-time.Hour), dispatch.Ready), []planning.Booking{{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 6, Start: 2 * minute, End: 8 * minute}}},
		"what begins later begins then":                  {booked("eddy", "g0", 3, 0, six.Add(10*time.Minute), dispatch.Ready), []planning.Booking{{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 3, Start: 10 * minute, End: 13 * minute}}},
		"or when the host opens":                         {booked("eddy", "g0", 3, 0, six.Add(30*time.Minute), dispatch.Ready), []planning.Booking{{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 3, Start: 40 * minute, End: 43 * minute}}},
		"never again open":                               {booked("eddy", "g0", 3, 0, six.Add(3*time.Hour), dispatch.Ready), nil},
		"nothing is owed":                                {booked("eddy", "g0", 3, 3, six, dispatch.Ready), nil},
		"its host is gone":                               {booked("eddy", "g0", 3, 0, six, dispatch.Gone), nil},
		"it gets no more":                                {excluded, nil},
		"a crew that the problem does not have":          {booked("eddy", "g1", 3, 0, six, dispatch.Ready), nil},
		"a server to come":                               {booked("tern-solo-1.x", "g0", 5, 0, six.Add(15*time.Minute), dispatch.Coming), []planning.Booking{{Shot: "coda-060", Server: "tern-solo#1", Crew: "g0", Frames: 5, Start: 15 * minute, End: 20 * minute}}},
		"a farm's job to come":                           {farm, []planning.Booking{{Shot: "coda-060", Farm: "ebb", Nodes: 4, Frames: 8, Start: 10 * minute, End: 16 * minute}}},
	} {
		plan := Present(left(), server, []Booked{c.crew})
		assert.Equal(t, c.is, plan.Bookings, name)
		assert.Equal(t, []planning.Server{{ID: "tern-solo#1", Offer: "tern-solo", From: 5 * minute, To: 60 * minute}}, plan.Servers)
	}
	plan := Present(left(), nil, []Booked{booked("eddy", "g0", 6, 0, six, dispatch.Ready)})
	assert.Equal(t, "0.06", plan.Cost.String(), "six minutes at 0.60 an hour")
}

// usual is how often hosts are slowed where nothing was seen, and for how long.
var usual = disruptions.Learn(disruptions.Seen{})

// known is by how much timings are off that are sure.
func known(planning.Timing) float64 { return 0 }

// A crew that was slow of late is taken as slow, and only that crew.
func TestCrewsAreTakenAsTheyWereOfLate(t *testing.T) {
	t.Parallel()
	p := left()
	var recent []Finished
	for range 40 {
		recent = append(recent, Finished{"coda-060", "eddy", "g0", 84, six}, Finished{"coda-060", "ebb", "cpu", 900, six}, Finished{"other", "eddy", "g0", 900, six})
	}
	lately := AsOfLate(&p, recent, nil, usual, known)
	assert.InDelta(t, 1.40, lately["eddy"], 0.01)
	assert.Len(t, lately, 1)
	assert.Equal(t, minute, p.Timings[1].Frame)
	assert.Equal(t, 3*minute, p.Timings[2].Frame)

	// What slows a host goes on for an hour and a half in the mean: of what is due in an hour most takes longer,
	// of what is due in two days next to nothing.
	for hours, frame := range map[planning.Millis]float64{0: 84, 1: 76.1, 5: 65.1, 48: 60.5} {
		p := left()
		p.Shots[0].Deadline = 60 * hours * minute
		AsOfLate(&p, recent, nil, usual, known)
		assert.InDelta(t, 1000*frame, float64(p.Timings[0].Frame), 1000, "%d hours", hours)
	}
}

// A shot that has become heavy stays so: it takes longer however long there is.
func TestAHeavyShotStaysHeavy(t *testing.T) {
	t.Parallel()
	p := left()
	p.Shots[0].Deadline = 48 * 60 * minute
	p.Timings = append(p.Timings, planning.Timing{Shot: "coda-060", Host: "dory", Crew: "cpu", Frame: minute})
	var recent []Finished
	for range 20 {
		recent = append(recent, Finished{"coda-060", "eddy", "g0", 120, six}, Finished{"coda-060", "dory", "cpu", 120, six})
	}
	assert.InDelta(t, 2, AsOfLate(&p, recent, nil, usual, known)["coda-060"], 0.1)
	assert.InDelta(t, 120_000, float64(p.Timings[0].Frame), 6000)
}

// A frame that is not done says that its crew is slow as soon as it is long overdue.
func TestFramesThatAreOverdueCount(t *testing.T) {
	t.Parallel()
	done := []Finished{{"coda-060", "eddy", "g0", 190, six.Add(-10 * time.Minute)}, {"coda-060", "eddy", "g0", 180, six.Add(-4 * time.Minute)}}
	for minutes, want := range map[time.Duration]float64{1: 1, 4: 3.9} {
		p := left()
		lately := AsOfLate(&p, done, []InHand{{Shot: "coda-060", Host: "eddy", Crew: "g0", Began: six.Add(-minutes * time.Minute)}}, usual, known)
		assert.InDelta(t, want, max(1, lately["eddy"]), 0.3, "%d minutes", minutes)
	}
}

// Hosts are busy with the run's own frames in the mean of the devices that render one.
func TestHowLongFramesInHandTake(t *testing.T) {
	t.Parallel()
	busy := BusyUntil([]InHand{
		{"", "capstan", "", six.Add(-time.Minute), 420 * time.Second, 2, 0}, // g2+g3: six minutes to go
		{"", "capstan", "", six.Add(-30 * time.Second), 90 * time.Second, 1, 0},
		{"", "eddy", "", six.Add(-5 * time.Minute), 2 * time.Minute, 1, 0}, // long overdue
	}, six)
	assert.Equal(t, six.Add(260*time.Second), busy["capstan"], "twice six minutes and one, of three devices")
	assert.Equal(t, six.Add(30*time.Second), busy["eddy"])
	assert.Len(t, busy, 2)
}

// A run that leaves a host to another one has its work there later, and where the host does
// not open again, not at all.
func TestARunLeavesItsHosts(t *testing.T) {
	t.Parallel()
	p := left()
	r := Rest{Problem: p, Plan: planning.Plan{Finish: 50 * minute, Bookings: []planning.Booking{
		{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 6, Start: 2 * minute, End: 8 * minute},
		{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 3, Start: 45 * minute, End: 48 * minute},
		{Shot: "coda-060", Farm: "ebb", Nodes: 4, Frames: 8, Start: 10 * minute, End: 16 * minute},
	}}}
	for until, want := range map[time.Duration][]planning.Millis{0: {2, 45, 10}, 12: {12, 45, 10}, 30: {40, 45, 10}, 100: {10}} {
		var starts []planning.Millis
		out := r.Leaving(map[string]time.Time{"eddy": six.Add(until * time.Minute)})
		for _, b := range out.Plan.Bookings {
			starts = append(starts, b.Start/minute)
		}
		assert.Equal(t, want, starts, "until %d", until)
	}
	assert.Equal(t, 48*minute, r.Leaving(map[string]time.Time{"eddy": six.Add(30 * time.Minute)}).Plan.Finish)
	assert.Equal(t, left(), p, "the problem itself is as it was")
}

func TestWhenFarmsAreThroughWithWhatTheyHave(t *testing.T) {
	t.Parallel()
	var hand []InHand
	for range 10 {
		hand = append(hand, InHand{Shot: "storm-050", Host: "gannet", Crew: "cpu", Began: six, Takes: time.Minute, Nodes: 4})
	}
	hand = append(hand, InHand{Shot: "coda-060", Host: "ebb", Takes: time.Hour, Nodes: 1}, InHand{Shot: "coda-060", Host: "eddy", Crew: "g0", Takes: time.Hour, Devices: 1})
	due := func(shot string) planning.Millis { return planning.Millis(len(shot)) }
	assert.Equal(t, []forecast.Held{{Shot: "coda-060", Ends: 60 * minute, Deadline: 8}, {Shot: "storm-050", Ends: 3 * minute, Deadline: 9}}, HeldByFarms(hand, due))
	assert.Empty(t, HeldByFarms(nil, due))
}
