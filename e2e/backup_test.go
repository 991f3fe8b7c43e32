package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/service/testdb"
)

// service calls the service's program on the machine itself, at this house's places.
func (s *served) onTheMachine(args ...string) (string, error) {
	args = append(args, "--database-url", s.database, "--blobs", s.blobs, "--key-file", filepath.Join(s.blobs, "secrets.key"))
	said, err := exec.Command(filepath.Join(bin, "rotanex-service"), args...).CombinedOutput()
	return string(said), err
}

// A service moves house in the middle of a run: what was backed up is restored elsewhere, agents go on with what they have, and
// every frame is done once, those again that were done after the backup.
func TestAServiceIsRestoredFromItsBackup(t *testing.T) {
	// So heavy that it is not done before the backup is.
	s, service, _, _, run := underWayWith(t, database(t), map[string]string{"samples": "2048"}, 320*time.Second)
	to := t.TempDir()
	said, err := s.onTheMachine("backup", "--to", to)
	require.NoError(t, err, said)
	assert.Contains(t, said, "Written and checked")
	before := s.run(run).Counts.Done
	s.until("more frames to be done", func() bool { return s.run(run).Counts.Done >= before+2 })
	service.stop()

	// Nothing is written over.
	said, err = s.onTheMachine("restore", "--from", to)
	require.Error(t, err)
	assert.Contains(t, said, "restore into a new one")

	s.database, s.blobs = testdb.Empty(t), t.TempDir()
	said, err = s.onTheMachine("restore", "--from", to)
	require.NoError(t, err, said)
	s.serve()
	s.completes(run)
	for n := 1; n <= 24; n++ {
		require.NoError(t, client.Check(s.admin().GetPicture(t.Context(), run.Id, "coda-060", n, &api.GetPictureParams{})), "frame %d", n)
	}

	// What is not whole is not restored, nor is anything of it.
	dump := filepath.Join(to, "database.dump")
	data, err := os.ReadFile(dump)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dump, data[:len(data)-100], 0o600))
	s.database = testdb.Empty(t)
	said, err = s.onTheMachine("restore", "--from", to)
	require.Error(t, err)
	assert.Contains(t, said, "it is not whole")
	assert.Zero(t, query[int](t, s.database, "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'"))
}
