package replan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/pricing"
)

var six = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

// at is an outlook: a chance, minutes until the end (0: never), what the rest costs and what
// of that outside.
func at(chance float64, ends int, cost, outside string) Outlook {
	o := Outlook{Chance: chance, Cost: pricing.MustMoney(cost), Outside: pricing.MustMoney(outside)}
	if ends > 0 {
		o.Finish = six.Add(time.Duration(ends) * time.Minute)
	}
	return o
}

func TestWhatANewScheduleIsWorth(t *testing.T) {
	spare := pricing.MustMoney("3.00")
	for name, c := range map[string]struct {
		policy        Policy
		present, next Outlook
		act           Act
		gain, more    string
	}{
		"it saves the deadline":                  {Auto, at(0.3, 130, "2.00", "0"), at(0.95, 100, "2.50", "1.00"), Change, "95 % to be in time instead of 30 %", "0.00"},
		"a person is asked who wants to be":      {Ask, at(0.3, 130, "2.00", "0"), at(0.95, 100, "2.50", "1.00"), Propose, "95 % to be in time instead of 30 %", "0.00"},
		"nothing is done where it is off":        {Off, at(0.3, 130, "2.00", "0"), at(0.95, 100, "2.50", "1.00"), Keep, "95 % to be in time instead of 30 %", "0.00"},
		"it takes more than the cap":             {Auto, at(0.3, 130, "2.00", "0"), at(0.95, 100, "6.50", "4.10"), Propose, "95 % to be in time instead of 30 %", "1.10"},
		"it brings the chance to what is wanted": {Auto, at(0.78, 110, "2.00", "0"), at(0.82, 109, "2.00", "0"), Change, "82 % to be in time instead of 78 %", "0.00"},
		"a point is luck, whatever it brings":    {Auto, at(0.79, 110, "2.00", "0"), at(0.80, 109, "2.00", "0"), Keep, "", "0.00"},
		"a few points are luck":                  {Auto, at(0.40, 130, "2.00", "0"), at(0.45, 128, "2.00", "0"), Keep, "", "0.00"},
		"late either way, and much earlier":      {Auto, at(0, 200, "2.00", "0"), at(0, 150, "2.00", "0"), Change, "it ends 50 min earlier", "0.00"},
		"late either way, and a little earlier":  {Auto, at(0, 200, "2.00", "0"), at(0, 190, "2.00", "0"), Keep, "", "0.00"},
		"it would never end":                     {Auto, at(0, 0, "2.00", "0"), at(0, 190, "2.00", "0"), Change, "it ends, which it would not", "0.00"},
		"neither would":                          {Auto, at(0, 0, "2.00", "0"), at(0, 0, "2.00", "0"), Keep, "", "0.00"},
		"in time already, and cheaper":           {Auto, at(0.95, 100, "9.00", "0"), at(0.95, 100, "7.80", "0"), Change, "EUR 1.20 less for the rest, and as surely in time", "0.00"},
		"in time already, and cheaper by cents":  {Auto, at(0.95, 100, "1.00", "0"), at(0.95, 100, "0.60", "0"), Keep, "", "0.00"},
		"cheaper and less sure, but sure enough": {Auto, at(0.99, 100, "9.00", "0"), at(0.85, 110, "7.00", "0"), Change, "EUR 2.00 less for the rest, and as surely in time", "0.00"},
		"cheaper, as it renders nothing":         {Auto, at(0, 0, "9.00", "0"), at(0, 0, "0.00", "0"), Keep, "", "0.00"},
		"late, and cheaper":                      {Auto, at(0, 200, "9.00", "0"), at(0, 200, "2.00", "0"), Keep, "", "0.00"},
		"cheaper and not sure enough":            {Auto, at(0.95, 100, "9.00", "0"), at(0.5, 110, "2.00", "0"), Keep, "", "0.00"},
		"the same":                               {Auto, at(0.9, 100, "2.00", "0"), at(0.9, 100, "2.00", "0"), Keep, "", "0.00"},
		"money that is spent outside by both":    {Auto, at(0.3, 130, "5.00", "2.00"), at(0.9, 100, "5.00", "3.00"), Change, "90 % to be in time instead of 30 %", "0.00"},
	} {
		v := Decide(c.policy, c.present, c.next, Limits{Now: six, Wanted: Usual, Spare: &spare, Currency: "EUR"})
		assert.Equal(t, c.act, v.Act, name)
		assert.Equal(t, c.gain, v.Gain, name)
		assert.Equal(t, c.more, v.More.String(), name)
	}
}

