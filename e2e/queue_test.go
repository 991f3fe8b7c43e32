package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/stock"
	"rotanex.example/service/queue"
)

// hand is an agent played by hand, call by call.
type hand struct {
	*client.Client
	t    testing.TB
	boot uuid.UUID
}

// hand joins as a host and reports its stock.
func (h *house) hand(spec stock.Host) hand {
	h.t.Helper()
	joined := must[struct{ Token string }](h.t)(h.as("").JoinAgent(h.t.Context(), api.JoinAgentJSONRequestBody{JoinToken: h.joinToken(spec.Name), Host: spec.Name}))
	a := hand{h.as(joined.Token), h.t, uuid.New()}
	a.report(spec)
	h.hands = append(h.hands, a)
	return a
}

// look says that no input file is missing of those that shots need now. An agent that
// another has taken the place of is not listened to.
func (a hand) look() {
	a.t.Helper()
	held := api.Heartbeat{Boot: a.boot, Held: []api.Held{}}
	asked, err := client.Decode[api.HeartbeatAnswer](a.Heartbeat(a.t.Context(), held))
	if err == nil {
		held.LookedFor = asked.InputsSum
		_, err = client.Decode[api.HeartbeatAnswer](a.Heartbeat(a.t.Context(), held))
	}
	require.Contains(a.t, []int{0, http.StatusConflict}, client.Status(err))
}

func (a hand) report(spec stock.Host) {
	a.t.Helper()
	devices, err := convert[[]api.Device](spec.Devices)
	require.NoError(a.t, err)
	must[api.AgentOrders](a.t)(a.ReportStock(a.t.Context(), api.StockReport{
		Boot: a.boot, Cpu: api.CPU{Model: spec.CPU.Model, Cores: spec.CPU.Cores}, MemoryGb: float32(spec.MemoryGB), OnAcPower: true,
		Devices: devices, Launchers: []string{"simulated"},
	}))
}

func (a hand) lease(held ...api.Held) []api.Lease {
	a.t.Helper()
	if held == nil {
		held = []api.Held{}
	}
	return must[[]api.Lease](a.t)(a.Lease(a.t.Context(), api.LeaseRequest{Boot: a.boot, Held: held}))
}

func (a hand) beat(held ...api.Held) []api.Held {
	a.t.Helper()
	if held == nil {
		held = []api.Held{}
	}
	return must[api.HeartbeatAnswer](a.t)(a.Heartbeat(a.t.Context(), api.Heartbeat{Boot: a.boot, Held: held})).Revoked
}

func holding(l api.Lease) api.Held { return api.Held{Lease: l.Lease, Fence: l.Fence} }

// frame is a picture of the right size that is not one flat colour.
func frame(width, height int) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	img.Set(width-1, height-1, color.NRGBA{200, 120, 40, 255})
	var out bytes.Buffer
	_ = png.Encode(&out, img)
	return out.Bytes()
}

func (a hand) send(l api.Lease, data []byte) (*http.Response, error) {
	sum := sha256.Sum256(data)
	params := api.PutPictureParams{ContentDigest: "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"}
	return a.PutPictureWithBody(a.t.Context(), l.Lease, l.Fence, &params, "application/octet-stream", bytes.NewReader(data))
}

func (a hand) done(l api.Lease, data []byte) (*http.Response, error) {
	sum := sha256.Sum256(data)
	return a.PutResult(a.t.Context(), l.Lease, l.Fence, api.Result{
		Boot: a.boot, Outcome: api.ResultOutcomeDone, Sha256: hex.EncodeToString(sum[:]), Bytes: int64(len(data)), Measured: api.Measured{Seconds: 10},
	})
}

func (a hand) failed(l api.Lease, cause api.ResultCause) {
	a.t.Helper()
	must[struct{}](a.t)(a.PutResult(a.t.Context(), l.Lease, l.Fence, api.Result{Boot: a.boot, Outcome: api.ResultOutcomeFailed, Cause: cause, LogTail: "the end"}))
}

// deliver sends a good picture and hands the frame in.
func (a hand) deliver(l api.Lease) {
	a.t.Helper()
	data := frame(l.Width, l.Height)
	must[struct{}](a.t)(a.send(l, data))
	must[struct{}](a.t)(a.done(l, data))
}

// trialByHand gives a shot a measured time on a crew without rendering.
func (h *house) trialByHand(a hand, shot, host, crew string) {
	h.t.Helper()
	must[api.Trial](h.t)(h.admin().CreateTrial(h.t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: shot, Host: host, Crew: crew, Frames: 1}))
	for range 2 {
		leases := a.lease()
		require.Len(h.t, leases, 1)
		a.deliver(leases[0])
	}
	a.look()
}

