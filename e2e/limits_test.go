package e2e

import (
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/stock"
)

func TestHostMemoryHoldsWhileRunning(t *testing.T) {
	clock := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	h := newHouse(t, withWall(clock))
	small := bellows
	small.MemoryGB = 15
	a := h.hand(small)
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "gears", &api.PutShotParams{}, api.ShotSpec{
		Name: "gears", Scene: "coda.yaml", Frames: "1-20", Width: 64, Height: 36, Launcher: "simulated", HostMemoryGb: 8, DeviceMemoryGb: 10,
	}))
	h.trialByHand(a, "gears", "bellows", "g0")
	h.trialByHand(a, "gears", "bellows", "g1")
	plan, _ := h.started(time.Hour, "gears")
	first := a.lease()
	require.Len(t, first, 1, "the memory holds one renderer of 8 GB, not two, though two devices are free")
	assert.Empty(t, a.lease(holding(first[0])))
	a.deliver(first[0])
	assert.Len(t, a.lease(), 1)
	require.NotEmpty(t, plan.Bookings)
}

func TestOpeningHoursHoldWhileRunning(t *testing.T) {
	friday := time.Date(2031, 3, 7, 18, 50, 0, 0, time.UTC)
	clock := clockwork.NewFakeClockAt(friday)
	h := newHouse(t, withWall(clock))
	desk := eddy
	desk.Name, desk.Open = "desk-ada", []stock.Hours{{Days: "mon-fri", From: "19:00", To: "20:00"}}
	h.putHost(desk)
	a := h.hand(desk)
	h.putShot("coda-060", "1-400", nil)
	h.trialByHand(a, "coda-060", "desk-ada", "g0")
	plan, run := h.started(5*24*time.Hour, "coda-060")
	require.NotEmpty(t, plan.Bookings)
	for _, b := range plan.Bookings {
		assert.Equal(t, 19, b.Start.UTC().Hour(), "booked in open hours alone")
	}
	a.beat()
	assert.Empty(t, a.lease(), "it opens at seven")
	clock.Advance(11 * time.Minute)
	a.beat()
	leases := a.lease()
	require.Len(t, leases, 1)
	a.deliver(leases[0])
	clock.Advance(58*time.Minute + 55*time.Second)
	a.beat()
	assert.Empty(t, a.lease(), "a frame of ten seconds would run past eight")
	assert.Equal(t, 1, h.run(run).Counts.Done)
}

func TestWhatAnAgentFoundStands(t *testing.T) {
	h := newHouse(t)
	declared := bellows
	declared.Devices = append([]stock.Device{}, bellows.Devices...)
	declared.Devices[0].MemoryGB = 48 // somebody's memory is better than the machine's
	h.putHost(declared)
	h.hand(bellows)
	got := must[api.Host](t)(h.admin().GetHost(t.Context(), "bellows"))
	assert.True(t, got.Found)
	assert.InDelta(t, 24, got.Spec.Devices[0].MemoryGb, 0, "as found, not as declared")
	assert.Equal(t, 350, got.Spec.Devices[0].Watts)
	declared.Note = "by the window"
	h.putHost(declared)
	got = must[api.Host](t)(h.admin().GetHost(t.Context(), "bellows"))
	assert.InDelta(t, 24, got.Spec.Devices[0].MemoryGb, 0, "a file that is imported again does not undo it")
	assert.Equal(t, "by the window", got.Spec.Note)
}

func TestPictures(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-2")
	leases := append(one.lease(), two.lease()...)
	require.NotEmpty(t, leases)
	a := one
	if leases[0].Crew == "g0" && len(one.lease()) == 0 {
		a = two
	}
	a.deliver(leases[0])
	n := leases[0].Frame
	path := "/runs/" + run.Id.String() + "/frames/coda-060/"
	whole, err := h.post(http.MethodGet, path+strconv.Itoa(n)+"/picture", "")
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, whole.StatusCode)
	assert.Contains(t, whole.Header.Get("Content-Digest"), "sha-256=:")
	assert.Equal(t, "image/png", whole.Header.Get("Content-Type"))
	small, err := h.post(http.MethodGet, path+strconv.Itoa(n)+"/picture?width=32", "")
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, small.StatusCode)
	assert.NotEqual(t, whole.Header.Get("ETag"), small.Header.Get("ETag"))
	again, err := http.NewRequestWithContext(t.Context(), http.MethodGet, h.address+"/api/v1"+path+strconv.Itoa(n)+"/picture", nil)
	require.NoError(t, err)
	again.Header.Set("Authorization", "Bearer "+h.token)
	again.Header.Set("If-None-Match", whole.Header.Get("ETag"))
	same, err := http.DefaultClient.Do(again)
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotModified, same.StatusCode)

	other := strconv.Itoa(3 - n)
	assert.Contains(t, refused(t, http.StatusNotFound)(h.post(http.MethodGet, path+other+"/picture", "")).Detail, "no picture yet")
	refused(t, http.StatusNotFound)(h.post(http.MethodGet, path+"99/picture", ""))
	refused(t, http.StatusUnprocessableEntity)(h.post(http.MethodGet, path+"1/picture?width=5", ""))
	refused(t, http.StatusUnprocessableEntity)(h.post(http.MethodGet, path+"one/picture", ""))
}

