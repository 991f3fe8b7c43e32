package agent

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestInputsAreLookedForBesideTheHeartbeats(t *testing.T) {
	t.Parallel()
	scenes := filepath.Join(t.TempDir(), "scenes")
	require.NoError(t, os.Mkdir(scenes, 0o700))
	ctx, stop := context.WithCancel(t.Context())
	i, told, over := newInputs(), make(chan struct{}), make(chan struct{})
	found := func() {
		select {
		case told <- struct{}{}:
		case <-ctx.Done():
		}
	}
	go func() { defer close(over); i.look(ctx, (&Config{Scenes: scenes}).missing, time.Millisecond, found) }()
	state := func() (string, []string) { <-told; return i.looked() }

	sum, missing := i.looked()
	assert.Empty(t, sum, "nobody has asked for anything")
	assert.Empty(t, missing)
	require.NoError(t, os.WriteFile(filepath.Join(scenes, "coda.yaml"), nil, 0o600))
	i.want([]string{"coda.yaml", "fog.vdb", "../outside"}, "three")
	sum, missing = state()
	assert.Equal(t, "three", sum)
	assert.Equal(t, []string{"fog.vdb", "../outside"}, missing)
	require.NoError(t, os.WriteFile(filepath.Join(scenes, "fog.vdb"), nil, 0o600))
	_, missing = state()
	assert.Equal(t, []string{"../outside"}, missing, "what is copied there is seen")
	i.want([]string{}, "none")
	sum, missing = state()
	assert.Equal(t, "none", sum)
	assert.Empty(t, missing)
	i.want([]string{"coda.yaml"}, "one")
	_, missing = state()
	assert.Empty(t, missing)
	require.NoError(t, os.RemoveAll(scenes))
	_, missing = state()
	assert.Equal(t, []string{"coda.yaml"}, missing, "the folder itself is gone")
	stop()
	<-over
}

func TestALookEndsWithItsAgent(t *testing.T) {
	t.Parallel()
	ctx, stop := context.WithCancel(t.Context())
	stop()
	assert.Empty(t, (&Config{Scenes: t.TempDir()}).missing(ctx, []string{"coda.yaml"}), "nothing is said of what was not looked for")
}
