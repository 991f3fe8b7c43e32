package agent

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// Files of named roots are found where this host has them, and nothing beside them.
func TestFilesLieBelowRoots(t *testing.T) {
	t.Parallel()
	scenes, project := t.TempDir(), t.TempDir()
	written := func(folder, name string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		return path
	}
	own, shared := written(scenes, "coda.yaml"), written(project, "orrery/orrery.pov")
	outside := written(t.TempDir(), "secret")
	require.NoError(t, os.Symlink(outside, filepath.Join(project, "link")))
	c := Config{Scenes: scenes, Roots: map[string]string{"project": project}}
	s := &start{agent: &Agent{Config: c}}
	found, err := s.files(t.Context(), "coda.yaml", "project:orrery/orrery.pov")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"coda.yaml": own, "project:orrery/orrery.pov": shared}, found)
	for name, says := range map[string]string{
		"project:fog.vdb": "no such file", "textures:brass.png": `no root "textures": start its agent with --root textures=FOLDER`,
		"project:../secret": "below the folder", "project:link": "escapes",
	} {
		_, err := s.files(t.Context(), name)
		assert.ErrorContains(t, err, says, name)
	}
	assert.Equal(t, []string{"project:fog.vdb", "textures:brass.png", "project:link", "orrery/orrery.pov"},
		c.missing(t.Context(), []string{"coda.yaml", "project:orrery/orrery.pov", "project:fog.vdb", "textures:brass.png", "project:link", "orrery/orrery.pov"}))

	// In a package they lie in a folder of the root's name.
	packed := t.TempDir()
	in := written(packed, "project/orrery/orrery.pov")
	over := make(chan struct{})
	close(over)
	l := api.Lease{Shot: "orrery-010", Package: true}
	s = &start{agent: &Agent{Config: c}, of: l}
	s.agent.packages.here = map[string]*fetching{l.Run.String() + "-orrery-010": {done: over, root: packed}}
	found, err = s.files(t.Context(), "project:orrery/orrery.pov")
	require.NoError(t, err)
	assert.Equal(t, in, found["project:orrery/orrery.pov"])
}

func TestRootsAreNamed(t *testing.T) {
	t.Parallel()
	for name, folder := range map[string]string{"P": "/mnt", "Project": "/mnt", "project": "", "a b": "/mnt"} {
		assert.ErrorContains(t, (&Config{Roots: map[string]string{name: folder}}).validateRoots(), "--root", name)
	}
	assert.NoError(t, (&Config{Roots: map[string]string{"project": "/mnt/project"}}).validateRoots())
}