func TestFramesCanBeListedByShotAndState(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-9")
	for _, a := range []hand{one, two} {
		for _, l := range a.lease() {
			a.deliver(l)
		}
	}
	list := func(p *api.ListFramesParams) []api.Frame {
		return must[api.FrameList](t)(h.admin().ListFrames(t.Context(), run.Id, p)).Items
	}
	done := list(&api.ListFramesParams{State: new(api.FrameStateDone)})
	require.NotEmpty(t, done)
	for _, f := range done {
		assert.Len(t, f.Sha256, 64)
		assert.InDelta(t, 10, f.Seconds, 0)
	}
	assert.Len(t, list(&api.ListFramesParams{State: new(api.FrameStateWaiting)}), 9-len(done))
	assert.Empty(t, list(&api.ListFramesParams{Shot: new("stair-030")}))
	first := must[api.FrameList](t)(h.admin().ListFrames(t.Context(), run.Id, &api.ListFramesParams{Limit: new(4)}))
	second := must[api.FrameList](t)(h.admin().ListFrames(t.Context(), run.Id, &api.ListFramesParams{Limit: new(4), Cursor: &first.Next}))
	assert.Equal(t, 4, first.Items[3].Frame)
	assert.Equal(t, 5, second.Items[0].Frame)
}

func TestAPlanGoesAroundWhatRuns(t *testing.T) {
	h, _, _, _, run := playedHouse(t, "1-90")
	first := must[api.Plan](t)(h.admin().GetPlan(t.Context(), run.Plan))
	busy := map[string]time.Time{}
	for _, b := range first.Bookings {
		busy[b.Place] = b.End
	}
	second := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(24 * time.Hour)}))
	require.NotEmpty(t, second.Bookings)
	for _, b := range second.Bookings {
		assert.False(t, b.Start.Before(busy[b.Place]), "%s is booked until %s", b.Place, busy[b.Place])
	}
}

func TestASilentAgentCountsAsLost(t *testing.T) {
	h, clock, one, _, run := playedHouse(t, "1-9")
	agent := func() api.HostAgent { return must[api.Host](t)(h.admin().GetHost(t.Context(), "bellows")).Agent }
	assert.Equal(t, api.HostAgentUp, agent())
	clock.Advance(30 * time.Second)
	assert.Equal(t, api.HostAgentLost, agent())
	for _, c := range h.run(run).Crews {
		if c.Host == "bellows" {
			assert.Equal(t, api.RunCrewStateLost, c.State)
		}
	}
	one.beat()
	assert.Equal(t, api.HostAgentUp, agent())
	left := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(time.Hour)}))
	for _, l := range left.LeftOut {
		if l.Place == "eddy" {
			assert.Equal(t, "its agent is not up", l.Why)
			assert.Contains(t, l.Fix, "start rotanex-agent")
		}
	}
}

// A run that is paused takes no host: what is more urgent is planned there.
func TestAPausedRunLeavesItsHosts(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-400")
	h.putShot("coda-070", "1-4", nil)
	h.trialByHand(one, "coda-070", "bellows", "g0")
	h.trialByHand(two, "coda-070", "eddy", "g0")
	ask := func() api.Plan {
		return must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-070"}, By: h.now().Add(10 * time.Minute), KeepOthers: true}))
	}
	behind := ask()
	require.Equal(t, api.PlanStatusLate, behind.Status)
	i := slices.IndexFunc(behind.LeftOut, func(l api.LeftOut) bool { return l.Crew == "" })
	require.GreaterOrEqual(t, i, 0, "%+v", behind.LeftOut)
	assert.Contains(t, behind.LeftOut[i].Why, "it has work of run "+run.Id.String()[:8])
	assert.Contains(t, behind.LeftOut[i].Fix, "rotanex pause "+run.Id.String()[:8])
	h.setState(run, api.SetRunStateJSONBodyStatePaused)
	assert.Equal(t, api.PlanStatusMeets, ask().Status)
}

