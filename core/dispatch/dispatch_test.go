package dispatch_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/dispatch"
)

var six = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

// crew is one on its own host, booked for one-minute frames.
func crew(host string, frames, taken int, start, length time.Duration) *dispatch.Crew {
	return &dispatch.Crew{
		ID: int64(len(host)) + int64(host[len(host)-1])*1000, Host: host, Name: "g0", Place: dispatch.Place(host, "g0"), Shot: "stair-030", Devices: []string{"g0"},
		Frames: frames, Taken: taken, Start: six.Add(start), End: six.Add(start + length), Frame: time.Minute,
	}
}

func with(c *dispatch.Crew, change func(*dispatch.Crew)) *dispatch.Crew {
	change(c)
	return c
}

func state(s dispatch.State, said string) func(*dispatch.Crew) {
	return func(c *dispatch.Crew) { c.State, c.Said = s, said }
}

var fresh = dispatch.Kind{Waiting: 5}

func TestTakes(t *testing.T) {
	done := func() *dispatch.Crew { return crew("bellows", 10, 10, 0, 10*time.Minute) }
	failedHere := dispatch.Kind{FailedOn: []string{"bellows/g0"}, Tried: true, Waiting: 1}
	owes := func() *dispatch.Crew { return crew("bellows", 10, 3, 0, time.Hour) }
	pair := func() *dispatch.Crew {
		return with(owes(), func(c *dispatch.Crew) {
			c.Name, c.Place, c.Devices = "g0+g1", dispatch.Place("bellows", "g0+g1"), []string{"g0", "g1"}
		})
	}
	// A helper that takes 82 s, and a crew of 5.7 s that ought to be through.
	slow := func() *dispatch.Crew {
		return with(crew("bellows", 0, 0, 0, time.Hour), func(c *dispatch.Crew) { c.Frame = 82 * time.Second })
	}
	late := func() *dispatch.Crew {
		return with(crew("eddy", 10, 10, -time.Minute, 58*time.Second), func(c *dispatch.Crew) { c.Frame = 5700 * time.Millisecond })
	}
	last := dispatch.Kind{Waiting: 1}
	// One that owes frames of 20 min, of a shot that is due in 15.
	tooSlow := func() *dispatch.Crew {
		return with(owes(), func(c *dispatch.Crew) { c.Frame, c.Due = 20*time.Minute, six.Add(15*time.Minute) })
	}
	inTime := func(frames, taken int) *dispatch.Crew {
		return with(crew("eddy", frames, taken, 0, 10*time.Minute), func(c *dispatch.Crew) { c.Due = six.Add(15 * time.Minute) })
	}
	closes := func(after time.Duration) *dispatch.Crew {
		return with(crew("tern-1", 10, 0, 0, 20*time.Minute), func(c *dispatch.Crew) { c.Close = six.Add(after) })
	}
	type crews = []*dispatch.Crew
	for name, c := range map[string]struct {
		own     *dispatch.Crew
		kind    dispatch.Kind
		others  crews
		waiting int
		when    dispatch.When
		reason  dispatch.Reason
		at      time.Duration
	}{
		"its own booking":                  {own: owes(), kind: fresh, when: dispatch.Now, reason: dispatch.Booked},
		"before its booking starts":        {own: crew("bellows", 10, 0, time.Minute, time.Hour), kind: fresh, when: dispatch.Later, reason: dispatch.NotStarted, at: time.Minute},
		"others will do the rest":          {own: done(), kind: fresh, others: crews{crew("eddy", 5, 0, 0, 5*time.Minute)}, waiting: 5, when: dispatch.Later, reason: dispatch.OthersWill, at: time.Minute + time.Millisecond},
		"others are too slow":              {own: done(), kind: fresh, others: crews{crew("eddy", 5, 0, 0, 3*time.Minute)}, waiting: 5, when: dispatch.Now, reason: dispatch.Helps},
		"others are late by a frame":       {own: done(), kind: fresh, others: crews{crew("eddy", 5, 0, 0, 4*time.Minute)}, waiting: 5, when: dispatch.Later, reason: dispatch.OthersWill, at: time.Millisecond},
		"in the first second":              {own: crew("desk-ada", 0, 0, 0, time.Hour), kind: fresh, others: crews{crew("eddy", 5, 0, -time.Second, 5*time.Minute)}, waiting: 5, when: dispatch.Later, reason: dispatch.OthersWill},
		"slow, and fast ones come to it":   {own: slow(), kind: last, others: crews{late()}, waiting: 1, when: dispatch.Later, reason: dispatch.FasterWill, at: 80 * time.Second},
		"slow, and many frames wait":       {own: slow(), kind: fresh, others: crews{late()}, waiting: 99, when: dispatch.Now, reason: dispatch.Helps},
		"slow, fast ones long past it":     {own: slow(), kind: last, others: crews{with(late(), func(c *dispatch.Crew) { c.End = six.Add(-83 * time.Second) })}, waiting: 1, when: dispatch.Now, reason: dispatch.Helps},
		"slow, fast ones are gone":         {own: slow(), kind: last, others: crews{with(late(), state(dispatch.Gone, "is not heard of"))}, waiting: 1, when: dispatch.Now, reason: dispatch.Helps},
		"slow, on the fast one's device":   {own: with(slow(), func(c *dispatch.Crew) { c.Host, c.Devices = "eddy", []string{"g0"} }), kind: last, others: crews{late()}, waiting: 1, when: dispatch.Now, reason: dispatch.Helps},
		"no slower than the others":        {own: with(slow(), func(c *dispatch.Crew) { c.Frame = 6 * time.Second }), kind: last, others: crews{late()}, waiting: 1, when: dispatch.Now, reason: dispatch.Helps},
		"too late, another is in time":     {own: tooSlow(), kind: fresh, others: crews{inTime(10, 5)}, waiting: 5, when: dispatch.Later, reason: dispatch.FasterWill, at: time.Millisecond},
		"too late, a reserve is in time":   {own: tooSlow(), kind: fresh, others: crews{inTime(0, 0)}, waiting: 5, when: dispatch.Later, reason: dispatch.FasterWill},
		"too late, so are the others":      {own: tooSlow(), kind: dispatch.Kind{Waiting: 16}, others: crews{inTime(10, 5)}, waiting: 16, when: dispatch.Now, reason: dispatch.Booked},
		"too late, the other closes":       {own: tooSlow(), kind: fresh, others: crews{with(inTime(10, 5), func(c *dispatch.Crew) { c.Close = six.Add(4 * time.Minute) })}, waiting: 5, when: dispatch.Now, reason: dispatch.Booked},
		"too late, and it was due before":  {own: with(tooSlow(), func(c *dispatch.Crew) { c.Due = six.Add(-time.Second) }), kind: fresh, others: crews{inTime(10, 5)}, waiting: 5, when: dispatch.Now, reason: dispatch.Booked},
		"another will be too late":         {own: done(), kind: fresh, others: crews{with(crew("eddy", 5, 0, 0, 4*time.Minute), func(c *dispatch.Crew) { c.Due = six.Add(299 * time.Second) })}, waiting: 5, when: dispatch.Now, reason: dispatch.Helps},
		"a server closes before":           {own: done(), kind: fresh, others: crews{closes(4 * time.Minute)}, waiting: 5, when: dispatch.Now, reason: dispatch.Helps},
		"a server closes after":            {own: done(), kind: fresh, others: crews{closes(5 * time.Minute)}, waiting: 5, when: dispatch.Later, reason: dispatch.OthersWill, at: time.Millisecond},
		"others are dead":                  {own: done(), kind: fresh, others: crews{with(crew("eddy", 5, 0, 0, time.Hour), state(dispatch.Gone, "is not heard of"))}, waiting: 5, when: dispatch.Now, reason: dispatch.Helps},
		"a server that boots will do them": {own: done(), kind: fresh, others: crews{with(crew("tern-1", 5, 0, time.Hour, time.Hour), state(dispatch.Coming, ""))}, waiting: 5, when: dispatch.Later, reason: dispatch.OthersWill, at: 116*time.Minute + time.Millisecond},
		"a server that is silent will not": {own: done(), kind: fresh, others: crews{with(crew("tern-1", 5, 0, 0, time.Hour), state(dispatch.Silent, ""))}, waiting: 5, when: dispatch.Now, reason: dispatch.Helps},
		"its own booking does not count":   {own: done(), kind: fresh, others: crews{done()}, waiting: 1, when: dispatch.Now, reason: dispatch.Helps},
		"excluded":                         {own: with(owes(), func(c *dispatch.Crew) { c.Excluded = "it ran out" }), kind: fresh, when: dispatch.Never, reason: dispatch.Excluded},
		"would run past its close":         {own: with(owes(), func(c *dispatch.Crew) { c.Close = six.Add(59 * time.Second) }), kind: fresh, when: dispatch.Never, reason: dispatch.Closed, at: 59 * time.Second},
		"just before its close":            {own: with(owes(), func(c *dispatch.Crew) { c.Close = six.Add(time.Minute) }), kind: fresh, when: dispatch.Now, reason: dispatch.Booked},
		"tied to another":                  {own: owes(), kind: dispatch.Kind{OnlyOn: []string{"eddy/g0"}, Tried: true, Waiting: 1}, when: dispatch.Never, reason: dispatch.Tied},
		"tied to it":                       {own: owes(), kind: dispatch.Kind{OnlyOn: []string{"bellows/g0"}, Tried: true, Waiting: 1}, when: dispatch.Now, reason: dispatch.Booked},
		"failed here, another is left":     {own: owes(), kind: failedHere, others: crews{crew("eddy", 0, 0, 0, time.Hour)}, when: dispatch.Later, reason: dispatch.FailedHere},
		"failed here, nobody else":         {own: owes(), kind: failedHere, others: crews{with(crew("eddy", 0, 0, 0, time.Hour), state(dispatch.Gone, "is draining"))}, when: dispatch.Now, reason: dispatch.Again},
		"failed here, a farm has its job":  {own: owes(), kind: failedHere, others: crews{with(crew("ebb", 5, 5, 0, time.Hour), func(c *dispatch.Crew) { c.Farm, c.State, c.Said = true, dispatch.Gone, "has its job" })}, when: dispatch.Now, reason: dispatch.Again},
		"failed here, a farm is to come":   {own: owes(), kind: failedHere, others: crews{with(crew("ebb", 5, 0, time.Hour, time.Hour), func(c *dispatch.Crew) { c.Farm, c.State = true, dispatch.Coming })}, when: dispatch.Later, reason: dispatch.FailedHere},
		"failed here, the other closes":    {own: owes(), kind: failedHere, others: crews{with(crew("eddy", 0, 0, 0, time.Hour), func(c *dispatch.Crew) { c.Close = six.Add(time.Hour) })}, when: dispatch.Later, reason: dispatch.FailedHere, at: 59*time.Minute + time.Millisecond},
		"failed on one of its devices":     {own: pair(), kind: failedHere, others: crews{crew("eddy", 0, 0, 0, time.Hour)}, when: dispatch.Later, reason: dispatch.FailedHere},
		"failed on a crew with its device": {own: owes(), kind: dispatch.Kind{FailedOn: []string{"bellows/g0+g1"}, Tried: true, Waiting: 1}, others: crews{crew("eddy", 0, 0, 0, time.Hour)}, when: dispatch.Later, reason: dispatch.FailedHere},
		"failed on another's g0":           {own: pair(), kind: dispatch.Kind{FailedOn: []string{"dory/g0"}, Tried: true, Waiting: 1}, others: crews{crew("eddy", 0, 0, 0, time.Hour)}, when: dispatch.Now, reason: dispatch.Booked},
		"failed here and tied elsewhere":   {own: owes(), kind: dispatch.Kind{FailedOn: []string{"bellows/g0"}, OnlyOn: []string{"eddy/g0"}, Tried: true, Waiting: 1}, when: dispatch.Never, reason: dispatch.Tied},
		"tied, only those it is for count": {own: done(), kind: dispatch.Kind{OnlyOn: []string{"bellows/g0"}, Tried: true, Waiting: 1}, others: crews{crew("eddy", 50, 0, 0, 5*time.Hour)}, waiting: 50, when: dispatch.Now, reason: dispatch.Helps},
		"a trial tries again by itself":    {own: with(owes(), func(c *dispatch.Crew) { c.Trial = true }), kind: failedHere, when: dispatch.Now, reason: dispatch.Again},
	} {
		v := dispatch.Takes(c.own, &c.kind, c.others, c.waiting, six)
		assert.Equal(t, c.when, v.When, name)
		assert.Equal(t, c.reason, v.Reason, name)
		assert.NotEmpty(t, v.Why(), name)
		if c.at > 0 {
			assert.Equal(t, six.Add(c.at), v.At, name)
		}
	}
}

