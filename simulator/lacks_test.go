package simulator_test

import (
	"image/png"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/picture"
	"rotanex.example/simulator"
)

const smallHost = `{"name":"dory","cpu":{"model":"Keel 64","cores":64},"memory_gb":256,"on_ac_power":true}`

// What a renderer lacks shows in the look of its pictures, what an animation moves from
// frame to frame does not.
func TestALackShowsAndMovementDoesNot(t *testing.T) {
	folder := t.TempDir()
	scene, stock := filepath.Join(folder, "coda.yaml"), filepath.Join(folder, "host.json")
	require.NoError(t, os.WriteFile(scene, []byte("title: Coda\nwork_s: 1\nframes: 64\nhue: 0.6\n"), 0o600))
	require.NoError(t, os.WriteFile(stock, []byte(smallHost), 0o600))
	look := func(frame int, lacks string) picture.Look {
		output := filepath.Join(folder, "frame.png")
		r := simulator.Render{
			Scene: scene, Stock: stock, Output: output, Frames: []int{frame}, Width: 96, Height: 54, Devices: []string{"cpu"}, Samples: 16, ClockFactor: 1e6, Bucket: 64,
			Denoise: "none", Say: io.Discard, Lacks: lacks,
		}
		require.Zero(t, r.Run(t.Context()))
		file, err := os.Open(output)
		require.NoError(t, err)
		defer func() { _ = file.Close() }()
		img, err := png.Decode(file)
		require.NoError(t, err)
		return picture.LookOf(img)
	}
	whole := look(1, "")
	for _, frame := range []int{2, 20, 33, 64} {
		assert.Less(t, whole.Apart(look(frame, "")), 0.03, "frame %d", frame)
	}
	assert.Greater(t, whole.Apart(look(1, "lamp")), 0.06)
	assert.Greater(t, look(40, "").Apart(look(40, "lamp")), 0.06)
}
