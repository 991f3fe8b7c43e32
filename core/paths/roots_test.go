package paths

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAFileMayLieBelowANamedRoot(t *testing.T) {
	t.Parallel()
	for name, want := range map[string][3]string{
		"orrery/orrery.pov":            {"", "orrery/orrery.pov", "orrery/orrery.pov"},
		"project:orrery/orrery.pov":    {"project", "orrery/orrery.pov", "project/orrery/orrery.pov"},
		"textures-2:brass.png":         {"textures-2", "brass.png", "textures-2/brass.png"},
		"storm/10:30.yaml":             {"", "storm/10:30.yaml", "storm/10:30.yaml"},
		"Project:upper-case/is-a-file": {"", "Project:upper-case/is-a-file", "Project:upper-case/is-a-file"},
	} {
		root, below, err := Rooted(name)
		require.NoError(t, err, name)
		assert.Equal(t, want, [3]string{root, below, InPackage(name)}, name)
	}
	for _, name := range []string{"project:", "project:/etc/passwd", "project:../secret", "project:a/../../b", "project:a\\b", "../x", ""} {
		_, _, err := Rooted(name)
		assert.Error(t, err, name)
	}
	require.NoError(t, RootName("project"))
	for _, name := range []string{"", "p", "P", "pro ject", "a:b", "project:", "../x"} {
		assert.Error(t, RootName(name), name)
	}
}