func TestLeft(t *testing.T) {
	dead := with(crew("bellows", 5, 0, 0, time.Hour), state(dispatch.Gone, "is not heard of"))
	live := crew("eddy", 0, 0, 0, time.Hour)
	farm := with(crew("ebb", 5, 0, time.Hour, time.Hour), func(c *dispatch.Crew) { c.Farm, c.State = true, dispatch.Coming })
	for name, c := range map[string]struct {
		kind  dispatch.Kind
		crews []*dispatch.Crew
		left  bool
		why   []string
	}{
		"somebody":                 {kind: fresh, crews: []*dispatch.Crew{dead, live}, left: true},
		"the dead":                 {kind: fresh, crews: []*dispatch.Crew{dead}, why: []string{"bellows is not heard of"}},
		"who failed at it":         {kind: dispatch.Kind{FailedOn: []string{"eddy/g0"}, Tried: true, Waiting: 1}, crews: []*dispatch.Crew{live}, left: true},
		"a farm that failed at it": {kind: dispatch.Kind{FailedOn: []string{"ebb/g0"}, Tried: true, Waiting: 1}, crews: []*dispatch.Crew{farm}, why: []string{"ebb has failed at it"}},
		"tied to the dead": {
			kind: dispatch.Kind{OnlyOn: []string{"bellows/g0"}, Tried: true, Waiting: 1}, crews: []*dispatch.Crew{dead, live, farm},
			why: []string{"bellows is not heard of", "eddy may not have it: it ran out of memory, and is for bellows/g0 alone", "ebb may not have it: it ran out of memory, and is for bellows/g0 alone"},
		},
	} {
		left, why := dispatch.Left(&c.kind, c.crews, six)
		assert.Equal(t, c.left, left, name)
		assert.Equal(t, c.why, why, name)
	}
	assert.Equal(t, "a; b; c; d; and 2 others", dispatch.Few([]string{"a", "b", "c", "d", "e", "f"}))
}

