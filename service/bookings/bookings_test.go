package bookings

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/hosts"
	"rotanex.example/service/states"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

var six = teststage.Six

// The table of docs/architecture.md: how a crew's machine counts.
func TestHowAMachineStands(t *testing.T) {
	t.Parallel()
	heard, long := six.Add(-time.Second), six.Add(-hosts.Lost)
	state := func(s states.Server) *states.Server { return &s }
	job := func(s states.Job) *states.Job { return &s }
	for name, x := range map[string]struct {
		crew Crew
		want dispatch.State
		said string
	}{
		"an own host that is heard of":            {Crew{Known: true, seen: &heard}, dispatch.Ready, ""},
		"an own host that never was":              {Crew{Known: true}, dispatch.Gone, "is not heard of"},
		"an own host that fell silent":            {Crew{Known: true, seen: &long}, dispatch.Gone, "is not heard of"},
		"one that drains":                         {Crew{Known: true, seen: &heard, drains: true}, dispatch.Gone, "is draining"},
		"one that was taken out of the stock":     {Crew{seen: &heard}, dispatch.Gone, "is not in the stock any more"},
		"a server to come":                        {Crew{server: state("planned")}, dispatch.Coming, ""},
		"a server that was asked for":             {Crew{server: state("requested")}, dispatch.Coming, ""},
		"a server that starts":                    {Crew{server: state("starting")}, dispatch.Coming, ""},
		"a server that was never made":            {Crew{server: state("not-started")}, dispatch.Gone, "was never made"},
		"a server that is up":                     {Crew{Known: true, server: state("up"), seen: &heard}, dispatch.Ready, ""},
		"a server that is up and silent":          {Crew{Known: true, server: state("up"), seen: &long}, dispatch.Silent, ""},
		"a server that is stopping":               {Crew{Known: true, server: state("stopping"), seen: &heard}, dispatch.Gone, "is ended"},
		"a farm's job to come":                    {Crew{job: job("planned")}, dispatch.Coming, ""},
		"a farm's job that was not begun":         {Crew{job: job("not-started")}, dispatch.Gone, "was not given the job"},
		"a farm that has its job":                 {Crew{job: job("rendering")}, dispatch.Gone, "has its job: it takes no more frames"},
		"a farm whose job was sent and not begun": {Crew{job: job("queued")}, dispatch.Gone, "has its job: it takes no more frames"},
	} {
		got, said := x.crew.stands(six)
		assert.Equal(t, x.want, got, name)
		assert.Equal(t, x.said, said, name)
	}
}

// booked is a run over a database of its own with bookings of one shot.
func booked(t *testing.T, all ...Booking) (*gorm.DB, uuid.UUID) {
	t.Parallel()
	db, run := testdb.Open(t).DB, uuid.New()
	require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, six).Error)
	require.NoError(t, db.Exec(`INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'lamp-040', '{"name": "lamp-040", "host_memory_gb": 12, "licence": "fathom"}')`, run).Error)
	for i := range all {
		b := &all[i]
		b.RunID, b.Shot, b.Devices, b.StartAt, b.EndAt, b.Open = run, "lamp-040", []string{b.Crew}, six, six.Add(time.Hour), true
	}
	require.NoError(t, Add(db, all))
	return db, run
}

func read1(t *testing.T, db *gorm.DB, run uuid.UUID) map[string]*Crew {
	t.Helper()
	all, err := OfRun(db, six, run, "lamp-040")
	require.NoError(t, err)
	out := map[string]*Crew{}
	for _, c := range all {
		out[c.Host+"/"+c.Name] = c
	}
	return out
}

func TestWhatACrewTookIsCounted(t *testing.T) {
	db, run := booked(t, Booking{Host: "eddy", Crew: "g0", Frames: 5, FrameS: 60})
	c := read1(t, db, run)["eddy/g0"]
	assert.Equal(t, 5, c.Owed())
	assert.InDelta(t, 12, c.MemoryGB, 1e-9, "from its shot")
	assert.Equal(t, "fathom", c.Licence)
	require.NoError(t, Took(db, c.ID, 2))
	assert.Equal(t, 3, read1(t, db, run)["eddy/g0"].Owed())
	require.NoError(t, Took(db, c.ID, -5))
	assert.Equal(t, 5, read1(t, db, run)["eddy/g0"].Owed(), "nobody has taken fewer than none")
	require.NoError(t, Lessen(db, c.ID))
	assert.Equal(t, 4, read1(t, db, run)["eddy/g0"].Owed())
	require.NoError(t, OneOwesNothing(db, c.ID))
	assert.Zero(t, read1(t, db, run)["eddy/g0"].Owed())
}

// What is planned in the place of a booking is not counted twice: not what it had not taken.
func TestWhatIsPlannedAnewIsCountedOnce(t *testing.T) {
	db, run := booked(t, Booking{Host: "eddy", Crew: "g0", Frames: 5, FrameS: 60}, Booking{Host: "dory", Crew: "g0", Frames: 3, FrameS: 50})
	was := read1(t, db, run)
	require.NoError(t, Took(db, was["eddy/g0"].ID, 2))
	require.NoError(t, Took(db, was["dory/g0"].ID, 4))
	require.NoError(t, OweNothing(db, run))
	require.NoError(t, Add(db, []Booking{{RunID: run, Shot: "lamp-040", Host: "bellows", Crew: "g0", Devices: []string{"g0"}, Frames: 3, StartAt: six, EndAt: six.Add(time.Hour), FrameS: 30, Open: true}}))
	var planned map[string]any
	require.NoError(t, db.Raw("SELECT sum(planned) AS all, sum(planned) FILTER (WHERE host = 'dory') AS dory FROM bookings").Scan(&planned).Error)
	assert.EqualValues(t, 8, planned["all"], "two, three and three")
	assert.EqualValues(t, 3, planned["dory"], "what it took beyond is no plan's")
}