// Without a cap nothing may be spent outside.
func TestWithoutACapNothingIsSpentOutside(t *testing.T) {
	v := Decide(Auto, at(0.1, 200, "1.00", "0"), at(0.99, 90, "1.50", "0.50"), Limits{Now: six, Wanted: Usual, Currency: "EUR"})
	assert.Equal(t, Propose, v.Act)
	assert.Equal(t, "0.50", v.More.String())
}

// Whatever is expected: a change is made by auto only, inside what is spare, and never to a
// schedule that is less sure than both the present one and what is wanted.
func TestNoChangeMakesItWorse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		outlook := func(name string) Outlook {
			cents := rapid.Int64Range(0, 2000)
			o := Outlook{Chance: rapid.Float64Range(0, 1).Draw(t, name+" chance"), Cost: pricing.MustMoney("0.01").Times(cents.Draw(t, name+" cost"))}
			o.Outside = pricing.MustMoney("0.01").Times(rapid.Int64Range(0, 500).Draw(t, name+" outside"))
			o.Margin = pricing.MustMoney("0.01").Times(rapid.Int64Range(0, 50).Draw(t, name+" margin"))
			if m := rapid.IntRange(0, 300).Draw(t, name+" ends"); m > 0 {
				o.Finish = six.Add(time.Duration(m) * time.Minute)
			}
			return o
		}
		present, next := outlook("present"), outlook("next")
		spare := pricing.MustMoney("0.01").Times(rapid.Int64Range(0, 500).Draw(t, "spare"))
		policy := rapid.SampledFrom([]Policy{Auto, Ask, Off}).Draw(t, "policy")
		v := Decide(policy, present, next, Limits{Now: six, Wanted: Usual, Spare: &spare, Currency: "EUR"})
		if v.Act == Change {
			require.Equal(t, Auto, policy)
			require.LessOrEqual(t, next.Outside.Plus(next.Margin).Cmp(spare), 0)
		}
		if v.Act != Keep {
			require.NotEmpty(t, v.Gain)
			require.False(t, next.Chance == 0 && next.Finish.IsZero(), "what never ends is no gain")
			require.GreaterOrEqual(t, next.Chance, min(present.Chance, Usual))
		}
		again := Decide(policy, next, next, Limits{Now: six, Wanted: Usual, Spare: &spare, Currency: "EUR"})
		require.Equal(t, Keep, again.Act, "what is the same is no reason for a change")
	})
}

func TestFramesThatAreMoved(t *testing.T) {
	own := planning.Booking{Shot: "coda-060", Host: "bellows", Crew: "g0", Frames: 10}
	rented := planning.Booking{Shot: "coda-060", Server: "tern#1", Crew: "g0", Frames: 6}
	before := planning.Plan{Bookings: []planning.Booking{own, rented}, Servers: []planning.Server{{ID: "tern#1", Offer: "tern"}}}
	assert.Zero(t, Moved(before, before))
	after := before
	after.Servers = []planning.Server{{ID: "tern#2", Offer: "tern"}}
	after.Bookings = []planning.Booking{own, {Shot: "coda-060", Server: "tern#2", Crew: "g0", Frames: 6}}
	assert.Zero(t, Moved(before, after), "servers of an offer are alike")
	own.Frames = 7
	after.Bookings[0] = own
	assert.Equal(t, 3, Moved(before, after))
	after.Bookings = append(after.Bookings, planning.Booking{Shot: "coda-060", Farm: "ebb", Frames: 2}, planning.Booking{Shot: "coda-060", Host: "dory", Crew: "cpu", Frames: 1})
	assert.Equal(t, []Move{{"coda-060", "bellows", "g0", -3}, {"coda-060", "ebb", "", 2}, {"coda-060", "dory", "cpu", 1}}, Moves(before, after), "the most first")
}