func TestHands(t *testing.T) {
	farm := with(crew("ebb", 5, 0, 0, time.Hour), func(c *dispatch.Crew) { c.Farm = true })
	assert.True(t, dispatch.Hands(farm, &fresh))
	assert.False(t, dispatch.Hands(farm, &dispatch.Kind{OnlyOn: []string{"ebb/g0"}}))
	assert.False(t, dispatch.Hands(farm, &dispatch.Kind{FailedOn: []string{"ebb/g0"}}))
}

func TestSeats(t *testing.T) {
	for name, c := range map[string]struct {
		pool dispatch.Pool
		owes bool
		when dispatch.When
	}{
		"one is free":                   {dispatch.Pool{Total: 2, Held: 1}, true, dispatch.Now},
		"none is free":                  {dispatch.Pool{Total: 2, Held: 2}, true, dispatch.Later},
		"it holds one":                  {dispatch.Pool{Total: 2, Held: 1, Mine: true}, true, dispatch.Now},
		"fewer than are held":           {dispatch.Pool{Total: 1, Held: 2, Mine: true}, true, dispatch.Later},
		"a helper leaves it to others":  {dispatch.Pool{Total: 2, Held: 1, Wanted: 1}, false, dispatch.Later},
		"the booked one does not":       {dispatch.Pool{Total: 2, Held: 1, Wanted: 1}, true, dispatch.Now},
		"a helper keeps the one it has": {dispatch.Pool{Total: 2, Held: 1, Mine: true, Wanted: 1}, false, dispatch.Now},
	} {
		assert.Equal(t, c.when, c.pool.Seat(c.owes).When, name)
	}
}

