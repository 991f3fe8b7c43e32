package agent

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/stock"
	"rotanex.example/doctor"
	"rotanex.example/launchers"
)

// examined is what the doctor says of an agent, by check.
func examined(t *testing.T, c Config) map[string]doctor.Finding {
	t.Helper()
	checks, err := Checks(c)
	require.NoError(t, err)
	out := map[string]doctor.Finding{}
	for _, f := range doctor.Run(t.Context(), checks) {
		out[f.Name] = f
	}
	return out
}

func TestWhatAnAgentStandsOn(t *testing.T) {
	t.Parallel()
	clock, known := time.Now(), http.StatusForbidden // an agent may not ask for a session
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", clock.UTC().Format(http.TimeFormat))
		if r.URL.Path != "/readyz" {
			assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
			w.WriteHeader(known)
		}
	}))
	t.Cleanup(service.Close)
	scenes, state := t.TempDir(), t.TempDir()
	c := Config{
		Service: service.URL, Host: "bellows", StateDir: state, Scenes: scenes, Roots: map[string]string{"project": filepath.Join(scenes, "none")},
		Launchers: map[string]launchers.Launcher{"gone": {Name: "gone", Program: "no-such-renderer"}},
		Simulated: []stock.Host{{Name: "bellows", CPU: stock.CPU{Model: "Keel 16", Cores: 16}, MemoryGB: 64}},
	}
	all := examined(t, c)
	assert.Equal(t, doctor.OK, all["service"].State, all["service"].Found)
	assert.Equal(t, doctor.Failed, all["joined"].State)
	assert.Contains(t, all["joined"].Fix, "rotanex tokens join bellows")
	assert.NotEqual(t, doctor.Failed, all["state folder"].State, "however little room there is")
	assert.Contains(t, all["devices"].Found, "Keel 16, 16 cores, 64 GB")
	assert.Equal(t, doctor.Failed, all["launcher gone"].State)
	assert.Contains(t, all["launcher gone"].Found, "no-such-renderer is not on the agent's path")
	assert.Equal(t, doctor.Warning, all["scenes"].State, "it is empty")
	assert.Equal(t, doctor.Failed, all["root project"].State)
	assert.Contains(t, all["root project"].Fix, "--root project")
	assert.NotContains(t, all, "desk")

	require.NoError(t, os.WriteFile(filepath.Join(scenes, "coda.pov"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(state, "credential.json"), []byte(`{"host":"bellows","token":"secret"}`), 0o600))
	clock = clock.Add(-time.Hour)
	all = examined(t, c)
	assert.Equal(t, doctor.OK, all["scenes"].State)
	assert.Equal(t, doctor.OK, all["joined"].State, all["joined"].Found)
	assert.Equal(t, doctor.Warning, all["service"].State)
	assert.Contains(t, all["service"].Found, "1h0m", "apart")

	known = http.StatusUnauthorized
	assert.Equal(t, doctor.Failed, examined(t, c)["joined"].State, "it was revoked")
	c.Host = "capstan"
	assert.Contains(t, examined(t, c)["joined"].Fix, "--host bellows")

	c.Service = "http://127.0.0.1:1," + service.URL
	assert.Equal(t, doctor.Warning, examined(t, c)["service"].State, "one of two is enough")
	c.Service, c.Desk = "http://127.0.0.1:1", &Desk{Idle: time.Minute, Return: GiveBack, Command: "echo 90"}
	all = examined(t, c)
	assert.Equal(t, doctor.Failed, all["service"].State)
	assert.Equal(t, "nobody has touched it for 1m30s", all["desk"].Found)
	left, err := os.ReadDir(state)
	require.NoError(t, err)
	assert.Len(t, left, 1, "it leaves nothing behind")
}