func TestPoliciesAreRead(t *testing.T) {
	p, err := ParsePolicy("", Ask)
	require.NoError(t, err)
	assert.Equal(t, Ask, p)
	_, err = ParsePolicy("sometimes", Auto)
	assert.EqualError(t, err, `policy "sometimes": want auto, ask or off`)
}

func TestWhenWorkIsDone(t *testing.T) {
	g0, g1 := []string{"g0"}, []string{"g1"}
	at := func(m int) time.Time { return six.Add(time.Duration(m) * time.Minute) }
	out := Expect(six, []Work{
		{Shot: "later", Place: "eddy", Crew: "g0", Devices: g0, Frames: 5, Takes: 5 * time.Minute, Begins: at(-1)},
		{Shot: "in hand", Place: "eddy", Crew: "g0", Devices: g0, Frames: 1, Takes: 2 * time.Minute},
		{Shot: "beside", Place: "eddy", Crew: "g1", Devices: g1, Frames: 1, Takes: time.Minute, Begins: at(-30)},
		{Shot: "both", Place: "eddy", Crew: "g0+g1", Devices: []string{"g0", "g1"}, Frames: 2, Takes: 4 * time.Minute, Begins: at(3)},
		{Shot: "far", Place: "eddy", Crew: "g1", Devices: g1, Frames: 1, Takes: time.Minute, Begins: at(60)},
		{Shot: "elsewhere", Place: "dory", Crew: "g0", Devices: g0, Frames: 1, Takes: time.Minute, Begins: at(0)},
		{Shot: "farm", Place: "ebb", Frames: 9, Takes: 9 * time.Minute, Begins: at(0)},
		{Shot: "farm too", Place: "ebb", Frames: 9, Takes: 9 * time.Minute, Begins: at(1)},
	})
	for i, want := range []struct {
		shot       string
		start, end int
	}{{"elsewhere", 0, 1}, {"farm", 0, 9}, {"farm too", 1, 10}, {"in hand", 0, 2}, {"later", 2, 7}, {"both", 7, 11}, {"beside", 0, 1}, {"far", 60, 61}} {
		assert.Equal(t, want.shot, out[i].Shot)
		assert.Equal(t, at(want.start), out[i].Start, want.shot)
		assert.Equal(t, at(want.end), out[i].End, want.shot)
	}
}

func TestWhatIsLeftWhereNothingMayBeBought(t *testing.T) {
	p := planning.Problem{
		Hosts: []planning.Host{{ID: "eddy"}}, Offers: []planning.Offer{{ID: "tern"}}, Farms: []planning.Farm{{ID: "ebb"}},
		Licences:  []planning.Licence{{ID: "fathom", Seats: 2, ExtraSeats: 3}},
		Timings:   []planning.Timing{{Shot: "a", Host: "eddy"}, {Shot: "a", Offer: "tern"}, {Shot: "a", Farm: "ebb"}},
		Transfers: []planning.Transfer{{Shot: "a", Source: "tern"}},
	}
	own := WithinOwn(p)
	assert.Equal(t, planning.Problem{
		Hosts: []planning.Host{{ID: "eddy"}}, Licences: []planning.Licence{{ID: "fathom", Seats: 2}}, Timings: []planning.Timing{{Shot: "a", Host: "eddy"}},
	}, own)
	assert.Len(t, p.Timings, 3)
	assert.Equal(t, 3, p.Licences[0].ExtraSeats, "the problem stays as it is")
}

