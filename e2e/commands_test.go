package e2e

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/cli"
)

func file(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func TestAFileThatIsWrongStoresNothing(t *testing.T) {
	h := newHouse(t)
	good := "- { name: bellows, source: loft, cpu: { model: Keel 16, cores: 16 }, memory_gb: 64, on_ac_power: true, power: { price_kwh: '0.31' } }\n"
	for text, says := range map[string]string{
		"hosts:\n" + good + "- { name: Bad Host, source: loft, cpu: { model: x, cores: 1 }, memory_gb: 1, on_ac_power: true, power: { price_kwh: '1' } }\n": `host "Bad Host"`,
		"hosts:\n" + good + "offers:\n- { name: tern-solo, source: tern, cpu: { model: x, cores: 1 }, memory_gb: 1 }\n":                                     "max_servers 0: want 1 or more",
		"hosts:\n- { name: bellows, sauce: loft }\n":                "sauce",
		"hosts:\n- { name: bellows, power: { price_kwh: much } }\n": "much",
		"hosts: 7\n": "7",
	} {
		status, _, errs := h.rotanex("hosts", "import", file(t, "stock.yaml", text))
		assert.Equal(t, cli.ExitFailed, status)
		assert.Contains(t, errs, says)
		assert.Contains(t, h.good("hosts", "list"), "No host yet", "nothing was stored")
	}
	status, _, errs := h.rotanex("hosts", "import", "/nowhere/stock.yaml")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "/nowhere/stock.yaml")
	status, _, errs = h.rotanex("shots", "import", file(t, "shots.yaml", "shots:\n- { name: coda-050, scene: a, frames: 1-9, width: 4, height: 4, launcher: simulated }\n"+
		"- { name: coda-060, scene: a, frames: 9-1, width: 4, height: 4, launcher: simulated }\n"))
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "9 comes after 1")
	assert.Contains(t, errs, "nothing was stored", "not the good one before it either")
	assert.Contains(t, h.good("shots", "list"), "No shot yet")
}

func TestEveryListInEveryForm(t *testing.T) {
	h, _, one, _, run := playedHouse(t, "1-5")
	for _, l := range one.lease() {
		one.failed(l, api.ResultCauseLicenceLost)
	}
	offer, err := convert[api.OfferSpec](ternSolo)
	require.NoError(t, err)
	must[api.Offer](t)(h.admin().PutOffer(t.Context(), "tern-solo", offer))
	for command, wants := range map[string][]string{
		"hosts list":           {"bellows", "eddy", "64 GB", "always"},
		"hosts show bellows":   {"g0+g1", "Halyard 24 + Halyard 12", "12 GB"},
		"offers list":          {"tern-solo", "1.20", "1 h 00 min"},
		"shots list":           {"coda-060", "1-5", "64×36"},
		"trials list":          {"bellows/g0", "10.0 s", "complete"},
		"trials list coda-060": {"eddy/g0"},
		"plans list":           {"meets", "EUR"},
		"plans show latest":    {"coda-060", "measured", "10.0 s"},
		"runs list":            {run.Id.String()[:8], "running", "EUR"},
		"frames list latest":   {"coda-060", "waiting"},
		"ledger latest":        {"g0"},
		"tokens list":          {"first admin", "admin", "agent bellows"},
	} {
		args := strings.Fields(command)
		table := h.good(args...)
		for _, want := range wants {
			assert.Contains(t, table, want, command)
		}
		assert.True(t, json.Valid([]byte(h.good(append(args, "-o", "json")...))), command)
		rows, err := csv.NewReader(strings.NewReader(h.good(append(args, "-o", "csv")...))).ReadAll()
		require.NoError(t, err, command)
		assert.GreaterOrEqual(t, len(rows), 2, command)
	}
	assert.Contains(t, h.good("whoami"), "first admin, admin")
	status, _, errs := h.rotanex("hosts", "list", "-o", "xml")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, `--output "xml": want table, json or csv`)
}