func TestWants(t *testing.T) {
	owes := crew("bellows", 5, 0, time.Hour, time.Hour)
	failedHere, tied := dispatch.Kind{FailedOn: []string{"bellows/g0"}, Waiting: 1}, dispatch.Kind{OnlyOn: []string{"eddy/g0"}, Waiting: 1}
	assert.True(t, dispatch.Wants(owes, []dispatch.Kind{tied, fresh}))
	assert.False(t, dispatch.Wants(owes, []dispatch.Kind{tied, failedHere}), "it leaves these to others")
	assert.False(t, dispatch.Wants(owes, nil))
	assert.False(t, dispatch.Wants(crew("bellows", 5, 5, 0, time.Hour), []dispatch.Kind{fresh}), "it only helps")
	assert.False(t, dispatch.Wants(with(crew("bellows", 5, 0, 0, time.Hour), state(dispatch.Gone, "is draining")), []dispatch.Kind{fresh}))
}

// waiting is a queue of one shot in memory.
type waiting struct {
	kinds []dispatch.Kind
	all   []*dispatch.Crew
	pool  *dispatch.Pool
	taken []string // crew and first frame
}

func (w *waiting) Kinds(*dispatch.Crew) ([]dispatch.Kind, error) { return w.kinds, nil }
func (w *waiting) Others(*dispatch.Crew) (all []*dispatch.Crew, n int, err error) {
	for _, k := range w.kinds {
		n += k.Waiting
	}
	return w.all, n, nil
}