// What was taken from crews is given back to them, of what is left.
func TestAnEarlierScheduleAgain(t *testing.T) {
	minute := planning.Millis(60_000)
	p := planning.Problem{
		Shots:   []planning.Shot{{ID: "coda-060", Frames: 10, Deadline: 60 * minute}, {ID: "lamp-040", Frames: 4, Deadline: 60 * minute}},
		Hosts:   []planning.Host{{ID: "eddy", Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}}}, {ID: "dory", Crews: []planning.Crew{{ID: "cpu"}}}},
		Offers:  []planning.Offer{{ID: "tern", Lead: 10 * minute}},
		Farms:   []planning.Farm{{ID: "ebb", Nodes: 4}},
		Timings: []planning.Timing{{Shot: "coda-060", Host: "eddy", Crew: "g0", Frame: minute}, {Shot: "coda-060", Host: "dory", Crew: "cpu", Frame: 9 * minute}, {Shot: "coda-060", Offer: "tern", Crew: "g0", Frame: minute}, {Shot: "coda-060", Farm: "ebb", Frame: 8 * minute}},
	}
	earlier := planning.Plan{
		Servers: []planning.Server{{ID: "tern#1", Offer: "tern", From: 0, To: 40 * minute}, {ID: "skerry#1", Offer: "skerry", From: 0, To: 40 * minute}, {ID: "tern#2", Offer: "tern", From: 0, To: 12 * minute}},
		Bookings: []planning.Booking{
			{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 8, Start: 2 * minute},
			{Shot: "coda-060", Host: "dory", Crew: "cpu", Frames: 5, Start: 12 * minute},
			{Shot: "coda-060", Server: "tern#1", Crew: "g0", Frames: 4, Start: 15 * minute},
			{Shot: "coda-060", Farm: "ebb", Nodes: 2, Frames: 3, Start: 30 * minute},
			{Shot: "coda-060", Server: "skerry#1", Crew: "cpu", Frames: 50},
			{Shot: "coda-060", Server: "tern#2", Crew: "g0", Frames: 50},
			{Shot: "lamp-040", Host: "gone", Crew: "g0", Frames: 4},
		},
	}
	plan, without := Again(p, earlier, 5*minute)
	assert.Equal(t, []string{"lamp-040"}, without)
	assert.Equal(t, []planning.Server{{ID: "tern#1", Offer: "tern", From: 0, To: 35 * minute}}, plan.Servers)
	assert.Equal(t, []planning.Booking{
		{Shot: "coda-060", Host: "eddy", Crew: "g0", Frames: 4, Start: 0, End: 4 * minute},
		{Shot: "coda-060", Host: "dory", Crew: "cpu", Frames: 3, Start: 7 * minute, End: 34 * minute},
		{Shot: "coda-060", Server: "tern#1", Crew: "g0", Frames: 2, Start: 10 * minute, End: 12 * minute},
		{Shot: "coda-060", Farm: "ebb", Nodes: 2, Frames: 1, Start: 25 * minute, End: 33 * minute},
	}, plan.Bookings, "8, 5, 4 and 3 of 20")
	assert.Equal(t, planning.Meets, plan.Status)
}

// However it was divided: what is left is divided whole, and nobody gets more than a frame
// beside his part.
func TestSharesAddUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var had []planning.Booking
		all := 0
		for _, n := range rapid.SliceOfN(rapid.IntRange(1, 400), 1, 12).Draw(t, "had") {
			had = append(had, planning.Booking{Frames: n})
			all += n
		}
		frames := rapid.IntRange(0, 1000).Draw(t, "left")
		sum := 0
		for i, n := range shares(frames, had) {
			sum += n
			require.InDelta(t, float64(frames)*float64(had[i].Frames)/float64(all), float64(n), 1)
		}
		require.Equal(t, frames, sum)
	})
}

func TestAFarmIsNewWhereNothingIsBookedYet(t *testing.T) {
	t.Parallel()
	p := planningtest.Parse(t, planningtest.Gale)
	none := WithoutNewFarms(p, planning.Plan{Bookings: []planning.Booking{{Shot: "gale-010", Host: "anvil", Frames: 100}}})
	require.NoError(t, none.Validate())
	assert.Empty(t, none.Farms)
	assert.Len(t, none.Timings, 2)
	assert.Len(t, none.Offers, 1, "servers need nobody")
	assert.Len(t, p.Farms, 1, "the problem itself is as it was")
	same := WithoutNewFarms(p, planning.Plan{Bookings: []planning.Booking{{Shot: "gale-010", Farm: "ebb", Frames: 100}}})
	assert.Equal(t, p, same, "whose proof frames were looked at")
	own, farm := planning.Plan{Bookings: []planning.Booking{{Host: "anvil"}}}, planning.Plan{Bookings: []planning.Booking{{Host: "anvil"}, {Farm: "ebb"}}}
	assert.True(t, NewFarms(own, farm))
	assert.False(t, NewFarms(farm, farm))
	assert.False(t, NewFarms(farm, own))
}
