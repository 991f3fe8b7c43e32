package manual_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/manual"
)

func TestPagesOfAllCommands(t *testing.T) {
	t.Parallel()
	to := filepath.Join(t.TempDir(), "man1")
	root := &cobra.Command{Use: "rotanex-clock", Short: "Say what time it is"}
	root.AddCommand(&cobra.Command{Use: "set TIME", Short: "Set it", Example: "  rotanex-clock set 20:00", Run: func(*cobra.Command, []string) {}}, manual.Command())
	root.SetArgs([]string{"manual", to})
	require.NoError(t, root.ExecuteContext(t.Context()))
	pages, err := os.ReadDir(to)
	require.NoError(t, err)
	var names []string
	for _, p := range pages {
		names = append(names, p.Name())
	}
	assert.Contains(t, names, "rotanex-clock.1")
	assert.Contains(t, names, "rotanex-clock-set.1")
	page, err := os.ReadFile(filepath.Join(to, "rotanex-clock-set.1"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "rotanex-clock set 20:00")
	assert.NotContains(t, names, "rotanex-clock-manual.1", "it is not listed")
}
