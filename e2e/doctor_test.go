package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/version"
)

func TestEachProgramSaysItsVersion(t *testing.T) {
	sideBySide(t)
	for _, program := range []string{"rotanex", "rotanex-service", "rotanex-agent", "rotanex-simulator"} {
		said, err := exec.Command(filepath.Join(bin, program), "--version").Output()
		require.NoError(t, err, program)
		assert.Contains(t, string(said), program+" version "+version.Ours+" (")
	}
}

// finding is what a doctor says of one thing, as scripts read it.
type finding struct{ Name, State, Found, Fix string }

func diagnosed(t *testing.T, said []byte) (bad []finding, all map[string]finding) {
	t.Helper()
	var list []finding
	require.NoError(t, json.Unmarshal(said, &list), string(said))
	all = map[string]finding{}
	for _, f := range list {
		if all[f.Name] = f; f.State == "failed" {
			bad = append(bad, f)
		}
	}
	return bad, all
}

// What runs has nothing to say against it; what is taken away from it is said, with what to do.
func TestDoctorsOfWhatRuns(t *testing.T) {
	sideBySide(t)
	s, service := newServed(t, database(t))
	folder, scenes := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(scenes, "coda.yaml"), []byte("{}"), 0o600))
	s.agentProcess(bellows, folder, scenes)
	h := &s.house
	h.until("the agent to join", func() bool { _, err := os.Stat(filepath.Join(folder, "credential.json")); return err == nil })

	said, err := s.onTheMachine("doctor", "--output", "json", "--listen", s.listen)
	require.NoError(t, err, said)
	_, all := diagnosed(t, []byte(said))
	assert.Contains(t, all["address"].Found, "a service answers, and is ready")
	assert.Contains(t, all["database"].Found, "PostgreSQL ")
	assert.Contains(t, all["tables"].Found, "as this program has them")
	for _, name := range []string{"database", "tables", "clock", "key of secrets", "pictures", "agent for servers"} {
		assert.Equal(t, "ok", all[name].State, "%s: %s", name, all[name].Found)
	}

	ask := func() ([]byte, error) {
		return exec.Command(filepath.Join(bin, "rotanex-agent"), "doctor", "--output", "json", "--service", s.address, "--host", "bellows",
			"--state-dir", folder, "--scenes", scenes, "--allow", "simulated", "--simulate", filepath.Join(folder, "machine.yaml")).Output()
	}
	out, err := ask()
	require.NoError(t, err, string(out))
	_, all = diagnosed(t, out)
	assert.Equal(t, "as bellows", all["joined"].Found)
	assert.Equal(t, "ok", all["launcher simulated"].State, all["launcher simulated"].Found)

	service.stop()
	out, err = ask()
	require.Error(t, err)
	bad, _ := diagnosed(t, out)
	require.NotEmpty(t, bad)
	assert.Equal(t, "service", bad[0].Name)
	assert.Contains(t, bad[0].Fix, "start the service")

	require.NoError(t, os.WriteFile(filepath.Join(s.blobs, "secrets.key"), make([]byte, 32), 0o600))
	said, err = s.onTheMachine("doctor", "--output", "json", "--listen", s.listen)
	require.Error(t, err)
	bad, _ = diagnosed(t, []byte(said[:len(said)-len("rotanex-service: something does not work: see what to do above\n")]))
	require.Len(t, bad, 1)
	assert.Equal(t, "key of secrets", bad[0].Name)
	assert.Contains(t, bad[0].Fix, "give this service the key file of the others")
}