// playedHouse is a service whose clock stands still until it is moved, two agents
// played by hand, and a run of some frames on bellows/g0 and eddy/g0.
func playedHouse(t *testing.T, frames string) (h *house, clock *clockwork.FakeClock, one, two hand, run api.Run) {
	t.Helper()
	clock = clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	h = newHouse(t, withWall(clock))
	one, two = h.hand(bellows), h.hand(eddy)
	h.putShot("coda-060", frames, nil)
	h.trialByHand(one, "coda-060", "bellows", "g0")
	h.trialByHand(two, "coda-060", "eddy", "g0")
	_, run = h.started(time.Hour, "coda-060")
	return h, clock, one, two, run
}

func TestAFrameIsLeasedOnceAndAnAnswerThatGotLostComesAgain(t *testing.T) {
	_, _, one, two, _ := playedHouse(t, "1-2")
	first := one.lease()
	require.Len(t, first, 1)
	assert.Equal(t, 1, first[0].Frame)
	assert.Equal(t, "g0", first[0].Crew)
	second := two.lease()
	for _, l := range second {
		assert.NotEqual(t, first[0].Lease, l.Lease, "two agents hold one frame")
	}
	assert.Equal(t, first, one.lease(), "an agent that does not list its lease is told of it again")
	assert.Empty(t, one.lease(holding(first[0])), "its device is busy")
}

func TestLateAndRepeatedAnswersChangeNothing(t *testing.T) {
	h, clock, one, two, run := playedHouse(t, "1")
	leases := append(one.lease(), two.lease()...)
	require.Len(t, leases, 1)
	slow, fast := one, two
	if len(one.lease()) == 0 {
		slow, fast = two, one
	}
	old := leases[0]

	// The lease ends because nobody renews it; the frame goes to the other agent,
	// which is alive.
	clock.Advance(queue.LeaseLife + time.Second)
	h.until("the lease to end", func() bool {
		clock.Advance(time.Second)
		fast.beat()
		return h.run(run).Counts.Waiting == 1
	})
	assert.Equal(t, []api.Held{holding(old)}, slow.beat(holding(old)), "the slow agent is told to give it up")
	clock.Advance(2 * time.Hour) // past the booking of the slow one: the other may help
	fast.beat()
	again := fast.lease()
	require.Len(t, again, 1)
	assert.Equal(t, old.Lease, again[0].Lease)
	assert.Greater(t, again[0].Fence, old.Fence)

	data := frame(old.Width, old.Height)
	refused(t, http.StatusConflict)(slow.send(old, data))
	refused(t, http.StatusConflict)(slow.done(old, data))
	fast.deliver(again[0])
	refused(t, http.StatusConflict)(slow.done(old, data))
	must[struct{}](t)(fast.done(again[0], data)) // sent twice: the same answer
	must[struct{}](t)(fast.send(again[0], data))
	assert.Equal(t, api.RunStateComplete, h.run(run).State)
	eachDoneOnce(t, h.database, run, 1)
}

func TestOnlyACheckedPictureCounts(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1")
	leases, a := one.lease(), one
	if len(leases) == 0 {
		leases, a = two.lease(), two
	}
	l, good := leases[0], frame(64, 36)
	flat := image.NewNRGBA(image.Rect(0, 0, 64, 36))
	var blank bytes.Buffer
	require.NoError(t, png.Encode(&blank, flat))
	for why, data := range map[string][]byte{"wrong size": frame(65, 36), "flat colour": blank.Bytes(), "decode": good[:len(good)/2]} {
		assert.Contains(t, refused(t, http.StatusUnprocessableEntity)(a.send(l, data)).Detail, why)
	}
	params := api.PutPictureParams{ContentDigest: "sha-256=:" + base64.StdEncoding.EncodeToString(make([]byte, 32)) + ":"}
	refused(t, http.StatusUnprocessableEntity)(a.PutPictureWithBody(t.Context(), l.Lease, l.Fence, &params, "application/octet-stream", bytes.NewReader(good)))
	refused(t, http.StatusConflict)(a.done(l, good)) // handed in before it was sent
	assert.Zero(t, h.run(run).Counts.Done)
	a.deliver(l)
	assert.Equal(t, 1, h.run(run).Counts.Done)

	// A second, different picture of the same lease never touches the one that counts, whole or not.
	img := image.NewNRGBA(image.Rect(0, 0, 64, 36))
	img.Set(0, 0, color.NRGBA{40, 120, 200, 255})
	var other bytes.Buffer
	require.NoError(t, png.Encode(&other, img))
	refused(t, http.StatusConflict)(a.send(l, other.Bytes()))
	refused(t, http.StatusUnprocessableEntity)(a.send(l, good[:len(good)/2]))
	refused(t, http.StatusUnprocessableEntity)(a.send(l, blank.Bytes()))
	answer, err := h.admin().GetPicture(t.Context(), run.Id, l.Shot, l.Frame, &api.GetPictureParams{})
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	assert.Equal(t, frame(l.Width, l.Height), []byte(readAll(t, answer.Body)))
}

