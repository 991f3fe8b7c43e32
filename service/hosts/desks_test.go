package hosts

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/desks"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

// kept is a house with one desk, open in the evening, whose agent has reported.
func kept(t *testing.T) (*Hosts, teststage.Stage, uuid.UUID) {
	t.Helper()
	t.Parallel()
	db := testdb.Open(t)
	on := teststage.On(db)
	h := New(Config{Store: db, Clock: on.Clock, Feed: on.Feed, Beat: time.Second, Currency: "EUR", Zone: time.UTC})
	spec := stock.Host{Name: "desk-ada", Source: "loft", CPU: stock.CPU{Cores: 12}, MemoryGB: 32, Devices: []stock.Device{{ID: "g0", Model: "Halyard 8", MemoryGB: 8}}, Open: []stock.Hours{{Days: "mon-sun", From: "17:00", To: "08:00"}}}
	require.NoError(t, h.Put(t.Context(), spec, false))
	boot := uuid.New()
	require.NoError(t, h.Report(t.Context(), "desk-ada", Report{Boot: boot, CPU: spec.CPU, MemoryGB: 32, Devices: spec.Devices, Launchers: []string{}, Desk: lent()}))
	return h, on, boot
}

func lent() *Desk {
	return &Desk{State: Lent, Why: "nobody has touched it for a while", Kept: []string{}}
}

func used() *Desk {
	return &Desk{State: InUse, Why: "somebody works at it", Kept: []string{"g0", "cpu"}}
}

func TestWhenADeskWasItsOwnersIsKept(t *testing.T) {
	h, on, boot := kept(t)
	set := func(d *Desk) time.Time {
		closed, err := h.SetDesk(t.Context(), "desk-ada", boot, d)
		require.NoError(t, err)
		return closed
	}
	find := func() (Host, desks.Habits) {
		_, err := HeardAll(h.Store.DB, []string{"desk-ada"}, []uuid.UUID{boot}, on.Wall.Now())
		require.NoError(t, err)
		host, habits, err := h.findWithHabits(t.Context(), "desk-ada")
		require.NoError(t, err)
		return host, habits
	}
	host, habits := find()
	assert.Equal(t, Lent, host.Desk.State)
	assert.Equal(t, desks.Habits{Every: desks.DefaultEvery, For: desks.DefaultFor}, habits, "nothing is known yet")

	began := on.Clock.Now()
	assert.Zero(t, set(used()), "it is six, and its hours have begun")
	assert.Equal(t, "somebody works at it", find1(find()).Keeps([]string{"g0"}))
	on.Wall.Advance(time.Hour)
	set(used()) // a heartbeat that says nothing new
	on.Wall.Advance(time.Hour)
	other := used()
	other.Why = "its owner took it back"
	other.State, other.ByHand = TakenBack, true
	set(other)
	host, habits = find()
	assert.Equal(t, TakenBack, host.Desk.State)
	assert.Equal(t, began.Add(2*time.Hour), host.Desk.Since.UTC())
	assert.Equal(t, 1, habits.Taken, "it was its owner's all the time")
	on.Wall.Advance(time.Hour)
	set(lent())
	on.Wall.Advance(4 * time.Hour)
	_, habits = find()
	assert.Equal(t, desks.Habits{Taken: 1, Every: 6 * time.Hour, For: 2 * time.Hour}, habits, "three hours, and one of which nothing is known; lent for four, and eight")

	on.Wall.Advance(8 * time.Hour)
	assert.Equal(t, time.Date(2031, 3, 8, 17, 0, 0, 0, time.UTC), set(lent()), "its hours are over")
	host, _ = find()
	now := on.Clock.Now()
	assert.True(t, host.OpensAt(now, time.UTC).After(now))
	hand := lent()
	hand.ByHand, hand.Until = true, now.Add(30*time.Minute)
	set(hand)
	host, _ = find()
	assert.Zero(t, host.OpensAt(now, time.UTC), "its owner lends it outside its hours")
	assert.Equal(t, now.Add(30*time.Minute), host.Opens(now, now.Add(time.Hour), time.UTC)[0].End)
}

func find1(h Host, _ desks.Habits) *Desk { return h.Desk }

