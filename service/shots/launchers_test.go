package shots

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/teststage"
)

// A launcher that nobody has, and settings that it does not have, are refused with what was
// meant; a house's own are known once an agent has reported them.
func TestLaunchersAndSettingsAreKnown(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	s := New(on.DB, on.Clock, on.Feed)
	put := func(launcher string, settings map[string]string) error {
		_, err := s.Put(t.Context(), "lamp-040", lamp(func(s *Spec) { s.Launcher, s.Settings = launcher, settings }))
		return err
	}
	require.NoError(t, put("simulated", map[string]string{"samples": "64"}))
	assert.ErrorContains(t, put("simulatd", nil), "did you mean simulated?")
	assert.ErrorContains(t, put("foam", nil), "known are povray, simulated, simulated-open (one of your own is known once an agent")
	assert.ErrorContains(t, put("simulated", map[string]string{"samplse": "64"}), "did you mean samples?")
	assert.ErrorContains(t, put("simulated", map[string]string{"samples": "-1"}), "samples")

	host := hosts.Host{
		Name: "eddy", Source: "loft", Spec: stock.Host{Name: "eddy"}, Launchers: []string{"foam", "simulated"}, Findings: []string{}, Missing: []string{},
		Renderers: []preflight.Renderer{{Launcher: "foam", Settings: []string{"bubbles"}}, {Launcher: "simulated", Settings: []string{"grain", "samples"}}},
	}
	require.NoError(t, on.DB.Create(&host).Error)
	require.NoError(t, put("foam", map[string]string{"bubbles": "many"}))
	assert.ErrorContains(t, put("foam", map[string]string{"bubble": "many"}), "did you mean bubbles?")
	assert.ErrorContains(t, put("foma", nil), "did you mean foam?")
	require.NoError(t, put("simulated", map[string]string{"grain": "fine"}), "the house's own launcher of that name has it")
	assert.ErrorContains(t, put("simulated", map[string]string{"grain": "fine", "samples": "-1"}), "samples")
}
