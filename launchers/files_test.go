package launchers_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/launchers"
)

const withFiles = `format: rotanex-launcher-1
name: x
program: y
args: ['{first}', '{last}', '{folder}']
several: {finished: '^done'}
picture: 'beauty/shot.{frame:4}.exr'
files:
  layers: {path: 'layers/{name}.{frame:4}.exr', kind: picture}
  stats: {path: '{frame}/stats.json', kind: json, optional: true}
  matte: {path: 'layers/matte.{frame:4}.exr', kind: picture, optional: true}
`

// folderWith has files in a new folder.
func folderWith(t *testing.T, files ...string) string {
	t.Helper()
	folder := t.TempDir()
	for _, f := range files {
		path := filepath.Join(folder, filepath.FromSlash(f))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(f), 0o600))
	}
	return folder
}

func TestWhatARendererWroteForAFrame(t *testing.T) {
	t.Parallel()
	l, err := launchers.Parse([]byte(withFiles))
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"beauty", "layers", "7", "12"}, l.Folders([]int{7, 12}))
	folder := folderWith(t, "beauty/shot.0007.exr", "beauty/shot.0012.exr", "layers/depth.0007.exr", "layers/N.0007.exr", "layers/matte.0007.exr", "layers/depth.0012.exr",
		"12/stats.json", "layers/depth.12.exr", "inputs/layers.0007.exr", "notes.txt")
	at, found := l.PictureOf(folder, 7)
	assert.True(t, found)
	assert.Equal(t, "beauty/shot.0007.exr", at)
	_, found = l.PictureOf(folder, 8)
	assert.False(t, found)

	say := func(frame int, wants ...string) string {
		all, err := l.Written(folder, frame, wants)
		out := ""
		for _, f := range all {
			out += fmt.Sprintf("%s=%s(%s,%s) ", f.Name, f.Path, f.Kind, f.Ending)
		}
		if err != nil {
			out += err.Error()
		}
		return out
	}
	assert.Equal(t, "depth=layers/depth.0007.exr(picture,exr) matte=layers/matte.0007.exr(picture,exr) N=layers/N.0007.exr(picture,exr) ", say(7))
	assert.Equal(t, "depth=layers/depth.0012.exr(picture,exr) stats=12/stats.json(json,json) ", say(12, "stats"))
	assert.Contains(t, say(12, "matte"), `no file of "matte", which the shot asks for`)
	assert.Contains(t, say(8), `no file of "layers", which its launcher says is layers/{name}.{frame:4}.exr`)
}

func TestTwoFilesOfOneName(t *testing.T) {
	t.Parallel()
	l, err := launchers.Parse([]byte(strings.ReplaceAll(withFiles, "{frame}/stats.json', kind: json", "aside/{name}.{frame}.json', kind: json")))
	require.NoError(t, err)
	_, err = l.Written(folderWith(t, "layers/depth.0007.exr", "layers/Zed.0007.exr", "aside/Depth.7.json"), 7, nil)
	require.ErrorContains(t, err, `aside/Depth.7.json and layers/depth.0007.exr would both be "depth"`)
	_, err = l.Written(folderWith(t, "layers/picture.0007.exr"), 7, nil)
	require.ErrorContains(t, err, `layers/picture.0007.exr: "picture"`)
}

// A renderer's one frame may have files without its number; none of it is looked at that nobody declared.
func TestFilesOfARendererOfOneFrame(t *testing.T) {
	t.Parallel()
	l, err := launchers.Parse([]byte("format: rotanex-launcher-1\nname: x\nprogram: y\nargs: ['{frame}', '{output}']\nfiles: {notes: {path: notes.txt, kind: text}}\n"))
	require.NoError(t, err)
	all, err := l.Written(folderWith(t, "frame.png", "notes.txt", "core"), 3, nil)
	require.NoError(t, err)
	assert.Equal(t, []launchers.Written{{Name: "notes", Kind: "text", Ending: "txt", Path: "notes.txt"}}, all)
	assert.Empty(t, l.Folders([]int{3}))
	all, err = launchers.Launcher{}.Written("", 3, nil)
	require.NoError(t, err)
	assert.Empty(t, all)
	_, err = launchers.Launcher{}.Written(t.TempDir(), 3, []string{"depth"})
	require.ErrorContains(t, err, "depth")
}

func TestParseSaysWhatIsWrongWithFiles(t *testing.T) {
	t.Parallel()
	for change, want := range map[string]string{
		"path: 'layers/{name}.{frame:4}.exr'=>path: '../{name}.{frame:4}.exr'":     "below the folder",
		"path: 'layers/{name}.{frame:4}.exr'=>path: 'layers/{name}.exr'":           "want {frame} in it",
		"path: 'layers/{name}.{frame:4}.exr'=>path: '{name}/{frame:4}.exr'":        "last part alone",
		"path: 'layers/{name}.{frame:4}.exr'=>path: '{name}{name}.{frame:4}.exr'":  "last part alone",
		"path: 'layers/{name}.{frame:4}.exr'=>path: 'layers/{shot}.{frame:4}.exr'": "no placeholder {shot}",
		"path: 'layers/{name}.{frame:4}.exr'=>path: 'layers/{name}.{frame:4}'":     "ending",
		"kind: json=>kind: film": `kind "film": want picture, json, text, data`,
		"layers: {=>picture: {":  `"picture"`,
		"picture: 'beauty/shot.{frame:4}.exr'=>picture: 'beauty/shot.exr'":         "want {frame} in it",
		"picture: 'beauty/shot.{frame:4}.exr'=>picture: 'beauty/{name}.{frame}.x'": "no placeholder {name}",
		"several: {=>several: {files: '(?P<frame>1)', ":                            "not both",
		"several: {finished: '^done'}=>stays_open: {}":                             "leave picture out",
	} {
		old, text, _ := strings.Cut(change, "=>")
		require.Contains(t, withFiles, old)
		_, err := launchers.Parse([]byte(strings.Replace(withFiles, old, text, 1)))
		assert.ErrorContains(t, err, want, change)
	}
}

// Whatever a renderer calls its files, what is found is of that frame, below the folder, and has names that are different.
func TestNoFileIsAnotherFrames(t *testing.T) {
	t.Parallel()
	l, err := launchers.Parse([]byte(withFiles))
	require.NoError(t, err)
	part := rapid.StringMatching(`[A-Za-z0-9_-]{1,6}`)
	rapid.Check(t, func(t *rapid.T) {
		folder, err := os.MkdirTemp("", "files-*")
		require.NoError(t, err)
		defer func() { _ = os.RemoveAll(folder) }()
		require.NoError(t, os.MkdirAll(filepath.Join(folder, "layers"), 0o700))
		for range rapid.IntRange(1, 6).Draw(t, "files") {
			name := fmt.Sprintf("layers/%s.%04d.exr", part.Draw(t, "name"), rapid.IntRange(-2, 12).Draw(t, "frame"))
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), nil, 0o600))
		}
		frame := rapid.IntRange(-2, 12).Draw(t, "asked")
		all, err := l.Written(folder, frame, nil)
		if err != nil {
			return
		}
		names := map[string]bool{}
		for _, f := range all {
			assert.Regexp(t, "^layers/"+regexp.QuoteMeta(f.Name)+fmt.Sprintf(`\.%04d\.exr$`, frame), f.Path)
			assert.False(t, names[strings.ToLower(f.Name)], f.Name)
			names[strings.ToLower(f.Name)] = true
		}
	})
}