// A shot that is due before what runs is planned together with that: it goes first, and the open
// run goes by what was planned for it once the new one begins.
func TestWhatIsNewIsPlannedTogetherWithWhatRuns(t *testing.T) {
	h, clock, one, two, run := playedHouse(t, "1-200")
	h.putShot("coda-070", "1-4", nil)
	h.trialByHand(one, "coda-070", "bellows", "g0")
	h.trialByHand(two, "coda-070", "eddy", "g0")
	clock.Advance(time.Second)
	short := run.Id.String()[:8]
	h.good("runs", "policy", short, "auto")
	status, alone, _ := h.rotanex("plan", "coda-070", "--by", "+10m", "--keep-others")
	assert.Equal(t, 3, status, alone)
	clock.Advance(time.Second)
	said := h.good("plan", "coda-070", "--by", "+10m")
	assert.Contains(t, said, "meets")
	assert.Contains(t, said, "Planned together with what is open: ")
	assert.Contains(t, said, "run "+short+" (coda-060) is planned together with it; ends ")
	var plan api.Plan
	require.NoError(t, json.Unmarshal([]byte(h.good("plans", "show", "latest", "--output", "json")), &plan))
	assert.NotEmpty(t, plan.Gain)
	var effects struct{ Items []api.PlanEffect }
	require.NoError(t, json.Unmarshal([]byte(h.good("effects", "latest", "--output", "json")), &effects.Items))
	require.Len(t, effects.Items, 1)
	assert.True(t, effects.Items[0].Together)
	assert.GreaterOrEqual(t, effects.Items[0].ChanceAfter, 0.8, "it is due in an hour, and takes 17 minutes")
	assert.Equal(t, 200, effects.Items[0].Frames)

	var begun api.Run
	require.NoError(t, json.Unmarshal([]byte(h.good("start", "latest", "--output", "json")), &begun))
	h.until("the open run to go by what was planned for it", func() bool {
		clock.Advance(time.Second)
		one.beat()
		two.beat()
		return len(h.changes(run)) > 0
	})
	change := h.changes(run)[0]
	assert.Equal(t, api.ChangeMade, change.State)
	assert.Contains(t, change.Cause, "run "+begun.Id.String()[:8]+" began, and was planned together with it")
	first := map[string]hand{"bellows": one, "eddy": two}[plan.Bookings[slices.IndexFunc(plan.Bookings, func(b api.PlannedBooking) bool { return b.Shot == "coda-070" })].Place]
	next := first.lease()
	require.Len(t, next, 1)
	assert.Equal(t, "coda-070", next[0].Shot, "it is due first")
	first.deliver(next[0])
	assert.Equal(t, 200, query[int](t, h.database, "SELECT sum(frames - taken) FROM bookings WHERE run_id = $1", run.Id), "it owes as much as before")
	clock.Advance(time.Second) // a plan that is made in the second of a change is older than that
	one.beat()
	two.beat()
	assert.Contains(t, h.good("runs", "undo", short), "goes by the schedule again")
}

