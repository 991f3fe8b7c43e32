package app

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An agent one version on says more than this service knows, and is understood; of one further on it is said what to do. One of
// before says less.
func TestAgentsOfOtherVersions(t *testing.T) {
	b := besiege(t)
	const boot = `"boot":"7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b"`
	report := func(more string) (int, string) {
		w := b.send(t, "agent", "PUT", "/agent/stock", "application/json", strings.NewReader(`{`+boot+more+`,"cpu":{"model":"x","cores":16},"memory_gb":64,"on_ac_power":true,"devices":[],"launchers":["simulated"]}`), nil)
		return w.Code, w.Body.String()
	}
	code, said := report(`,"version":"0.2.7","mood":"fine"`)
	require.Equal(t, 200, code, said)
	shown := b.send(t, "viewer", "GET", "/hosts/bellows", "", strings.NewReader(""), nil)
	assert.Contains(t, shown.Body.String(), `"agent_version":"0.2.7"`)
	for path, body := range map[string]string{
		"POST /agent/leases":           `{` + boot + `,"held":[],"wait_s":0,"mood":"fine"}`,
		"POST /agent/heartbeat":        `{` + boot + `,"held":[],"mood":"fine"}`,
		"PUT /agent/leases/1/1/result": `{` + boot + `,"outcome":"done","mood":"fine"}`,
	} {
		method, at, _ := strings.Cut(path, " ")
		w := b.send(t, "agent", method, at, "application/json", strings.NewReader(body), nil)
		assert.NotEqual(t, 422, w.Code, "%s: %s", path, w.Body)
	}
	code, said = report(`,"findings":"none","mood":"fine"`)
	assert.Equal(t, 422, code, said)

	code, said = report(`,"version":"0.3.0"`)
	assert.Equal(t, 409, code)
	assert.Contains(t, said, "bring the service up to date")
	code, _ = report("")
	assert.Equal(t, 200, code, "one of before versions were said")
}
