package paths_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/paths"
)

func TestWhatMayBecomeAPath(t *testing.T) {
	for _, good := range []string{"a", "orrery/orrery.pov", "a b/ü.tex", "..a", "a../b", ".hidden", strings.Repeat("x", 255)} {
		assert.NoError(t, paths.Below(good), good)
	}
	for _, bad := range []string{
		"", ".", "..", "/etc/passwd", "../evil", "a/../../evil", "a/../b", "./a", "a/", "a//b", "a\x00b", "a\nb", "a\x1b[31m", `a\b`, `..\evil`, "\xff", strings.Repeat("x", 256), strings.Repeat("x/", 600) + "x", "a\u0085b",
	} {
		assert.Error(t, paths.Below(bad), bad)
	}
}

func TestFilesDoNotLieInEachOther(t *testing.T) {
	var s paths.Set
	require.NoError(t, s.Add("a/b"))
	require.NoError(t, s.Add("a/c/d"))
	for name, why := range map[string]string{"a/b": "twice", "a": "a folder", "a/c": "a folder", "a/b/c": "a/b, which is a file", "a/b/c/d/e": "a/b, which is a file"} {
		assert.ErrorContains(t, s.Add(name), why, name)
	}
	assert.True(t, s.Has("a/b"))
	assert.False(t, s.Has("a"))

	assert.Error(t, s.Add("a/b/c/d"))
	assert.ErrorContains(t, s.Add("a/b/c"), "a/b, which is a file", "what was refused made no folder")
}

// Whatever is taken lies below its folder, and can be written there.
func FuzzBelow(f *testing.F) {
	f.Add("a/b")
	f.Add("../evil")
	f.Fuzz(func(t *testing.T, name string) {
		if paths.Below(name) != nil {
			return
		}
		assert.True(t, filepath.IsLocal(filepath.FromSlash(name)), name)
		root, err := os.OpenRoot(t.TempDir())
		require.NoError(t, err)
		defer func() { _ = root.Close() }()
		require.NoError(t, root.MkdirAll(filepath.Dir(name), 0o700))
		require.NoError(t, root.WriteFile(name, nil, 0o600))
	})
}

// The files of a package are taken as far as they can lie side by side.
func ExampleSet() {
	var s paths.Set
	for _, name := range []string{"orrery/orrery.pov", "orrery", "../../etc/passwd"} {
		fmt.Println(s.Add(name))
	}
	// Output:
	// <nil>
	// is a folder of another file
	// want a path below the folder, in its shortest form, such as orrery/orrery.pov
}
