package results

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/paths"
)

func frame(shot, of, pass string, n int, beside ...string) Frame {
	f := Frame{Shot: shot, PassOf: of, Pass: pass, Number: n, Files: []File{{Ending: "exr", SHA256: fmt.Sprintf("%s%d", shot, n)}}}
	for _, name := range beside {
		f.Files = append(f.Files, File{Name: name, Ending: "json"})
	}
	return f
}

// named are the paths by a template and names, or what is wrong.
func named(frames []Frame, template, files string) string {
	t, err := paths.ParseTemplate(template, Holes...)
	if err != nil {
		return err.Error()
	}
	wanted, err := ParseWanted(files)
	if err != nil {
		return err.Error()
	}
	all, err := Name(frames, t, wanted)
	if err != nil {
		return err.Error()
	}
	out := make([]string, len(all))
	for i, f := range all {
		out[i] = f.Path
	}
	return strings.Join(out, " ")
}

func TestFilesAreNamedByATemplate(t *testing.T) {
	t.Parallel()
	all := []Frame{frame("lamp-040", "", "", 7), frame("lamp-040", "", "", 12, "stats"), frame("stair-030.beauty", "stair-030", "beauty", 7), frame("stair-030.composite", "stair-030", "composite", 7)}
	for _, x := range [][3]string{
		{UsualName, "all", "lamp-040/lamp-040.0007.exr lamp-040/lamp-040.0012.exr lamp-040/stats/lamp-040.0012.json stair-030/beauty/stair-030.0007.exr stair-030/composite/stair-030.0007.exr"},
		{UsualName, "stats", "lamp-040/stats/lamp-040.0012.json"},
		{"{pass}/{shot}.{frame}.{ext}", "none", "lamp-040.7.exr lamp-040.12.exr beauty/stair-030.7.exr composite/stair-030.7.exr"},
		{"{shot}_v003{pass}{file}.{frame}.{ext}", "picture,stats", "lamp-040_v003.7.exr lamp-040_v003.12.exr lamp-040_v003stats.12.json stair-030_v003beauty.7.exr stair-030_v003composite.7.exr"},
		{"{shot}.{frame}.{ext}", "none", "frame 7 of stair-030.composite would be the file stair-030.7.exr, which is another one's or in its way"},
		{"a{pass}.{frame}.x", "all", "stats of frame 12 of lamp-040 would be the file a.12.x"},
		{"{frame}", "none", "frame 7 of stair-030.beauty would be the file 7"},
		{"../{shot}", "all", "want a path below the folder"},
		{"sha256sums", "all", "that is the file of checksums"},
		{"{layer}", "all", "no placeholder {layer}"},
		{UsualName, "depth", `no finished frame has a file "depth"; there are picture, stats`},
		{UsualName, "a/b", "want at most 60 letters"},
		{UsualName, "", "want at most 60 letters"},
	} {
		assert.Contains(t, named(all, x[0], x[1]), x[2], "%s %s", x[0], x[1])
	}
}

func TestEachFolderHasItsManifest(t *testing.T) {
	t.Parallel()
	template, err := paths.ParseTemplate("{shot}/{frame}.{ext}", Holes...)
	require.NoError(t, err)
	all, err := Name([]Frame{frame("a", "", "", 1), frame("a", "", "", 2), frame("b", "", "", 1)}, template, nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a/": "a1  1.exr\na2  2.exr\n", "b/": "b1  1.exr\n"}, Manifests(all))
	assert.Empty(t, Manifests(nil))
}

// Whatever the template, what is named has one path each, below the folder, whichever letters a disk tells apart.
func TestNoTwoFilesAreOne(t *testing.T) {
	t.Parallel()
	piece := rapid.SampledFrom([]string{"{shot}", "{pass}", "{file}", "{frame}", "{frame:4}", "{ext}", "/", ".", "..", "_v1", "A"})
	rapid.Check(t, func(t *rapid.T) {
		template := strings.Join(rapid.SliceOfN(piece, 1, 6).Draw(t, "template"), "")
		parsed, err := paths.ParseTemplate(template, Holes...)
		require.NoError(t, err)
		var all []Frame
		for range rapid.IntRange(1, 5).Draw(t, "frames") {
			all = append(all, frame(rapid.SampledFrom([]string{"a", "A", "b"}).Draw(t, "shot"), "", rapid.SampledFrom([]string{"", "p"}).Draw(t, "pass"), rapid.IntRange(-1, 3).Draw(t, "n"),
				rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"d", "m"}), 0, 2, rapid.ID[string]).Draw(t, "files")...))
		}
		out, err := Name(all, parsed, nil)
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, f := range out {
			require.NoError(t, paths.Below(f.Path))
			require.False(t, seen[strings.ToLower(f.Path)], f.Path)
			seen[strings.ToLower(f.Path)] = true
		}
	})
}