func TestARunIsSteeredFromTheCommandLine(t *testing.T) {
	h, _, one, _, run := playedHouse(t, "1-5")
	short := run.Id.String()[:6]
	assert.Contains(t, h.good("pause", short), "is paused")
	assert.Empty(t, one.lease())
	assert.Contains(t, h.good("resume", short), "is running")
	assert.Contains(t, h.good("hosts", "drain", "bellows"), "takes nothing new")
	assert.Empty(t, one.lease())
	assert.Contains(t, h.good("hosts", "drain", "bellows", "--undo"), "takes work again")
	assert.Contains(t, h.good("cancel", "latest"), "is cancelled")
	status, out, errs := h.rotanex("watch", "latest")
	assert.Equal(t, cli.ExitIncomplete, status)
	assert.Contains(t, out, "cancelled: 0 of 5 frames")
	assert.Contains(t, errs, "--state failed")
	status, _, errs = h.rotanex("download", "latest", "--to", t.TempDir())
	assert.Equal(t, cli.ExitIncomplete, status)
	assert.Contains(t, errs, "5 frames are not done yet")
	status, _, errs = h.rotanex("resume", "latest")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "the run is cancelled, which is final")
	status, _, errs = h.rotanex("watch", "ffff")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, `there is no run "ffff"`)
}

func TestTokensFromTheCommandLine(t *testing.T) {
	h := newHouse(t)
	secret := strings.TrimSpace(h.good("tokens", "create", "night monitor", "--role", "viewer", "--days", "30"))
	other := *h
	other.token = secret
	assert.Contains(t, other.good("whoami"), "night monitor, viewer")
	status, _, errs := other.rotanex("tokens", "list")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "this needs the role admin")
	var id string
	for _, token := range records[[]api.Token](h, "tokens", "list") {
		if token.Name == "night monitor" {
			id = json.Number(jsonText(t, token.Id)).String()
			assert.WithinDuration(t, time.Now().AddDate(0, 0, 30), token.Expires, time.Hour)
		}
	}
	h.good("tokens", "revoke", id)
	status, _, errs = other.rotanex("whoami")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "was revoked")
	assert.True(t, strings.HasPrefix(h.good("tokens", "join", "eddy"), "rtx_"))
}

func jsonText(t *testing.T, v any) string {
	t.Helper()
	data, err := json.Marshal(v)
	require.NoError(t, err)
	return string(data)
}

// Settings come from flags, else from the environment, else from the file.
func TestWhereSettingsComeFrom(t *testing.T) {
	alone(t)
	h := newHouse(t)
	config := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", config)
	t.Setenv("ROTANEX_SERVICE", "") // of whoever runs the tests
	t.Setenv("ROTANEX_TOKEN", "")
	require.NoError(t, os.MkdirAll(filepath.Join(config, "rotanex"), 0o700))
	write := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(config, "rotanex", "config.yaml"), []byte(text), 0o600))
	}
	whoami := func(args ...string) (int, string) {
		var out strings.Builder
		return cli.Main(t.Context(), append([]string{"whoami"}, args...), nil, &out, &out), out.String()
	}
	write("service: " + h.address + "\ntoken: " + h.token + "\n")
	status, said := whoami()
	assert.Zero(t, status, said)
	t.Setenv("ROTANEX_TOKEN", "rtx_from_the_environment")
	status, said = whoami()
	assert.Equal(t, cli.ExitFailed, status, "the environment goes before the file")
	assert.Contains(t, said, "not known")
	status, said = whoami("--token", h.token)
	assert.Zero(t, status, "a flag goes before both: %s", said)
	write("service: [")
	status, said = whoami("--token", h.token)
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, said, "settings:")
}

// Times that were measured with other settings are not this shot's times.
func TestTrialsOfOtherSettingsDoNotCount(t *testing.T) {
	h, _, _, _, _ := playedHouse(t, "1-5")
	plan := func() api.Plan {
		return must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(time.Hour)}))
	}
	assert.Equal(t, api.PlanStatusMeets, plan().Status)
	h.putShot("coda-060", "1-5", map[string]string{"samples": "512"})
	after := plan()
	assert.Equal(t, api.PlanStatusImpossible, after.Status)
	require.NotEmpty(t, after.Impossible)
	var why []string
	for _, l := range after.LeftOut {
		why = append(why, l.Fix)
	}
	assert.Contains(t, strings.Join(why, "\n"), "rotanex trials run coda-060 --crew bellows/g0", "it says how to fix it")
	refusedStart, err := h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: after.Id})
	require.NoError(t, err)
	assert.Equal(t, 409, refusedStart.StatusCode)
	h.putShot("coda-060", "1-5", nil)
	assert.Equal(t, api.PlanStatusMeets, plan().Status, "the old settings' times count again")
}
