package discover_test

import (
	"errors"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent/discover"
)

// said is a driver's program that says what it is given of what it is asked for.
func said(text string, err error) discover.Command {
	return func(args ...string) ([]byte, error) {
		if len(args) != 2 || !strings.HasPrefix(args[0], "--query-gpu=") || args[1] != "--format=csv,noheader,nounits" {
			return nil, errors.New("asked otherwise")
		}
		return []byte(text), err
	}
}

func TestNvidiaByTheDriversProgram(t *testing.T) {
	t.Parallel()
	devices, findings := discover.NvidiaByCommand(said(`Topsail 24, 00000000:01:00.0, 8, 320.00, 24564, 858, 8.9, Default
Halyard old, 00000001:0A:00.0, [N/A], [N/A], 8192, 0, 3.0, Default
Halyard locked, 00000000:03:00.0, 16, 170.00, 12288, 10, 8.6, Prohibited
Halyard mute, 00000000:04:00.0, 16, 170.00, [N/A], [N/A], 8.6, Default
`, nil))
	require.Len(t, devices, 4)
	assert.Equal(t, "pci 0000:01:00", devices[0].ID, "as the management library has it")
	assert.InDelta(t, 25.8, devices[0].MemoryGB, 0)
	assert.InDelta(t, 0.9, devices[0].InUseGB, 0)
	assert.Equal(t, 8, devices[0].LinkWidth)
	assert.Equal(t, 320, devices[0].Watts)
	assert.Equal(t, []string{"cuda", "opencl"}, devices[0].Backends)
	assert.Equal(t, "pci 0001:0a:00", devices[1].ID)
	assert.Contains(t, devices[1].Unusable, "generation (3.0) is too old")
	assert.Contains(t, devices[2].Unusable, "prohibited")
	assert.Contains(t, devices[3].Unusable, "memory cannot be read")
	assert.Len(t, findings, 3)

	got := discover.NvidiaSamplesByCommand(said("00000000:01:00.0, 87, 1024, 71, 301.50, [N/A]\n", nil))
	assert.Equal(t, map[string]discover.Sample{"pci 0000:01:00": {Use: 0.87, MemoryBytes: 1 << 30, Celsius: 71, Watts: 301.5}}, got)
}

func TestTheDriversProgramIsNotThereOrSilent(t *testing.T) {
	t.Parallel()
	devices, findings := discover.NvidiaByCommand(said("", exec.ErrNotFound))
	assert.Empty(t, devices)
	assert.Empty(t, findings)
	_, findings = discover.NvidiaByCommand(said("", errors.New("exit status 9")))
	assert.Contains(t, findings[0], "NVIDIA devices are not seen")
	_, findings = discover.NvidiaByCommand(said("Topsail 24, too few\n", nil))
	assert.Contains(t, findings[0], "NVIDIA devices are not seen")
	assert.Empty(t, discover.NvidiaSamplesByCommand(said("", errors.New("exit status 9"))))
}

func FuzzTheDriversProgram(f *testing.F) {
	f.Add("Topsail 24, 00000000:01:00.0, 8, 320.00, 24564, 858, 8.9, Default\n")
	f.Add("\"a,\n")
	f.Fuzz(func(t *testing.T, text string) {
		devices, _ := discover.NvidiaByCommand(said(text, nil))
		for _, d := range devices {
			assert.True(t, (d.Unusable == "") == (len(d.Backends) > 0), "it is usable or says why not")
		}
		discover.NvidiaSamplesByCommand(said(text, nil))
	})
}