func TestAnotherAgentsWordOfADeskIsNotTaken(t *testing.T) {
	h, _, boot := kept(t)
	_, err := h.SetDesk(t.Context(), "desk-ada", uuid.New(), used())
	assert.ErrorContains(t, err, "another agent reported for this host since")
	host, err := h.Find(t.Context(), "desk-ada")
	require.NoError(t, err)
	assert.Equal(t, Lent, host.Desk.State)
	// Its agent is started without --desk: nobody works at it any more.
	require.NoError(t, h.Report(t.Context(), "desk-ada", Report{Boot: boot, CPU: host.Spec.CPU, MemoryGB: 32, Devices: host.Spec.Devices, Launchers: []string{}}))
	host, err = h.Find(t.Context(), "desk-ada")
	require.NoError(t, err)
	assert.Nil(t, host.Desk)
	assert.Empty(t, host.Desk.Keeps([]string{"g0"}))
}

// A desk that is switched off in the evening was its owner's until then, and not all night.
func TestASwitchedOffDeskIsNobodys(t *testing.T) {
	h, on, boot := kept(t)
	_, err := h.SetDesk(t.Context(), "desk-ada", boot, used())
	require.NoError(t, err)
	on.Wall.Advance(time.Hour)
	known, err := HeardAll(h.Store.DB, []string{"desk-ada"}, []uuid.UUID{boot}, on.Wall.Now())
	require.NoError(t, err)
	require.True(t, known[0].Known)
	on.Wall.Advance(12 * time.Hour)
	of := func() desks.Habits {
		_, habits, err := h.findWithHabits(t.Context(), "desk-ada")
		require.NoError(t, err)
		return habits
	}
	assert.Equal(t, 2*time.Hour, of().For, "an hour that lasts still, and the one that is assumed")
	report := Report{Boot: uuid.New(), CPU: stock.CPU{Cores: 12}, MemoryGB: 32, Devices: []stock.Device{{ID: "g0", Model: "Halyard 8", MemoryGB: 8}}, Launchers: []string{}, Desk: used()}
	require.NoError(t, h.Report(t.Context(), "desk-ada", report))
	on.Wall.Advance(10 * time.Minute)
	var uses []DeskUse
	require.NoError(t, h.Store.Order("began_at").Find(&uses).Error)
	require.Len(t, uses, 2)
	assert.Equal(t, time.Hour, uses[0].EndedAt.Sub(uses[0].BeganAt))
	assert.Nil(t, uses[1].EndedAt)
	// Its agent is started without --desk.
	report.Boot, report.Desk = uuid.New(), nil
	require.NoError(t, h.Report(t.Context(), "desk-ada", report))
	host, err := h.Find(t.Context(), "desk-ada")
	require.NoError(t, err)
	assert.Nil(t, host.Desk)
}

// What was its owner's long ago is forgotten.
func TestOldUsesAreForgotten(t *testing.T) {
	h, on, boot := kept(t)
	for range 3 {
		_, err := h.SetDesk(t.Context(), "desk-ada", boot, used())
		require.NoError(t, err)
		on.Wall.Advance(time.Hour)
		_, err = h.SetDesk(t.Context(), "desk-ada", boot, lent())
		require.NoError(t, err)
		on.Wall.Advance(deskMemory / 2)
	}
	var n int64
	require.NoError(t, h.Store.Model(&DeskUse{}).Count(&n).Error)
	assert.EqualValues(t, 2, n)
}

// Those who are heard together are each told how their host is stored: one that speaks twice at once too, one of another boot not.
func TestSeveralAreHeardTogether(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	boot, at := uuid.New(), on.Wall.Now()
	for _, name := range []string{"eddy", "bellows"} {
		require.NoError(t, on.DB.Create(&Host{Name: name, Spec: stock.Host{Name: name}, Boot: &boot, Trouble: name + "'s disk", Launchers: []string{}, Findings: []string{}, Missing: []string{}, Renderers: []preflight.Renderer{}}).Error)
	}
	got, err := HeardAll(on.DB.DB, []string{"eddy", "nobody", "bellows", "eddy", "bellows"}, []uuid.UUID{boot, boot, uuid.New(), boot, boot}, at)
	require.NoError(t, err)
	known := func(name string) Heard { return Heard{Known: true, Trouble: name + "'s disk", LacksNone: true} }
	assert.Equal(t, []Heard{known("eddy"), {}, {}, known("eddy"), known("bellows")}, got)
	seen, err := HeardAt(on.DB.DB, "eddy")
	require.NoError(t, err)
	assert.True(t, seen.Equal(at))
}
