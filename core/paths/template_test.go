package paths_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/paths"
)

func TestTemplatesNameFiles(t *testing.T) {
	t.Parallel()
	values := map[string]string{"shot": "lamp-040", "frame": "7", "ext": "png"}
	for text, want := range map[string]string{
		"{shot}/{shot}.{frame:4}.{ext}": "lamp-040/lamp-040.0007.png",
		"{frame}.{ext}":                 "7.png",
		"a//b/./{frame:2}":              "a/b/07",
		"{shot}":                        "lamp-040",
	} {
		tpl, err := paths.ParseTemplate(text, "shot", "frame", "ext")
		require.NoError(t, err)
		got, err := tpl.Fill(values)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, shot := range []string{"a/b", "..", "", "a\\b", "a\nb", "/etc"} {
		tpl, err := paths.ParseTemplate("x", "shot")
		require.NoError(t, err)
		_, err = tpl.Fill(map[string]string{"shot": shot})
		assert.ErrorContains(t, err, "no name of a file")
	}
	tpl, err := paths.ParseTemplate("{frame:4}", "frame")
	require.NoError(t, err)
	got, err := tpl.Fill(map[string]string{"frame": "-12"})
	require.NoError(t, err)
	assert.Equal(t, "-0012", got)
	for text, want := range map[string]string{
		"{layer}": "no placeholder {layer}; there are {shot}, {frame}", "{frame:x}": "want 1 to 12 digits", "{frame:0}": "want 1 to 12 digits", "{frame": "not closed", "a}": "not closed",
	} {
		_, err := paths.ParseTemplate(text, "shot", "frame")
		assert.ErrorContains(t, err, want, text)
	}
	for _, text := range []string{"../{shot}", "/{shot}", "{shot}/../../x", "", "."} {
		tpl, err := paths.ParseTemplate(text, "shot")
		require.NoError(t, err)
		_, err = tpl.Fill(values)
		assert.Error(t, err, text)
	}
}
