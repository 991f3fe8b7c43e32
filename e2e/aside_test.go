package e2e

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
	// Renderers write into it meanwhile.
	s.until("the folder to be a file", func() bool { return os.RemoveAll(work) == nil && os.WriteFile(work, nil, 0o600) == nil })
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
