package e2e

import (
	"bytes"
	"image"
	"image/color"
	_ "image/png"
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// putPasses stores a shot of a beauty pass on GPUs, an occlusion pass on CPUs and a composite of both.
func (h *house) putPasses(name, frames, fail string) api.Shot {
	return must[api.Shot](h.t)(h.admin().PutShot(h.t.Context(), name, &api.PutShotParams{}, api.ShotSpec{
		Name: name, Scene: "coda.yaml", Frames: frames, Width: 64, Height: 36, Launcher: "simulated",
		Passes: []api.ShotPass{
			{Name: "composite", After: []string{"beauty", "occlusion"}, Devices: []string{"cpu"}, Settings: map[string]string{"samples": "16"}},
			{Name: "beauty", Devices: []string{"gpu"}, Settings: map[string]string{"fail": fail}},
			{Name: "occlusion", Devices: []string{"cpu"}, Settings: map[string]string{"samples": "64"}},
		},
	}))
}

// picture is a finished frame's, decoded.
func (h *house) picture(run uuid.UUID, shot string, frame int) image.Image {
	h.t.Helper()
	answer, err := h.admin().GetPicture(h.t.Context(), run, shot, frame, &api.GetPictureParams{})
	require.NoError(h.t, err)
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(answer.Body)
	require.NoError(h.t, err)
	img, _, err := image.Decode(bytes.NewReader(data))
	require.NoError(h.t, err, "%s", data)
	return img
}

// The passes of a shot are rendered side by side on what each may have; the composite gets the frames of both.
func TestAShotIsRenderedInPasses(t *testing.T) {
	h := newHouse(t, faster)
	h.runAgent(bellows, scenes(t))
	const beauty, occlusion, composite = "stair-030.beauty", "stair-030.occlusion", "stair-030.composite"
	stored := h.putPasses("stair-030", "1-12", "")
	assert.Len(t, stored.Spec.Passes, 3)
	assert.Contains(t, refused(t, http.StatusUnprocessableEntity)(h.admin().CheckShot(t.Context(), "stair-030", &api.CheckShotParams{})).Detail, "ask for one of them, stair-030.composite, stair-030.beauty, stair-030.occlusion")
	assert.Contains(t, refused(t, http.StatusConflict)(h.admin().CreateTrial(t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: composite, Host: "bellows", Crew: "cpu"})).Detail, "needs the frames of stair-030.beauty and stair-030.occlusion")

	h.timed(beauty, "bellows/g0")
	h.timed(occlusion, "bellows/cpu")
	h.timed(composite, "bellows/cpu")
	plan, run := h.started(time.Hour, "stair-030")
	assert.ElementsMatch(t, []string{beauty, occlusion, composite}, plan.Shots)
	booked := map[string]string{}
	for _, b := range plan.Bookings {
		booked[b.Shot] = b.Crew
	}
	assert.Equal(t, map[string]string{beauty: "g0", occlusion: "cpu", composite: "cpu"}, booked)

	run = h.awaitOver(run)
	require.Equal(t, api.RunStateComplete, run.State)
	assert.Zero(t, query[int](t, h.database, `SELECT count(*) FROM tries c JOIN frames f ON f.id = c.frame_id AND f.shot = $2, tries i JOIN frames g ON g.id = i.frame_id
		WHERE c.run_id = $1 AND i.run_id = $1 AND g.shot <> $2 AND g.frame = f.frame AND c.started_at < i.ended_at`, run.Id, composite), "no composite began before its passes were done")
	a, b, made := h.picture(run.Id, beauty, 7), h.picture(run.Id, occlusion, 7), h.picture(run.Id, composite, 7)
	at := func(img image.Image, x, y int) color.NRGBA {
		return color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA)
	}
	for _, p := range []image.Point{{32, 18}, {5, 5}, {50, 30}} {
		want := uint8(int(at(a, p.X, p.Y).R) * int(at(b, p.X, p.Y).R) / 255)
		assert.Equal(t, want, at(made, p.X, p.Y).R, "%v", p)
	}

	// What is done is done: another plan of one of them has nothing to do.
	assert.Contains(t, refused(t, http.StatusUnprocessableEntity)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{composite}, By: h.now().Add(time.Hour)})).Detail, "is done already")
	// Another beauty makes another composite; the occlusion stays.
	h.putPasses("stair-030", "1-12", "crash@99")
	h.timed(beauty, "bellows/g0")
	again := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"stair-030"}, By: h.now().Add(time.Hour)}))
	assert.ElementsMatch(t, []string{beauty, composite}, again.Shots)
}

// A frame that a pass gives up is given up in the composite, and can be tried again with it.
func TestACompositeWithoutItsPass(t *testing.T) {
	h := newHouse(t, faster)
	h.runAgent(bellows, scenes(t))
	h.putPasses("stair-030", "1-6", "crash@4")
	h.timed("stair-030.beauty", "bellows/g0")
	h.timed("stair-030.occlusion", "bellows/cpu")
	h.timed("stair-030.composite", "bellows/cpu")
	_, run := h.started(time.Hour, "stair-030")
	why := must[api.FrameWhy](t)(h.admin().WhyFrame(t.Context(), run.Id, "stair-030.composite", 6))
	assert.Contains(t, why.Answer, "it needs frame 6 of stair-030.beauty (")
	run = h.awaitOver(run)
	require.Equal(t, api.RunStateIncomplete, run.State)
	failed := must[api.FrameList](t)(h.admin().ListFrames(t.Context(), run.Id, &api.ListFramesParams{State: new(api.FrameStateFailed)})).Items
	require.Len(t, failed, 2)
	assert.Equal(t, []string{"stair-030.beauty", "stair-030.composite"}, []string{failed[0].Shot, failed[1].Shot})
	assert.Equal(t, []string{"crashed", "input-failed"}, []string{failed[0].Cause, failed[1].Cause})

	h.setState(run, api.SetRunStateJSONBodyStateRunning)
	assert.Equal(t, "blocked", query[string](t, h.database, "SELECT state FROM frames WHERE run_id = $1 AND shot = 'stair-030.composite' AND frame = 4", run.Id))
	assert.Equal(t, api.RunStateIncomplete, h.awaitOver(run).State)
}