func (w *waiting) Pool(*dispatch.Crew) (dispatch.Pool, bool, error) {
	if w.pool == nil {
		return dispatch.Pool{}, false, nil
	}
	return *w.pool, true, nil
}

func (w *waiting) Take(c *dispatch.Crew, k *dispatch.Kind) (int, error) {
	w.taken = append(w.taken, c.Name+" "+string(rune('a'+k.First)))
	k.Waiting--
	k.First++
	if k.Waiting == 0 {
		w.kinds = w.kinds[1:]
	}
	return 1, nil
}

func reasons(h *dispatch.Host) (out []dispatch.Reason) {
	for _, v := range h.Verdicts {
		out = append(out, v.Reason)
	}
	return out
}

func named(c *dispatch.Crew, name string, devices ...string) *dispatch.Crew {
	c.Name, c.Place, c.Devices = name, dispatch.Place(c.Host, name), devices
	c.ID += int64(len(name))
	return c
}

func TestAHostRendersWhatItsDevicesAndMemoryAllow(t *testing.T) {
	two := func() []*dispatch.Crew {
		a, b := named(crew("bellows", 9, 0, 0, time.Hour), "g0", "g0"), named(crew("bellows", 9, 0, 0, time.Hour), "g1", "g1")
		a.MemoryGB, b.MemoryGB, b.ID = 20, 20, a.ID+1
		return []*dispatch.Crew{a, b}
	}
	w := &waiting{kinds: []dispatch.Kind{{Waiting: 9}}}
	h := &dispatch.Host{Name: "bellows", MemoryGB: 64, Crews: two()}
	require.NoError(t, h.Choose(w, six))
	assert.Equal(t, []string{"g0 a", "g1 b"}, w.taken)
	require.NoError(t, h.Choose(w, six))
	assert.Equal(t, []dispatch.Reason{dispatch.DevicesBusy, dispatch.DevicesBusy}, reasons(h))

	w = &waiting{kinds: []dispatch.Kind{{Waiting: 9}}}
	h = &dispatch.Host{Name: "bellows", MemoryGB: 32, Crews: two()}
	require.NoError(t, h.Choose(w, six))
	assert.Equal(t, []string{"g0 a"}, w.taken)
	assert.Equal(t, []dispatch.Reason{dispatch.Booked, dispatch.MemoryFull}, reasons(h))
	assert.Contains(t, h.Verdicts[1].Why(), "20 of 32 GB are in use, it takes 20")
}

// A crew of two devices comes first: the small one does not take one of them while the
// other is busy.
func TestDevicesAreKeptForWhomComesFirst(t *testing.T) {
	both := named(crew("bellows", 9, 0, 0, time.Hour), "g0+g1", "g0", "g1")
	small := named(crew("bellows", 0, 0, time.Second, time.Hour), "g1", "g1")
	h := &dispatch.Host{Name: "bellows", MemoryGB: 64, Busy: []string{"g0"}, Crews: []*dispatch.Crew{both, small}}
	w := &waiting{kinds: []dispatch.Kind{{Waiting: 9}}}
	require.NoError(t, h.Choose(w, six.Add(time.Minute)))
	assert.Empty(t, w.taken)
	assert.Equal(t, []dispatch.Reason{dispatch.DevicesBusy, dispatch.DevicesKept}, reasons(h))
	assert.Equal(t, "is busy: g0 renders", h.Verdicts[0].Why())
	assert.Equal(t, "keeps its devices for g0+g1, which comes first", h.Verdicts[1].Why())

	// Nothing waits that the two may have: nothing is kept.
	w.kinds = []dispatch.Kind{{Waiting: 1, Tried: true, FailedOn: []string{"bellows/g0+g1"}}}
	require.NoError(t, h.Choose(w, six.Add(time.Minute)))
	assert.Equal(t, []string{"g1 a"}, w.taken)
}

