package e2e

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/picture"
	"rotanex.example/launchers"
)

// exr is a small OpenEXR file of halves, whole, with a value for each channel of each pixel.
func exr(width, height int, channels []string, value func(channel string, x, y int) uint16) []byte {
	le := binary.LittleEndian
	var out []byte
	attribute := func(name, kind string, value []byte) {
		out = append(append(out, name+"\x00"+kind+"\x00"...), le.AppendUint32(nil, uint32(len(value)))...)
		out = append(out, value...)
	}
	numbers := func(v ...int) (out []byte) {
		for _, n := range v {
			out = le.AppendUint32(out, uint32(n))
		}
		return out
	}
	out = numbers(20000630, 2)
	var list []byte
	for _, c := range channels {
		list = append(append(list, c+"\x00"...), numbers(1, 0, 1, 1)...)
	}
	attribute("channels", "chlist", append(list, 0))
	attribute("compression", "compression", []byte{0})
	attribute("dataWindow", "box2i", numbers(0, 0, width-1, height-1))
	out = append(out, 0)
	row := 8 + 2*width*len(channels)
	first := len(out) + 8*height
	for y := range height {
		out = le.AppendUint64(out, uint64(first+y*row))
	}
	for y := range height {
		out = append(out, numbers(y, row-8)...)
		for _, c := range channels {
			for x := range width {
				out = le.AppendUint16(out, value(c, x, y))
			}
		}
	}
	return out
}

// shown is a frame's picture as it is looked at.
func (h *house) shown(run api.Run, frame int, params api.GetPictureParams) image.Image {
	h.t.Helper()
	answer, err := h.admin().GetPicture(h.t.Context(), run.Id, run.Shots[0].Shot, frame, &params)
	require.NoError(h.t, err)
	defer func() { _ = answer.Body.Close() }()
	require.Equal(h.t, http.StatusOK, answer.StatusCode)
	img, err := png.Decode(answer.Body)
	require.NoError(h.t, err)
	return img
}

func TestOpenEXRFramesAreTakenInLookedAtAndCollected(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-2")
	leases := append(one.lease(), two.lease()...)
	require.Len(t, leases, 2)
	const half, quarter, notANumber = 0x3800, 0x3400, 0x7e00
	files := map[int][]byte{}
	for i, a := range []hand{one, two} {
		l := leases[i]
		flat := exr(l.Width, l.Height, []string{"Y"}, func(string, int, int) uint16 { return half })
		assert.Contains(t, refused(t, http.StatusUnprocessableEntity)(a.send(l, flat)).Detail, "one flat colour")
		files[l.Frame] = exr(l.Width, l.Height, []string{"B", "G", "R", "depth.Z"}, func(c string, x, y int) uint16 {
			switch {
			case l.Frame == 2 && c == "G" && x == 5 && y < 3:
				return notANumber
			case c == "depth.Z":
				return quarter
			}
			return uint16(half + y)
		})
		assert.Contains(t, refused(t, http.StatusUnprocessableEntity)(a.send(l, files[l.Frame][:len(files[l.Frame])-3])).Detail, "cut short")
		must[struct{}](t)(a.send(l, files[l.Frame]))
		must[struct{}](t)(a.done(l, files[l.Frame]))
	}
	assert.Equal(t, api.RunStateComplete, h.awaitOver(run).State)
	folder := t.TempDir()
	h.good("download", "latest", "--to", folder)
	data, err := os.ReadFile(filepath.Join(folder, "coda-060", "coda-060.0001.exr"))
	require.NoError(t, err)
	assert.Equal(t, files[1], data)

	run = h.run(run)
	assert.Equal(t, image.Pt(32, 18), h.shown(run, 1, api.GetPictureParams{Width: new(32)}).Bounds().Size())
	red := func(p api.GetPictureParams) uint32 { r, _, _, _ := h.shown(run, 1, p).At(0, 0).RGBA(); return r }
	assert.InDelta(t, 65535*0.7354, red(api.GetPictureParams{Layer: new("")}), 300, "half the light, in sRGB")
	assert.InDelta(t, 65535*0.5371, red(api.GetPictureParams{Exposure: new(-1.0)}), 300)
	assert.InDelta(t, 65535*0.5371, red(api.GetPictureParams{Layer: new("depth.Z")}), 300, "a quarter")
	gone := refused(t, http.StatusUnprocessableEntity)(h.admin().GetPicture(t.Context(), run.Id, "coda-060", 1, &api.GetPictureParams{Layer: new("sky")}))
	assert.Contains(t, fmt.Sprint(gone.Problem), `"", "depth.Z"`)

	detail := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", 2))
	assert.Equal(t, []string{"", "depth.Z"}, detail.Frame.Layers)
	assert.Equal(t, 3, detail.Frame.NotFinite)
	marked := must[api.FrameMap](t)(h.admin().GetFrameMap(t.Context(), run.Id)).Marked
	assert.Equal(t, []api.FailedFrames{{Cause: "not-finite", Shot: "coda-060", Frames: "2", Count: 1}}, marked)
	assert.Contains(t, h.good("runs", "show", "latest"), "values that are no number or infinite: 1 frame of coda-060, 2")
	assert.Contains(t, h.good("frames", "show", "latest", "coda-060", "2"), "3 values of its pixels are no number or infinite")
}