// A server in the place of another gets what that one still owed, and no more.
func TestAReplacementIsBookedForWhatIsOwed(t *testing.T) {
	db, run := booked(t, Booking{Host: "tern-1", Crew: "g0", Frames: 5, FrameS: 60}, Booking{Host: "tern-1", Crew: "g1", Frames: 3, FrameS: 50})
	was := read1(t, db, run)
	require.NoError(t, Took(db, was["tern-1/g0"].ID, 2))
	require.NoError(t, Took(db, was["tern-1/g1"].ID, 3))
	owed, err := Owed(db, run, "tern-1")
	require.NoError(t, err)
	assert.Equal(t, 3*time.Minute, owed, "the busiest crew has three frames of a minute left")

	later := six.Add(time.Hour)
	require.NoError(t, Replace(db, run, "tern-1", "tern-1-again1", later, later.Add(time.Hour), later.Add(2*time.Hour)))
	now := read1(t, db, run)
	require.Len(t, now, 3, "a crew that owed nothing is not booked again")
	assert.Zero(t, now["tern-1/g0"].Owed())
	again := now["tern-1-again1/g0"]
	assert.Equal(t, 3, again.Owed())
	assert.Equal(t, later, again.Start.UTC())
	assert.Equal(t, later.Add(2*time.Hour), again.Close.UTC())
}

func TestACrewIsExcludedUntilTheRunIsResumed(t *testing.T) {
	db, run := booked(t, Booking{Host: "eddy", Crew: "g0", Frames: 5, FrameS: 60}, Booking{Host: "dory", Crew: "g0", Frames: 5, FrameS: 60})
	require.NoError(t, Exclude(db, run, "lamp-040", "eddy", "g0", "ran out of memory twice"))
	require.NoError(t, SetMemoryMode(db, run, "lamp-040", "dory", "g0", "spill"))
	now := read1(t, db, run)
	assert.Equal(t, "ran out of memory twice", now["eddy/g0"].Excluded)
	assert.Empty(t, now["dory/g0"].Excluded)
	assert.Equal(t, "spill", now["dory/g0"].Mode)
	require.NoError(t, SetOpen(db, false, run))
	onHost, err := OnHost(db, six, "eddy")
	require.NoError(t, err)
	assert.Empty(t, onHost, "a closed booking is not leased for")
	require.NoError(t, Reopen(db, run))
	onHost, err = OnHost(db, six, "eddy")
	require.NoError(t, err)
	require.Len(t, onHost, 1)
	assert.Empty(t, onHost[0].Excluded)
}

func TestABookingMovesWithItsServer(t *testing.T) {
	closes := six.Add(2 * time.Hour)
	db, run := booked(t, Booking{Host: "tern-1", Crew: "g0", Frames: 5, FrameS: 60, CloseAt: &closes}, Booking{Host: "eddy", Crew: "g0", Frames: 5, FrameS: 60})
	require.NoError(t, Postpone(db, run, "tern-1", 10*time.Minute))
	now := read1(t, db, run)
	assert.Equal(t, six.Add(10*time.Minute), now["tern-1/g0"].Start.UTC())
	assert.Equal(t, closes.Add(10*time.Minute), now["tern-1/g0"].Close.UTC())
	assert.Equal(t, six, now["eddy/g0"].Start.UTC(), "others stay where they are")
	require.NoError(t, CloseAt(db, run, "tern-1", closes))
	assert.Equal(t, closes, read1(t, db, run)["tern-1/g0"].Close.UTC())
	frame, err := FrameS(db, now["eddy/g0"].ID)
	require.NoError(t, err)
	assert.InDelta(t, 60, frame, 1e-9)
}

// A run's moved deadline goes before that of its plan, and the backlog has none.
func TestWhenFramesAreDue(t *testing.T) {
	due, moved := six.Add(time.Hour), six.Add(2*time.Hour)
	db, run := booked(t, Booking{Host: "eddy", Crew: "g0", Frames: 1, FrameS: 60, DueAt: &due}, Booking{Host: "dory", Crew: "g0", Frames: 1, FrameS: 60})
	dueAt := func(place string) time.Time { return read1(t, db, run)[place].Due.UTC() }
	assert.Equal(t, due, dueAt("eddy/g0"))
	assert.Zero(t, dueAt("dory/g0"))
	require.NoError(t, db.Exec("UPDATE runs SET deadline = $2 WHERE id = $1", run, moved).Error)
	assert.Equal(t, moved, dueAt("eddy/g0"))
	require.NoError(t, Replace(db, run, "eddy", "tern-1", six, moved, moved))
	require.NoError(t, db.Exec("UPDATE runs SET deadline = NULL WHERE id = $1", run).Error)
	assert.Equal(t, due, dueAt("tern-1/g0"), "what is booked in its place is due then too")
	require.NoError(t, db.Exec("UPDATE runs SET priority = $2 WHERE id = $1", run, dispatch.Backlog).Error)
	assert.Zero(t, dueAt("eddy/g0"))
}