// An urgent shot at midnight is planned on the hosts of what is less urgent, and its crews
// take the next frames there; the frames in hand are finished.
func TestAnUrgentRunComesFirst(t *testing.T) {
	h, clock, one, two, run := playedHouse(t, "1-400")
	h.putShot("coda-070", "1-4", nil)
	h.trialByHand(one, "coda-070", "bellows", "g0")
	h.trialByHand(two, "coda-070", "eddy", "g0")
	clock.Advance(time.Second)
	inHand := one.lease()
	require.Len(t, inHand, 1)
	assert.Equal(t, "coda-060", inHand[0].Shot)

	said := h.good("plan", "coda-070", "--by", "+10m", "--priority", "urgent")
	assert.Contains(t, said, "meets")
	assert.Contains(t, said, "What it does to other runs:")
	assert.Contains(t, said, "run "+run.Id.String()[:8]+" (coda-060)")
	var effects struct{ Items []api.PlanEffect }
	require.NoError(t, json.Unmarshal([]byte(h.good("effects", "latest", "--output", "json")), &effects.Items))
	require.Len(t, effects.Items, 1)
	effect := effects.Items[0]
	assert.Equal(t, run.Id, effect.Run)
	assert.GreaterOrEqual(t, effect.FinishAfter.Sub(effect.FinishBefore), 19*time.Second, "it gives the hosts away for two frames each")
	assert.Equal(t, 399, effect.Frames, "one is in hand")
	clock.Advance(time.Second)
	var around api.Plan
	require.NoError(t, json.Unmarshal([]byte(h.good("plan", "coda-070", "--by", "+1h", "--priority", "urgent", "--keep-others", "--output", "json")), &around))
	assert.True(t, around.Choices.KeepOthers)
	for _, b := range around.Bookings {
		assert.Greater(t, b.Start.Sub(h.now()), 20*time.Minute, "it waits until %s is done with the other run", b.Place)
	}
	assert.Equal(t, "It takes nothing from any open run.", strings.TrimSpace(h.good("effects", "latest")))
	clock.Advance(time.Second)
	h.good("plan", "coda-070", "--by", "+2h", "--priority", "low")
	assert.Equal(t, "It takes nothing from any open run.", strings.TrimSpace(h.good("effects", "latest")))
	clock.Advance(time.Second)
	h.good("plan", "coda-070", "--by", "+10m", "--priority", "urgent")
	h.good("start", "latest")
	assert.Empty(t, one.lease(holding(inHand[0])), "the frame in hand is finished")
	one.deliver(inHand[0])
	for range 6 { // until the urgent one's bookings begin
		clock.Advance(10 * time.Second)
		one.beat()
		two.beat()
	}
	next := one.lease()
	require.Len(t, next, 1)
	assert.Equal(t, "coda-070", next[0].Shot)
	one.deliver(next[0])

	// The other way round, and back: whoever is more urgent has the next frame.
	short := run.Id.String()[:8]
	assert.Contains(t, h.good("runs", "list"), "urgent")
	assert.Contains(t, h.good("runs", "priority", "latest", "low"), "is low now")
	next = one.lease()
	require.Len(t, next, 1)
	assert.Equal(t, "coda-060", next[0].Shot)
	one.deliver(next[0])
	assert.Contains(t, h.good("runs", "list"), "normal")
	assert.Contains(t, h.bad("runs", "priority", short, "asap"), `priority "asap": want urgent, normal, low or backlog`)
	assert.Contains(t, h.bad("plan", "coda-070", "--priority", "asap"), `--priority "asap": want urgent, normal, low or backlog`)
	h.good("cancel", short)
	assert.Contains(t, h.bad("runs", "priority", short, "urgent"), "nothing of it is left to come first")
}

// Where it cannot wait for the frames in hand, those of less urgent runs are given back, and
// only those in its way: what was rendered of them is lost, no frame is.
func TestAnUrgentRunTakesItsDevicesNow(t *testing.T) {
	h, clock, one, two, run := playedHouse(t, "1-400")
	h.putShot("coda-070", "1-40", nil)
	h.trialByHand(one, "coda-070", "bellows", "g0")
	clock.Advance(time.Second)
	mine, beside := one.lease(), two.lease()
	require.Len(t, mine, 1)
	require.Len(t, beside, 1)
	assert.Contains(t, h.good("plan", "coda-070", "--by", "+1h", "--priority", "urgent", "--pin", "coda-070=bellows"), "bellows")
	h.good("start", "latest")
	assert.Empty(t, one.lease(holding(mine[0])), "the frame in hand is finished first")
	assert.Contains(t, h.good("runs", "priority", "latest", "urgent", "--now"), "what less urgent runs rendered in its way waits again")
	next := one.lease()
	require.Len(t, next, 1)
	assert.Equal(t, "coda-070", next[0].Shot, "at once")

	data := frame(mine[0].Width, mine[0].Height)
	refused(t, http.StatusConflict)(one.send(mine[0], data))
	why := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", mine[0].Frame))
	assert.Equal(t, api.FrameStateWaiting, why.Frame.State)
	assert.Zero(t, why.Frame.Failures)
	require.Len(t, why.Tries, 1)
	assert.Contains(t, why.Tries[0].LogTail, "which is more urgent")
	two.deliver(beside[0]) // eddy was in nobody's way
	assert.Equal(t, 400, h.run(run).Counts.Waiting+h.run(run).Counts.Done+h.run(run).Counts.Rendering)
}
