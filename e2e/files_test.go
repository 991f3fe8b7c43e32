package e2e

import (
	"archive/zip"
	"bytes"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/launchers"
)

// mixer is a renderer that makes the frame of a composite of the depth that its beauty pass has.
func mixer(t *testing.T) launchers.Launcher {
	t.Helper()
	program := filepath.Join(t.TempDir(), "mixer")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\ncp \"$1/beauty.depth.$(printf %04d \"$2\").png\" \"$3\"\n"), 0o700)) //nolint:gosec // a program
	l, err := launchers.Parse([]byte("format: rotanex-launcher-1\nname: mixer\nprogram: " + program + "\nargs: ['{inputs}', '{frame}', '{output}']\noutput: png\n"))
	require.NoError(t, err)
	return l
}

func (h *house) bytesOf(answer *http.Response, err error) []byte {
	h.t.Helper()
	require.NoError(h.t, err)
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(answer.Body)
	require.NoError(h.t, err)
	require.Equal(h.t, http.StatusOK, answer.StatusCode, "%s", data)
	return data
}

// What a renderer writes beside a frame's picture comes home with it, is looked at and downloaded by name, and is given to the
// passes that are made of the frame.
func TestFramesHaveFilesBesideTheirPictures(t *testing.T) {
	h := newHouse(t, faster)
	shipped, err := launchers.Shipped()
	require.NoError(t, err)
	h.runAgentWith(bellows, scenes(t), shipped["simulated"], mixer(t))
	spec := api.ShotSpec{
		Name: "stair-030", Scene: "coda.yaml", Frames: "1-8", Width: 64, Height: 36, Launcher: "simulated",
		Passes: []api.ShotPass{
			{Name: "beauty", Devices: []string{"gpu"}, Settings: map[string]string{"layers": "on"}, Files: []string{"depth", "stats"}},
			{Name: "composite", After: []string{"beauty"}, Devices: []string{"cpu"}, Launcher: "mixer"},
		},
	}
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "stair-030", &api.PutShotParams{}, spec))
	h.timed("stair-030.beauty", "bellows/g0")
	h.timed("stair-030.composite", "bellows/cpu")
	_, run := h.started(time.Hour, "stair-030")
	run = h.awaitOver(run)
	require.Equal(t, api.RunStateComplete, run.State)

	d := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "stair-030.beauty", 7))
	said := ""
	for _, f := range d.Frame.Files {
		said += fmt.Sprintf("%s %s.%s ", f.Kind, f.Name, f.Ending)
	}
	assert.Equal(t, "picture depth.png picture matte.png json stats.json ", said)
	img, err := png.Decode(bytes.NewReader(h.bytesOf(h.admin().GetFrameFile(t.Context(), run.Id, "stair-030.beauty", 7, "depth", &api.GetFrameFileParams{Width: new(32)}))))
	require.NoError(t, err)
	assert.Equal(t, image.Point{32, 18}, img.Bounds().Size())
	assert.Contains(t, refused(t, http.StatusConflict)(h.admin().GetFrameFile(t.Context(), run.Id, "stair-030.beauty", 7, "stats", &api.GetFrameFileParams{Width: new(32)})).Detail, "it is no picture")
	assert.Contains(t, refused(t, http.StatusNotFound)(h.admin().GetFrameFile(t.Context(), run.Id, "stair-030.composite", 7, "depth", &api.GetFrameFileParams{})).Detail, "those are none")

	assert.Equal(t, h.bytesOf(h.admin().GetFrameFile(t.Context(), run.Id, "stair-030.beauty", 7, "depth", &api.GetFrameFileParams{})),
		h.bytesOf(h.admin().GetPicture(t.Context(), run.Id, "stair-030.composite", 7, &api.GetPictureParams{})), "the composite was made of the depth")

	to := t.TempDir()
	h.good("download", run.Id.String(), "--to", to)
	stats, err := os.ReadFile(filepath.Join(to, "stair-030", "beauty", "stats", "stair-030.0007.json"))
	require.NoError(t, err)
	assert.Contains(t, string(stats), `"frame":7`)
	for _, folder := range []string{"beauty", "beauty/depth", "beauty/matte", "composite"} {
		assert.FileExists(t, filepath.Join(to, "stair-030", folder, "stair-030.0007.png"))
		assert.FileExists(t, filepath.Join(to, "stair-030", folder, "SHA256SUMS"))
	}

	// The same in one file, by a name that was looked at before.
	found := must[api.Results](t)(h.admin().GetResults(t.Context(), run.Id, &api.GetResultsParams{Name: "{pass}{file}_{frame:3}.{ext}", Files: "picture,depth"}))
	assert.Equal(t, []int{16, 16, 24}, []int{found.Frames, found.Of, found.Files})
	assert.Equal(t, []string{"beauty_001.png", "beautydepth_001.png", "composite_001.png"}, found.Names)
	archive := filepath.Join(t.TempDir(), "friday.zip")
	assert.Contains(t, h.good("download", run.Id.String(), "--to", archive), "40 files of 16 frames in "+archive)
	packed, err := zip.OpenReader(archive)
	require.NoError(t, err)
	defer func() { _ = packed.Close() }()
	inside, err := packed.Open("stair-030/beauty/stats/stair-030.0007.json")
	require.NoError(t, err)
	text, err := io.ReadAll(inside)
	require.NoError(t, err)
	assert.Equal(t, stats, text)
	for _, wrong := range []api.GetResultsArchiveParams{{Name: "{shot}"}, {Name: "{layer}"}, {Files: "normal"}} {
		said := refused(t, http.StatusUnprocessableEntity)(h.admin().GetResultsArchive(t.Context(), run.Id, &wrong)).Detail
		assert.Regexp(t, "would be the file|no placeholder|no finished frame has", said)
	}

	// A frame without what its shot asks for is not done.
	assert.Contains(t, refused(t, http.StatusUnprocessableEntity)(h.admin().PutShot(t.Context(), "gale-010", &api.PutShotParams{}, api.ShotSpec{
		Name: "gale-010", Scene: "coda.yaml", Frames: "1", Width: 64, Height: 36, Launcher: "simulated", Files: []string{"depth", "Depth"},
	})).Detail, "is there twice")
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "gale-010", &api.PutShotParams{}, api.ShotSpec{
		Name: "gale-010", Scene: "coda.yaml", Frames: "1-4", Width: 64, Height: 36, Launcher: "simulated", Files: []string{"depth"},
	}))
	trial := must[api.Trial](t)(h.admin().CreateTrial(t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: "gale-010", Host: "bellows", Crew: "g0"}))
	h.until("the trial to give up", func() bool {
		return must[api.Trial](t)(h.admin().GetTrial(t.Context(), trial.Id)).State == api.RunStateIncomplete
	})
	assert.Positive(t, query[int](t, h.database, `SELECT count(*) FROM tries t JOIN frames f ON f.id = t.frame_id WHERE f.run_id = $1 AND t.outcome = 'failed' AND t.log_tail LIKE '%no file of "depth", which the shot asks for%'`, trial.Id))
	assert.Zero(t, query[int](t, h.database, "SELECT count(*) FROM frames WHERE run_id = $1 AND state = 'done'", trial.Id))
}
