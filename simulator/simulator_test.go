package simulator

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/picture"
	"rotanex.example/core/stock"
)

var (
	gears = Scene{Title: "orrery-020", PrepareS: 7, LoadGB: 8, WorkS: 100, FinishS: 4, Variation: 0.7, DeviceMemoryGB: 9.5, Frames: 180}
	rack  = stock.Host{Name: "rack", CPU: stock.CPU{Model: "Keel 8"}, Devices: []stock.Device{
		{ID: "g0", Model: "Halyard 24", MemoryGB: 24, LinkWidth: 16},
		{ID: "g1", Model: "Halyard 24", MemoryGB: 24, LinkWidth: 1},
		{ID: "g2", Model: "Halyard 8", MemoryGB: 8, LinkWidth: 16},
	}}
)

func stagesOf(frame int, devices ...string) ([]stage, error) {
	return Render{Devices: devices, Frame: frame, Samples: 128}.stages(gears, rack, time.Unix(0, 0))
}

func total(t *testing.T, devices ...string) float64 {
	t.Helper()
	stages, err := stagesOf(60, devices...)
	require.NoError(t, err)
	sum := 0.0
	for _, s := range stages {
		sum += s.seconds
	}
	return sum
}

func TestAFramesTimeHasPartsThatBehaveDifferently(t *testing.T) {
	one, both := total(t, "g0"), total(t, "g0", "g1")
	assert.Less(t, both, one, "two devices are faster than one")
	assert.Greater(t, both, one/2, "but not twice: what is fixed does not shrink, and a narrow link loads slowly")
	assert.Greater(t, total(t, "g1")-total(t, "g0"), 15.0, "the same device on a narrow link")
	assert.Greater(t, total(t, "cpu"), 10*one)
	stages, err := stagesOf(112, "g0")
	require.NoError(t, err)
	light, err := stagesOf(1, "g0")
	require.NoError(t, err)
	assert.Greater(t, stages[2].seconds, 1.3*light[2].seconds, "frames differ in weight")
	assert.InDelta(t, stages[0].seconds, light[0].seconds, 0)
}

func TestTheSmallestDeviceIsTheLimit(t *testing.T) {
	_, err := stagesOf(1, "g0", "g2")
	assert.ErrorContains(t, err, "out of device memory on g2 (Halyard 8): the scene needs 9.5 GB, 8.0 GB are free")
}

func TestRenderWritesARealPictureOrFailsOnDemand(t *testing.T) {
	folder := t.TempDir()
	scene, machine, output := filepath.Join(folder, "s.yaml"), filepath.Join(folder, "stock.json"), filepath.Join(folder, "out.png")
	require.NoError(t, os.WriteFile(scene, []byte("title: orrery-020\nframes: 10\nwork_s: 1\ndevice_memory_gb: 9.5\n"), 0o600))
	data, err := json.Marshal(rack)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(machine, data, 0o600))
	pictures := map[int][]byte{}
	for frame, c := range map[int]struct {
		fail string
		exit int
		bad  error
	}{
		1: {"", 0, nil},
		2: {"crash@1,crash@3,crash@2@elsewhere", 0, nil},
		3: {"crash@3", ExitCrashed, nil},
		4: {"out-of-memory@4@rack", ExitOutOfMemory, nil},
		5: {"licence-lost@5", ExitLicenceLost, nil},
		6: {"half-written@6", 0, picture.ErrUndecodable},
		7: {"blank@7", 0, picture.ErrBlank},
		8: {"melt@8", ExitCannotStart, nil},
		9: {"hang@9", ExitCrashed, nil}, // ended from outside
	} {
		ctx, cancel := context.WithCancel(t.Context())
		if c.fail == "hang@9" {
			cancel()
		}
		var said bytes.Buffer
		r := Render{Scene: scene, Output: output, Stock: machine, Frames: []int{frame}, Width: 160, Height: 90, Devices: []string{"g0"}, Samples: 128, ClockFactor: 1000, Fail: c.fail, Say: &said}
		assert.Equal(t, c.exit, r.Run(ctx), "%s: %s", c.fail, said.String())
		cancel()
		if c.exit != 0 {
			continue
		}
		file, err := os.ReadFile(output)
		require.NoError(t, err)
		_, err = picture.Check(bytes.NewReader(file), int64(len(file)), 160, 90)
		assert.ErrorIs(t, err, c.bad, c.fail)
		pictures[frame] = file
		assert.Contains(t, said.String(), "stage work")
	}
	assert.NotEqual(t, pictures[1], pictures[2], "it animates")
}

func TestShippedScenesRead(t *testing.T) {
	files, err := filepath.Glob(filepath.Join("..", "demo", "lanternfish", "scenes", "*.yaml"))
	require.NoError(t, err)
	require.Len(t, files, 5)
	for _, f := range files {
		_, err := ReadScene(f)
		assert.NoError(t, err, f)
	}
}