func TestAFailedFrameIsTriedElsewhereAndGivenUpInTheEnd(t *testing.T) {
	h, clock, one, two, run := playedHouse(t, "1")
	agents := map[string]hand{"bellows": one, "eddy": two}
	tried := []string{}
	for range 3 {
		var got []api.Lease
		for _, name := range []string{"bellows", "eddy"} {
			agents[name].beat()
			if leases := agents[name].lease(); len(leases) > 0 {
				got, tried = leases, append(tried, name)
				agents[name].failed(leases[0], api.ResultCauseOutOfMemory)
				break
			}
		}
		if got == nil { // the other crew's planned end is not over yet
			clock.Advance(2 * time.Hour)
		}
	}
	for len(tried) < 3 {
		for _, name := range []string{"bellows", "eddy"} {
			agents[name].beat()
			if leases := agents[name].lease(); len(leases) > 0 {
				tried = append(tried, name)
				agents[name].failed(leases[0], api.ResultCauseOutOfMemory)
			}
		}
	}
	assert.NotEqual(t, tried[0], tried[1], "the second try is elsewhere")
	got := h.awaitOver(run)
	assert.Equal(t, api.RunStateIncomplete, got.State)
	assert.Equal(t, 1, got.Counts.Failed)
	detail := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", 1))
	require.Len(t, detail.Tries, 3)
	assert.Equal(t, "out-of-memory", detail.Tries[0].Cause)
	assert.Contains(t, detail.Tries[0].LogTail, "the end\nout of memory: ")

	// Somebody fixes it and resumes the run: the frame is tried again.
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "running"}))
	for _, name := range []string{"bellows", "eddy"} {
		agents[name].beat()
		for _, l := range agents[name].lease() {
			agents[name].deliver(l)
		}
	}
	assert.Equal(t, api.RunStateComplete, h.run(run).State)
}

func TestPauseResumeCancelAndDrain(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-20")
	set := func(state api.SetRunStateJSONBodyState) (*http.Response, error) {
		return h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: state})
	}
	must[api.Run](t)(set("paused"))
	assert.Empty(t, one.lease())
	must[api.Run](t)(set("running"))
	leases := one.lease()
	require.Len(t, leases, 1)

	must[api.Host](t)(h.admin().DrainHost(t.Context(), "eddy", api.DrainHostJSONRequestBody{Drain: true}))
	assert.Empty(t, two.lease(), "a draining host takes nothing new")
	must[api.Host](t)(h.admin().DrainHost(t.Context(), "eddy", api.DrainHostJSONRequestBody{Drain: false}))
	assert.Len(t, two.lease(), 1)

	must[api.Run](t)(set("cancelled"))
	assert.Equal(t, []api.Held{holding(leases[0])}, one.beat(holding(leases[0])))
	assert.Empty(t, one.lease())
	refused(t, http.StatusConflict)(set("running"))
}

func TestAnAgentThatStartsAgainGivesUpWhatItHeld(t *testing.T) {
	h, _, one, _, run := playedHouse(t, "1-20")
	before := one.lease()
	require.Len(t, before, 1)
	next := hand{one.Client, t, uuid.New()}
	next.report(bellows)
	after := next.lease()
	require.Len(t, after, 1)
	assert.Equal(t, before[0].Lease, after[0].Lease)
	assert.Greater(t, after[0].Fence, before[0].Fence)
	refused(t, http.StatusConflict)(one.Heartbeat(t.Context(), api.Heartbeat{Boot: one.boot, Held: []api.Held{holding(before[0])}}))
	detail := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", after[0].Frame))
	assert.Equal(t, api.TryOutcomeLost, detail.Tries[0].Outcome)
	assert.Zero(t, detail.Frame.Failures, "a lost agent is not the frame's failure")
}
