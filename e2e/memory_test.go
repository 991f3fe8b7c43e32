package e2e

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/cli"
)

func readAll(t testing.TB, r io.Reader) string {
	t.Helper()
	data, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(data)
}

// writeScene changes the quick scene of a folder.
func writeScene(t testing.TB, folder, from, to string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "coda.yaml"), []byte(strings.Replace(quickScene, from, to, 1)), 0o600))
}

// bigShot stores a shot that needs gigabytes on each device.
func (h *house) bigShot(gb float32, steps ...api.ShotSpecOutOfMemory) {
	h.t.Helper()
	must[api.Shot](h.t)(h.admin().PutShot(h.t.Context(), "coda-060", &api.PutShotParams{}, api.ShotSpec{
		Name: "coda-060", Scene: "coda.yaml", Frames: "1-9", Width: 64, Height: 36, Launcher: "simulated", DeviceMemoryGb: gb, OutOfMemory: steps,
	}))
}

func TestFitNamesTheLimit(t *testing.T) {
	h, _, _, _, _ := playedHouse(t, "1-5")
	h.bigShot(20)
	fit := must[api.ShotFit](t)(h.admin().GetFit(t.Context(), "coda-060"))
	verdicts := map[string]api.Fit{}
	for _, f := range fit.Fits {
		verdicts[f.Place+"/"+f.Crew] = f
	}
	pair := verdicts["bellows/g0+g1"]
	assert.Equal(t, api.FitVerdict("does not fit"), pair.Verdict)
	assert.Equal(t, "g1", pair.Limiting)
	assert.Equal(t, "g1", pair.Without.Device)
	assert.InDelta(t, 24, pair.Without.LimitGb, 1e-9)
	assert.Equal(t, api.FitVerdict("fits"), verdicts["bellows/g0"].Verdict)
	assert.Equal(t, api.FitVerdict("fits"), verdicts["bellows/cpu"].Verdict)
	assert.Contains(t, h.good("memory", "coda-060"), "24.0 GB, fits")
	status, found, _ := h.rotanex("preflight", "coda-060", "--on", "bellows/g0+g1")
	assert.Equal(t, cli.ExitImpossible, status)
	assert.Contains(t, found, "leave g1 out")
}

// ranOut fails a lease for want of memory, with the peak that was seen.
func (a hand) ranOut(l api.Lease, gb float64) {
	a.t.Helper()
	must[struct{}](a.t)(a.PutResult(a.t.Context(), l.Lease, l.Fence, api.Result{
		Boot: a.boot, Outcome: api.ResultOutcomeFailed, Cause: api.ResultCauseOutOfMemory, Measured: api.Measured{Seconds: 3, DevicePeakBytes: int64(gb * 1e9)},
	}))
}

func TestAFrameThatRanOutGoesWhereItFits(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-9")
	var small api.Lease
	for _, l := range one.lease() {
		small = l
	}
	one.ranOut(small, 23.9) // on bellows/g0, of 24 GB: eddy has as much
	detail := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", small.Frame))
	assert.Equal(t, api.FrameStateFailed, detail.Frame.State, "it needs more than 24 GB: nobody has that, so a person decides")
	assert.Contains(t, detail.Tries[0].LogTail, "nothing that the shot permits helps, so the frame is held")

	for _, l := range one.lease() {
		small = l
	}
	one.ranOut(small, 10) // an ordinary one: there was something else on the device
	for _, l := range two.lease() {
		two.deliver(l)
	}
	detail = must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", small.Frame))
	assert.Contains(t, detail.Tries[0].LogTail, "it goes to eddy/g0 (larger-device)")
	assert.Empty(t, one.lease(), "two frames ran out on it: it gets no more of the shot")
	for _, c := range h.run(run).Crews {
		if c.Host == "bellows" {
			assert.Equal(t, "2 frames of coda-060 ran out of memory on it", c.Excluded)
		}
	}
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
}

func TestAShotMayPermitTheCPUInstead(t *testing.T) {
	h := newHouse(t, faster)
	folder := scenes(t)
	h.runAgent(eddy, folder)
	h.bigShot(3, api.ShotSpecOutOfMemoryCpu)
	h.timed("coda-060", "eddy/g0")
	// What the scene needs grows after it was declared: it runs out, and the CPU takes over.
	writeScene(t, folder, "device_memory_gb: 3", "device_memory_gb: 30")
	_, run := h.started(2*time.Hour, "coda-060")
	over := h.awaitOver(run)
	assert.Equal(t, api.RunStateComplete, over.State)
	assert.Equal(t, 9, over.Counts.Done)
	detail := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", 1))
	require.Len(t, detail.Tries, 2)
	assert.Equal(t, "out-of-memory", detail.Tries[0].Cause)
	assert.Contains(t, detail.Tries[0].LogTail, "tried again there with cpu, as the shot permits")
	assert.Equal(t, 2, query[int](t, h.database, "SELECT count(*) FROM tries WHERE run_id = $1 AND cause = 'out-of-memory'", run.Id),
		"after two, the crew renders the shot so from the start")
	fit := must[api.ShotFit](t)(h.admin().GetFit(t.Context(), "coda-060"))
	assert.InDelta(t, 24, fit.ObservedGb, 1e-9, "the observed peak corrects the fit")
	assert.True(t, fit.AtLeast)
}

func TestACrewOnWhichNothingStartsGetsNoMore(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-20")
	for range 3 {
		leases := one.lease()
		require.Len(t, leases, 1)
		one.failed(leases[0], api.ResultCauseCannotStart)
	}
	assert.Empty(t, one.lease(), "it would fail every frame once")
	for _, c := range h.run(run).Crews {
		if c.Host == "bellows" {
			assert.Equal(t, "the renderer of coda-060 did not start on it 3 times (cannot-start)", c.Excluded)
			assert.Equal(t, api.RunCrewStateExcluded, c.State)
		}
	}

	// A plan for the rest does not book it again; who resumes the run has fixed what was wrong.
	rest := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(time.Hour), Run: &run.Id}))
	assert.False(t, slices.ContainsFunc(rest.Bookings, func(b api.PlannedBooking) bool { return b.Place == "bellows" && b.Crew == "g0" }))
	i := slices.IndexFunc(rest.LeftOut, func(l api.LeftOut) bool { return l.Place == "bellows" && l.Crew == "g0" })
	require.GreaterOrEqual(t, i, 0, "%+v", rest.LeftOut)
	assert.Contains(t, rest.LeftOut[i].Why, "did not start on it 3 times")
	h.setState(run, api.SetRunStateJSONBodyStatePaused)
	h.setState(run, api.SetRunStateJSONBodyStateRunning)
	leases := one.lease()
	require.Len(t, leases, 1, "it is tried again")
	one.deliver(leases[0])
	h.until("both crews to render all", func() bool {
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				a.deliver(l)
			}
		}
		return h.run(run).State == api.RunStateComplete
	})
	eachDoneOnce(t, h.database, run, 20)
}