func TestWhatCanBeDoneWhereMemoryDoesNotDo(t *testing.T) {
	linked := rack
	linked.Devices = []stock.Device{
		{ID: "g0", Model: "Topsail 24", MemoryGB: 24, LinkWidth: 16, LinkedTo: "g1"}, {ID: "g1", Model: "Topsail 24", MemoryGB: 24, LinkWidth: 16, LinkedTo: "g0"},
	}
	linked.MemoryGB = 128
	big := gears
	big.DeviceMemoryGB, big.TexturesGB = 30, 12
	work := func(mode string, devices ...string) (float64, error) {
		s, err := Render{Devices: devices, Frame: 60, Samples: 128, MemoryMode: mode}.stages(big, linked, time.Unix(0, 0))
		if err != nil {
			return 0, err
		}
		return s[2].seconds, nil
	}
	_, err := work("", "g0")
	assert.ErrorContains(t, err, "out of device memory on g0")
	shared, err := work("", "g0", "g1")
	require.NoError(t, err, "over the memory link it fits")
	spilled, err := work("spill", "g0")
	require.NoError(t, err)
	fallen, err := work("cpu", "g0")
	require.NoError(t, err)
	assert.Less(t, 2*shared, spilled)
	assert.Less(t, spilled, fallen, "the CPU is the last resort")
	assert.InDelta(t, 19.5, Render{Devices: []string{"g0", "g1"}}.peak(big, linked).GB(), 1e-9)
	assert.InDelta(t, 24, Render{Devices: []string{"g0"}}.peak(big, linked).GB(), 1e-9)
}

func TestSettingsAndBackendsChangeTheTime(t *testing.T) {
	seconds := func(r Render) (sum float64) {
		r.Devices, r.Frame = []string{"g0"}, 60
		s, err := r.stages(gears, rack, time.Unix(0, 0))
		require.NoError(t, err)
		for _, x := range s {
			sum += x.seconds
		}
		return sum
	}
	usual := seconds(Render{Samples: 128})
	assert.Less(t, seconds(Render{Samples: 128, AdaptiveError: 0.1}), 0.6*usual)
	assert.Greater(t, seconds(Render{Samples: 128, Backend: "compute1"}), 1.1*usual)
	assert.Greater(t, seconds(Render{Samples: 128, Denoise: "smooth", DenoiseDevice: "cpu"}), seconds(Render{Samples: 128, Denoise: "smooth"}))
	assert.Greater(t, seconds(Render{Samples: 128, Bucket: 16}), usual)
}

func TestAStartOpensTheSceneOnceForAllItsFrames(t *testing.T) {
	folder := t.TempDir()
	scene, machine, output := filepath.Join(folder, "gears.yaml"), filepath.Join(folder, "rack.json"), filepath.Join(folder, "frame.png")
	require.NoError(t, os.WriteFile(scene, []byte("title: Gears\nprepare_s: 3\nwork_s: 1\nframes: 20\n"), 0o600))
	data, err := json.Marshal(rack)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(machine, data, 0o600))
	var said bytes.Buffer
	r := Render{Scene: scene, Output: output, Stock: machine, Frames: []int{3, 5, 6}, Width: 160, Height: 90, Devices: []string{"g0"}, Samples: 16, ClockFactor: 1e5, Fail: "crash@6", Say: &said}
	assert.Equal(t, ExitCrashed, r.Run(t.Context()))
	for say, times := range map[string]int{"opened\n": 1, "stage prepare": 1, "stage load": 1, "stage work": 2, "finished 3\n": 1, "finished 5\n": 1, "finished 6\n": 0} {
		assert.Equal(t, times, strings.Count(said.String(), say), "%s in %s", say, said.String())
	}
	assert.FileExists(t, filepath.Join(folder, "frame.000005.png"))
	assert.NoFileExists(t, filepath.Join(folder, "frame.000006.png"))

	said.Reset()
	r.Fail = "out-of-memory@4"
	r.Orders = strings.NewReader(fmt.Sprintf("{\"frame\":9,\"output\":%q}\n{\"frame\":4,\"output\":%q}\n{\"frame\":2,\"output\":%q}\n", output, output, filepath.Join(folder, "two.png")))
	assert.Zero(t, r.Run(t.Context()))
	for say, times := range map[string]int{`{"opened":true}`: 1, "stage load": 1, "stage work": 2, `{"frame":9,"finished":true}`: 1, `{"frame":4,"failed":"out-of-memory"`: 1, `{"frame":2,"finished":true}`: 1} {
		assert.Equal(t, times, strings.Count(said.String(), say), "%s in %s", say, said.String())
	}
	assert.FileExists(t, filepath.Join(folder, "two.png"))
	r.Orders = strings.NewReader("{}\n")
	assert.Equal(t, ExitCannotStart, r.Run(t.Context()))
}
