package agent

import (
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/launchers"
)

// A renderer stands back as far as the host's owner said.
func TestARendererStandsBack(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	a := &Agent{Config: Config{Nice: 7, Log: slog.New(slog.DiscardHandler)}, factor: 1, jobs: map[int64]*job{}}
	j := &job{agent: a}
	// It waits for a line that never comes until it has been told to stand back.
	script := `while [ "$(nice)" != 7 ]; do read -r -t 1 _ < /dev/null; done; nice > said`
	require.NoError(t, j.run(t.Context(), launchers.Launcher{Name: "shell", Program: "sh"}, []string{"-c", script}, folder, &api.Measured{}))
	said, err := os.ReadFile(filepath.Join(folder, "said"))
	require.NoError(t, err)
	assert.Equal(t, "7", strings.TrimSpace(string(said)))

	assert.EqualError(t, (&Config{Nice: 20}).Validate(), "--nice 20: want 0, as everything else, to 19, behind everything else")
}
