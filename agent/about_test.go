package agent

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent/discover"
	"rotanex.example/api"
	"rotanex.example/core/stock"
	"rotanex.example/launchers"
)

func someAgent(t *testing.T) *Agent {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "work"), 0o700))
	a := &Agent{Config: Config{StateDir: folder, Scenes: t.TempDir(), Launchers: map[string]launchers.Launcher{}}, starts: map[*start]bool{}}
	found, err := discover.Simulated([]stock.Host{{Name: "eddy", Devices: []stock.Device{{ID: "g0", InUseGB: 1.5, Watts: 400}}}}, "eddy")
	require.NoError(t, err)
	a.found, a.sampler = found, found.Sampler
	return a
}

func TestWhatIsInstalledIsAskedOfTheProgram(t *testing.T) {
	a := someAgent(t)
	parse := func(text string) launchers.Launcher {
		l, err := launchers.Parse([]byte("format: rotanex-launcher-1\n" + text))
		require.NoError(t, err)
		return l
	}
	a.Launchers = map[string]launchers.Launcher{
		"echo":    parse("name: echo\nprogram: echo\ndevices: cpu\nlacks: { cpu: [fog] }\nabout: { args: ['version 7.1'], version: '^version (?P<version>\\S+)' }\n"),
		"missing": parse("name: missing\nprogram: no-such-program-anywhere\n"),
		"broken":  parse("name: broken\nprogram: 'false'\nabout: { args: [x], version: '(?P<version>v)' }\n"),
		"silent":  parse("name: silent\nprogram: 'true'\n"),
	}
	got := a.renderers(t.Context())
	require.Len(t, got, 4)
	assert.Equal(t, "broken", got[0].Launcher)
	assert.Contains(t, got[0].Trouble, "exit status 1")
	assert.Equal(t, api.Renderer{Launcher: "echo", Version: "7.1", CpuOnly: true, Lacks: map[string][]string{"cpu": {"fog"}}}, got[1])
	assert.Equal(t, "no-such-program-anywhere is not on the agent's path", got[2].Trouble)
	assert.Empty(t, got[3].Trouble)
}

func TestTheFolder(t *testing.T) {
	a := someAgent(t)
	f := a.folder()
	assert.True(t, f.Writable)
	assert.False(t, f.Network)
	assert.Positive(t, f.FreeGb)
	left, err := os.ReadDir(filepath.Join(a.StateDir, "work"))
	require.NoError(t, err)
	assert.Empty(t, left, "the try leaves nothing behind")
	require.NoError(t, os.RemoveAll(filepath.Join(a.StateDir, "work")))
	assert.False(t, a.folder().Writable)
}

func TestARenderersWordOnItsDevicesIsTakenWhereNoDriverTells(t *testing.T) {
	a := someAgent(t)
	idle := a.samples(t.Context())
	require.Len(t, idle, 2)
	assert.Equal(t, "g0", idle[0].Device)
	assert.Zero(t, idle[0].Use)
	assert.EqualValues(t, 1_500_000_000, idle[0].MemoryBytes)

	j := &start{of: api.Lease{Devices: []string{"g0", "cpu"}}}
	j.reading.Devices = map[string]launchers.DeviceState{"g0": {Use: 0.9, Bytes: 9_000_000_000, Celsius: 70}, "cpu": {Use: 0.2}}
	a.starts[j] = true
	busy := a.samples(t.Context())
	assert.InDelta(t, 0.9, busy[0].Use, 0)
	assert.EqualValues(t, 9_000_000_000, busy[0].MemoryBytes)
	assert.InDelta(t, 0.9, j.use.mean(), 1e-9, "the CPU beside a GPU does not count: it is shared with everything")
	assert.Zero(t, use{}.mean())
	assert.Empty(t, a.sampled(), "nothing before the first look")
}