// Frames that failed elsewhere come first, those that failed here last.
func TestTheOrderInWhichFramesAreTaken(t *testing.T) {
	c := crew("bellows", 9, 0, 0, time.Hour)
	w := &waiting{kinds: []dispatch.Kind{
		{First: 0, Waiting: 1, Tried: true, FailedOn: []string{"bellows/g0"}}, {First: 1, Waiting: 5}, {First: 2, Waiting: 1, Tried: true, FailedOn: []string{"eddy/g0"}},
	}}
	h := &dispatch.Host{Name: "bellows", MemoryGB: 64, Crews: []*dispatch.Crew{c}}
	require.NoError(t, h.Choose(w, six))
	assert.Equal(t, []string{"g0 c"}, w.taken)
}

func TestNoFrameWithoutASeat(t *testing.T) {
	c := with(crew("bellows", 9, 0, 0, time.Hour), func(c *dispatch.Crew) { c.Licence = "fathom" })
	w := &waiting{kinds: []dispatch.Kind{{Waiting: 5}}, pool: &dispatch.Pool{Name: "fathom", Total: 4, Held: 4}}
	h := &dispatch.Host{Name: "bellows", MemoryGB: 64, Crews: []*dispatch.Crew{c}}
	require.NoError(t, h.Choose(w, six))
	assert.Empty(t, w.taken)
	assert.Equal(t, "waits for a seat: 4 of 4 of fathom are held or wanted by others", h.Verdicts[0].Why())
	w.pool.Held = 3
	require.NoError(t, h.Choose(w, six))
	assert.Len(t, w.taken, 1)
}

// The crews of a more urgent run choose first, though the other's began before; a trial
// still comes before both.
func TestTheMoreUrgentRunComesFirst(t *testing.T) {
	named := func(name string, start time.Duration, p dispatch.Priority) *dispatch.Crew {
		return with(named(crew("bellows", 9, 0, start, time.Hour), name, "g0"), func(c *dispatch.Crew) { c.Priority = p })
	}
	crews := []*dispatch.Crew{
		named("normal", -time.Hour, dispatch.Normal), named("low", -2*time.Hour, dispatch.Low), named("urgent", 0, dispatch.Urgent),
		with(named("trial", 0, dispatch.Normal), func(c *dispatch.Crew) { c.Trial = true }),
	}
	dispatch.Sort(crews)
	var order []string
	for _, c := range crews {
		order = append(order, c.Name)
	}
	assert.Equal(t, []string{"trial", "urgent", "normal", "low"}, order)
	w := &waiting{kinds: []dispatch.Kind{{Waiting: 9}}}
	require.NoError(t, (&dispatch.Host{Name: "bellows", MemoryGB: 64, Crews: crews[1:]}).Choose(w, six))
	assert.Equal(t, []string{"urgent a"}, w.taken)

	for _, p := range []dispatch.Priority{dispatch.Low, dispatch.Normal, dispatch.Urgent} {
		read, err := dispatch.ParsePriority(p.String())
		require.NoError(t, err)
		assert.Equal(t, p, read)
	}
	_, err := dispatch.ParsePriority("asap")
	assert.ErrorContains(t, err, `priority "asap": want urgent, normal, low or backlog`)
}

func TestTheNextTimeToLook(t *testing.T) {
	h := &dispatch.Host{Name: "bellows", MemoryGB: 64, Crews: []*dispatch.Crew{
		named(crew("bellows", 9, 0, 2*time.Hour, time.Hour), "g0", "g0"), named(crew("bellows", 9, 0, time.Hour, time.Hour), "g1", "g1"),
	}}
	dispatch.Sort(h.Crews)
	assert.Equal(t, "g1", h.Crews[0].Name)
	require.NoError(t, h.Choose(&waiting{}, six))
	assert.Equal(t, six.Add(time.Hour), h.Next())
}

// Once every planned end has passed, no waiting frame is kept from a free crew.
func TestNoFrameIsKeptForEver(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := rapid.Custom(func(t *rapid.T) *dispatch.Crew {
			n := rapid.IntRange(0, 50).Draw(t, "frames")
			return crew("h"+string(rune('a'+rapid.IntRange(0, 20).Draw(t, "host"))), n, rapid.IntRange(0, n).Draw(t, "taken"),
				time.Duration(rapid.IntRange(0, 600).Draw(t, "start"))*time.Minute, time.Duration(rapid.IntRange(1, 600).Draw(t, "length"))*time.Minute)
		})
		own, others := draw.Draw(t, "own"), rapid.SliceOf(draw).Draw(t, "others")
		for _, c := range append(others, own) {
			c.Due = six.Add(1200 * time.Minute)
		}
		late := six.Add(1201 * time.Minute)
		v := dispatch.Takes(own, &dispatch.Kind{Waiting: 1}, others, rapid.IntRange(1, 99).Draw(t, "waiting"), late)
		assert.Equal(t, dispatch.Now, v.When)
	})
}