// Povray writes OpenEXR if a setting says so, and what is shown of it is what its PNG is.
func TestPovrayRendersOpenEXR(t *testing.T) {
	sideBySide(t)
	h := newHouse(t)
	all, err := launchers.Shipped()
	require.NoError(t, err)
	h.runAgentWith(eddy, filepath.Join("..", "demo", "lanternfish", "scenes"), all["povray"])
	looks := map[string]picture.Look{}
	for _, format := range []string{"png", "exr"} {
		shot := "orrery-" + format
		must[api.Shot](t)(h.admin().PutShot(t.Context(), shot, &api.PutShotParams{}, api.ShotSpec{
			Name: shot, Scene: "orrery/orrery.pov", Frames: "1-3", Width: 64, Height: 36, Launcher: "povray", Settings: map[string]string{"format": format},
		}))
		h.timed(shot, "eddy/cpu")
		_, run := h.started(time.Hour, shot)
		run = h.awaitOver(run)
		require.Equal(t, api.RunStateComplete, run.State)
		frame := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, shot, 2)).Frame
		assert.EqualValues(t, format, frame.Format)
		looks[format] = picture.LookOf(h.shown(run, 2, api.GetPictureParams{Exposure: new(0.0)}))
		answer, err := h.admin().GetPicture(t.Context(), run.Id, shot, 2, &api.GetPictureParams{})
		require.NoError(t, err)
		file, err := picture.Open(answer.Body, answer.ContentLength)
		require.NoError(t, err)
		assert.Equal(t, format, file.Format)
		_ = answer.Body.Close()

		// It is sent behind the frame.
		h.until("the render log", func() bool {
			tries := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, shot, 2)).Tries
			return tries[0].LogBytes > 0
		})
		log := h.good("frames", "log", "latest", shot, "2")
		assert.Contains(t, log, "Trace Time:")
		assert.Contains(t, log, "Rendered 2304 of 2304 pixels", "progress too")
		assert.Regexp(t, `^ +\d+ +Trace Time: .*\n$`, strings.ReplaceAll(h.good("frames", "log", "latest", shot, "2", "--search", "trace time"), "  ", " "))
	}
	assert.Less(t, looks["png"].Apart(looks["exr"]), 0.01)

	folder := t.TempDir()
	sheet := filepath.Join(folder, "sheet.png")
	assert.Contains(t, h.good("preview", "latest", "--shot", "orrery-exr", "--to", sheet, "--columns", "2"), "3 frames, 0 of them not done")
	data, err := os.ReadFile(sheet)
	require.NoError(t, err)
	img, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Equal(t, image.Pt(8+2*72, 8+2*(36+18+8)), img.Bounds().Size())
	for want, args := range map[string][]string{
		"want a file that ends in":          {"--shot", "orrery-exr", "--to", "a.gif"},
		"it has orrery-exr":                 {"--shot", "gears", "--to", sheet},
		"want 1 to 100":                     {"--shot", "orrery-exr", "--to", sheet, "--columns", "0"},
		`"sky" is no layer`:                 {"--shot", "orrery-exr", "--to", sheet, "--layer", "sky"},
		"required flag(s) \"shot\", \"to\"": {},
	} {
		status, _, said := h.rotanex(append([]string{"preview", "latest"}, args...)...)
		assert.NotZero(t, status)
		assert.Contains(t, said, want)
	}
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		t.Log("ffmpeg is not here: no video is made")
		return
	}
	for _, ending := range []string{".mp4", ".webm"} {
		to := filepath.Join(folder, "video"+ending)
		h.good("preview", "latest", "--shot", "orrery-exr", "--to", to, "--fps", "12", "--exposure", "1")
		said, err := exec.CommandContext(t.Context(), "ffprobe", "-v", "error", "-count_frames", "-show_entries", "stream=width,height,nb_read_frames,r_frame_rate", "-of", "csv=p=0", to).CombinedOutput()
		require.NoError(t, err, string(said))
		assert.Equal(t, "64,36,12/1,3", strings.TrimSpace(string(said)), ending)
	}
	assert.NotZero(t, looks["exr"].Deviation)
}

// A frame that is darker than those around it is to be looked at, once its shot is finished.
func TestAFrameThatFlickersIsMarked(t *testing.T) {
	h := newHouse(t, faster)
	h.runAgent(eddy, scenes(t))
	h.putShot("coda-060", "1-16", map[string]string{"fail": "dim@7"})
	h.timed("coda-060", "eddy/g0")
	_, run := h.started(time.Hour, "coda-060")
	run = h.awaitOver(run)
	require.Equal(t, api.RunStateComplete, run.State)
	var marked []api.FailedFrames
	h.until("the shot to be looked at", func() bool {
		marked = must[api.FrameMap](t)(h.admin().GetFrameMap(t.Context(), run.Id)).Marked
		return len(marked) > 0
	})
	assert.Equal(t, "flicker-darker", marked[0].Cause)
	assert.Equal(t, "7", marked[0].Frames)
	frame := must[api.FrameDetail](t)(h.admin().GetFrame(t.Context(), run.Id, "coda-060", 7)).Frame
	assert.Equal(t, api.FlickerKind("darker"), frame.Flicker.Kind)
	assert.Contains(t, h.good("frames", "show", "latest", "coda-060", "7"), "Look at it: darker than the frames around")
	assert.Contains(t, h.good("runs", "show", "latest"), "darker than the frames around")
}
