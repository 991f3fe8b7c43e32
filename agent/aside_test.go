package agent

import (
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An agent whose folder cannot be written to takes nothing until it can.
func TestAnAgentThatCannotWriteSetsItselfAside(t *testing.T) {
	a := &Agent{beatNow: make(chan struct{}, 1)}
	a.StateDir, a.Log = t.TempDir(), slog.New(slog.DiscardHandler)
	work, now := filepath.Join(a.StateDir, "work"), time.Now()
	assert.Empty(t, a.works(now))
	left, err := os.ReadDir(work)
	require.NoError(t, err)
	assert.Empty(t, left, "what was tried with is gone")

	require.NoError(t, os.Remove(work))
	require.NoError(t, os.WriteFile(work, nil, 0o600))
	assert.Empty(t, a.works(now.Add(time.Second)), "it is not tried all the time")
	a.doubt()
	why := work + " cannot be written to: not a directory"
	assert.Equal(t, why, a.works(now.Add(2*time.Second)))
	assert.Equal(t, why, a.aside())
	assert.Len(t, a.beatNow, 1, "the service is told at once")

	require.NoError(t, os.Remove(work))
	assert.Empty(t, a.works(now.Add(3*time.Second)), "what did not work is tried each time")
	assert.Empty(t, a.aside())
}
