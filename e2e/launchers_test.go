package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent"
)

// agentSays runs rotanex-agent beside the example renderer of docs/launchers.md.
func agentSays(t *testing.T, args ...string) (out, errs string, err error) {
	t.Helper()
	examples, err := filepath.Abs(filepath.Join("..", "docs", "examples"))
	require.NoError(t, err)
	var o, e strings.Builder
	cmd := exec.CommandContext(t.Context(), filepath.Join(bin, "rotanex-agent"), args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = examples, &o, &e
	cmd.Env = append(os.Environ(), "PATH="+examples+string(os.PathListSeparator)+os.Getenv("PATH"))
	err = cmd.Run()
	return o.String(), e.String(), err
}

// What docs/launchers.md says can be typed.
func TestALauncherIsTriedWithoutAService(t *testing.T) {
	sideBySide(t)
	out, errs, err := agentSays(t, "lint", "./lantern.yaml")
	require.NoError(t, err, errs)
	assert.Equal(t, "advice: stages: without them it is not known what of a frame more devices make shorter\n", out)

	to := t.TempDir()
	out, errs, err = agentSays(t, "try", "./lantern.yaml", "--scene", "lantern.pov", "--frames", "1-3", "--width", "64", "--height", "36", "--setting", "glow=2", "--to", to, "--output", "json")
	require.NoError(t, err, errs)
	var all []agent.Tried
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all, 3)
	for i, x := range all {
		assert.Equal(t, i+1, x.Frame)
		assert.FileExists(t, x.File)
		assert.Equal(t, "png", x.Kind)
		assert.GreaterOrEqual(t, x.Measured.OpeningS, 2.0)
		assert.Equal(t, "2", x.Measured.Settings["glow"])
	}
	out, _, err = agentSays(t, "try", "./lantern.yaml", "--scene", "lantern.pov", "--width", "64", "--height", "36", "--to", to)
	require.NoError(t, err)
	assert.Contains(t, out, "to open the scene, once a start")

	out, errs, err = agentSays(t, "lint", "./beacon.yaml")
	require.NoError(t, err, errs)
	assert.Contains(t, out, "nothing to say")
	out, errs, err = agentSays(t, "try", "./beacon.yaml", "--scene", "lantern.pov", "--frames", "2,1", "--width", "64", "--height", "36", "--to", to, "--output", "json")
	require.NoError(t, err, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all, 2)
	for _, x := range all {
		assert.FileExists(t, x.File)
		assert.InDelta(t, 2, x.Measured.Stages["open"], 1e-9)
		assert.Positive(t, x.Measured.Stages["trace"])
		assert.InDelta(t, x.Measured.OpeningS/2, x.Measured.OpeningPartS, 1e-6, "it was opened once")
	}
	out, errs, err = agentSays(t, "lint", "./prism.yaml")
	require.NoError(t, err, errs)
	assert.NotContains(t, out, "error:")
	out, errs, err = agentSays(t, "try", "./prism.yaml", "--scene", "lantern.pov", "--frame", "2-3", "--width", "64", "--height", "36", "--to", to, "--output", "json")
	require.NoError(t, err, errs)
	all = nil
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all, 2)
	for i, x := range all {
		assert.Equal(t, "exr", x.Kind)
		said := ""
		for _, f := range x.Beside {
			said += fmt.Sprintf("%s %s, ", f.Kind, filepath.Base(f.File))
			assert.FileExists(t, f.File)
		}
		assert.Equal(t, fmt.Sprintf("picture frame.00000%[1]d.edges.exr, picture frame.00000%[1]d.flat.exr, text frame.00000%[1]d.stats.txt, ", i+2), said)
	}

	out, _, err = agentSays(t, "try", "./beacon.yaml", "--scene", "lantern.yaml", "--width", "64", "--height", "36", "--to", to)
	require.Error(t, err, "a scene that povray cannot read")
	assert.Contains(t, out, "frame 1 failed: crashed")

	for want, args := range map[string][]string{
		"setting glow":       {"try", "./lantern.yaml", "--scene", "lantern.pov", "--setting", "glow=bright", "--to", to},
		"there is no":        {"try", "torch", "--scene", "lantern.pov"},
		"no such device":     {"try", "./lantern.yaml", "--scene", "lantern.pov", "--crew", "g7", "--to", to},
		"gone.pov":           {"try", "./lantern.yaml", "--scene", "gone.pov", "--to", to},
		`--frames "a"`:       {"try", "./lantern.yaml", "--scene", "lantern.pov", "--frames", "a"},
		`required flag(s) "`: {"try", "./lantern.yaml"},
	} {
		out, errs, err := agentSays(t, args...)
		require.Error(t, err, want)
		assert.Contains(t, out+errs, want)
	}
}