// Until the time that a verdict names, a crew that takes nothing still may not; one that
// names none never may by time alone.
func TestAVerdictHoldsUntilTheTimeThatItNames(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		seconds := func(low, high int, what string) time.Duration {
			return time.Duration(rapid.IntRange(low, high).Draw(t, what)) * time.Second
		}
		draw := func(host, device string) *dispatch.Crew {
			n := rapid.IntRange(0, 6).Draw(t, "frames")
			c := named(crew(host, n, rapid.IntRange(0, n).Draw(t, "taken"), 0, 0), device, device)
			c.Frame = seconds(1, 30, "frame")
			c.Start = six.Add(seconds(0, 40, "start"))
			c.End = c.Start.Add(time.Duration(max(1, n)) * c.Frame)
			if rapid.Bool().Draw(t, "closes") {
				c.Close = c.End.Add(seconds(0, 60, "close"))
			}
			return c
		}
		own := draw("own", "g0")
		others := []*dispatch.Crew{own}
		k := &dispatch.Kind{Waiting: rapid.IntRange(1, 6).Draw(t, "waiting")}
		for i := range rapid.IntRange(0, 5).Draw(t, "others") {
			c := draw(string(rune('a'+i/2)), rapid.SampledFrom([]string{"g0", "g1"}).Draw(t, "device"))
			c.ID = int64(i + 2)
			others = append(others, c)
		}
		for _, c := range others {
			if rapid.IntRange(0, 3).Draw(t, "failed") == 0 {
				k.Tried, k.FailedOn = true, append(k.FailedOn, c.Place)
			}
		}
		if rapid.Bool().Draw(t, "is due") {
			due := six.Add(seconds(0, 200, "due"))
			for _, c := range others {
				c.Due = due
			}
		}
		waiting := k.Waiting + rapid.IntRange(0, 3).Draw(t, "more")
		at := six.Add(seconds(0, 60, "now"))
		v := dispatch.Takes(own, k, others, waiting, at)
		if v.When == dispatch.Now {
			return
		}
		until := v.At
		if v.When == dispatch.Never || until.IsZero() {
			until = at.Add(time.Hour)
		}
		require.True(t, until.After(at))
		for ; at.Before(until); at = at.Add(100 * time.Millisecond) {
			require.NotEqual(t, dispatch.Now, dispatch.Takes(own, k, others, waiting, at).When, "at %s", at)
		}
		require.NotEqual(t, dispatch.Now, dispatch.Takes(own, k, others, waiting, until.Add(-time.Millisecond)).When)
	})
}

// A crew that only waits for others is told a time until nobody is in its way any more.
func TestALookAtEachTimeThatIsNamedEndsWithAFrame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var others []*dispatch.Crew
		waiting := 1
		for i := range rapid.IntRange(1, 5).Draw(t, "others") {
			n := rapid.IntRange(1, 20).Draw(t, "frames")
			c := crew("h"+string(rune('a'+i)), n, 0, time.Duration(rapid.IntRange(0, 30).Draw(t, "start"))*time.Minute, time.Duration(rapid.IntRange(5, 60).Draw(t, "length"))*time.Minute)
			waiting += rapid.IntRange(0, n).Draw(t, "waiting")
			others = append(others, c)
		}
		own := crew("own", rapid.IntRange(0, 3).Draw(t, "owed"), 0, 0, 24*time.Hour)
		own.Frame = time.Duration(rapid.IntRange(1, 60).Draw(t, "frame")) * time.Minute
		due := six.Add(time.Duration(rapid.IntRange(0, 120).Draw(t, "due")) * time.Minute)
		for _, c := range append(others, own) {
			c.Due = due
		}
		now := six
		for range 200 {
			v := dispatch.Takes(own, &dispatch.Kind{Waiting: waiting}, others, waiting, now)
			if v.When != dispatch.Later {
				return
			}
			require.True(t, v.At.After(now))
			now = v.At
		}
		t.Fatal("it never may")
	})
}
