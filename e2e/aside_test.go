package e2e

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"rotanex.example/api"
)

// A host whose folder cannot be written to sets itself aside, burns no frame, and takes work again when that is fixed.
func TestAHostThatCannotWriteBurnsNoFrame(t *testing.T) {
	s, _ := newServed(t, database(t))
	folder, films := t.TempDir(), scenes(t)
	s.agentProcess(bellows, folder, films)
	s.agentProcess(eddy, t.TempDir(), films)
	s.putShot("coda-060", "1-24", nil)
	s.bothUp()
	s.timed("coda-060", "bellows/g0", "bellows/g1", "eddy/g0")
	_, run := s.started(20*time.Second, "coda-060")
	s.until("some frames to be done", func() bool { return s.run(run).Counts.Done >= 2 })
	work := filepath.Join(folder, "work")
	// In one step: a folder that is not there is made anew, and who was rendering in it is to blame.
	file := filepath.Join(folder, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, unix.Renameat2(unix.AT_FDCWD, file, unix.AT_FDCWD, work, unix.RENAME_EXCHANGE))
	host := func() api.Host { return must[api.Host](t)(s.admin().GetHost(t.Context(), "bellows")) }
	s.until("bellows to set itself aside", func() bool { return host().Trouble != "" })
	assert.Contains(t, host().Trouble, "cannot be written to: not a directory")
	why := must[api.HostWhy](t)(s.admin().WhyHost(t.Context(), "bellows"))
	assert.Contains(t, why.Answer, "it has set itself aside, and takes work again by itself")
	s.completes(run)
	assert.Zero(t, query[int](t, s.database, "SELECT count(*) FROM tries WHERE run_id = $1 AND outcome = 'failed'", run.Id), "no frame is to blame")

	require.NoError(t, os.Remove(work))
	s.until("bellows to take work again", func() bool { return host().Trouble == "" })
}
