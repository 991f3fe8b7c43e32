package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func written(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "file.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// What is wrong in a file is said with its line and what would be right.
func TestFaultsOfStockFilesNameTheLineAndTheWord(t *testing.T) {
	for text, want := range map[string]string{
		"hosts:\n  - name: bellows\n    memry_gb: 64\n":                               "file.yaml:3: memry_gb is not known here; did you mean memory_gb?",
		"hosts:\n  - name: bellows\n    mains: true\n":                                "file.yaml:3: mains is called on_ac_power now",
		"offers:\n  - name: tern-solo\n    lead_s: 720\n    wrap_s: 60\n":             "file.yaml:4: wrap_s is called shutdown_s now",
		"offers:\n  - name: tern-solo\n    price_hour: '1.20'\n":                      "price_hour is called price_h now",
		"farms:\n  - name: ebb\n    work: { least: '1.00' }\n":                        "least is called minimum_charge now",
		"hosts:\n  - name: bellows\n    open: [{ days: sat,sun, from: '19:00' }]\n":   `sun stands alone: several days want quotes`,
		"hosts:\n  - name: bellows\n    memory_gb: lots\n":                            "file.yaml:3: memory_gb lots: want a number",
		"hosts:\n  - name: bellows\n    cpu: { model: Keel 16, cores: 16.5 }\n":       "cores 16.5: want a whole number",
		"hosts:\n  - name: bellows\n    on_ac_power: maybe\n":                         "on_ac_power maybe: want true or false",
		"hosts:\n  name: bellows\n":                                                   "hosts want a list",
		"hosts:\n  - bellows\n":                                                       "hosts bellows: want keys and values",
		"machines: []\n":                                                              "machines is not known here; known are farms, hosts, licences, offers, sources",
		"":                                                                            "is empty: it should begin with one of farms, hosts",
		"hosts:\n  - name: bellows\n    name: eddy\n":                                 `"name"`,
		"hosts: []\n---\nhosts: []\n":                                                 "holds 2 documents",
		"hosts:\n  - name: bellows\n    devices: [{ id: g0, backends: { a: b } }]\n":  "backends want a list",
		"hosts:\n  - name: [bellows]\n":                                               "name want a single value",
		"hosts:\n  - { name: bellows, power: { price_kwh: '0.31', idle_wats: 3 } }\n": "did you mean idle_watts?",
		"licences:\n  - { pool: fathom, kind: floating, seats: four }\n":              "seats four: want a whole number",
	} {
		var f stockFile
		assert.ErrorContains(t, readYAML(written(t, text), &f), want, text)
	}
	var f stockFile
	require.NoError(t, readYAML(filepath.Join("..", "demo", "lanternfish", "stock.yaml"), &f))
	assert.Len(t, f.Hosts, 7)
	var quoted stockFile
	require.NoError(t, readYAML(written(t, `{"hosts": [{"name": "bellows", "memory_gb": 64, "on_ac_power": false}]}`), &quoted), "JSON is YAML")
	assert.True(t, quoted.Hosts[0].OnBattery())
	assert.NoError(t, f.named(&stockFile{}))
	assert.ErrorContains(t, f.named(&f), "host bellows stands there twice")
}

func TestShotsMaySayTheirDeadlineAndSettingsAsPeopleWrite(t *testing.T) {
	now := time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)
	shot := "shots:\n  - { name: stair-030, scene: stair.yaml, frames: 1-4, width: 64, height: 36, launcher: simulated"
	all, err := readShots([]string{written(t, shot+", deadline: +2h, settings: { samples: 128, light: 0.3 } }\n")}, now)
	require.NoError(t, err)
	assert.Equal(t, now.Add(2*time.Hour), all[0].Deadline)
	assert.Equal(t, map[string]string{"samples": "128", "light": "0.3"}, all[0].Settings)
	all, err = readShots([]string{written(t, shot+", passes: [{ name: occlusion, launcher: povray, settings: { antialias: 0.9 } }] }\n")}, now)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"antialias": "0.9"}, all[0].Passes[0].Settings)
	for text, want := range map[string]string{
		", passes: [{ nme: beauty }] }\n": "did you mean name?",
		", host_memry_gb: 9 }\n":          "did you mean host_memory_gb?",
		", deadlne: +2h }\n":              "did you mean deadline?",
		", deadline: soon }\n":            `shot stair-030: deadline: time "soon"`,
		", passes: 4 }\n":                 "passes is called buffers now",
		", inputs: stair.png }\n":         "inputs stair.png: want a list",
		" }\n  - { name: stair-030 }\n":   "stands in",
		" }\n  - { title: nameless }\n":   "shot 2 has no name",
	} {
		_, err := readShots([]string{written(t, shot+text)}, now)
		assert.ErrorContains(t, err, want, text)
	}
	all, err = readShots([]string{filepath.Join("..", "demo", "lanternfish", "shots.yaml")}, now)
	require.NoError(t, err)
	assert.Len(t, all, 6)
}
