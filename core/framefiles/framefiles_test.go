package framefiles

import (
	"bytes"
	"encoding/json"
	"errors"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func drawn(t *testing.T, width, height int, lit bool) string {
	t.Helper()
	img := image.NewGray(image.Rect(0, 0, width, height))
	if lit {
		img.Set(1, 1, color.White)
	}
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, img))
	return out.String()
}

func TestEachKindIsChecked(t *testing.T) {
	t.Parallel()
	whole := drawn(t, 8, 4, true)
	for _, x := range []struct {
		kind, text string
		wrong      string // "" for nothing
	}{
		{Picture, whole, ""},
		{Picture, drawn(t, 8, 4, false), ""},
		{Picture, drawn(t, 4, 4, true), "4x4"},
		{Picture, whole[:len(whole)-20], "decode"},
		{Picture, "no picture", "decode"},
		{JSON, `{"rays": 12, "of": [1, {"a": null}]}` + "\n", ""},
		{JSON, `"a word"`, ""},
		{JSON, `{"rays": 12`, "too early"},
		{JSON, ` `, "too early"},
		{JSON, `{} {}`, "more than one"},
		{JSON, `{"rays": 1,}`, "JSON"},
		{JSON, `nothing`, "JSON"},
		{Text, "grüße\n", ""},
		{Text, "a\xffb", "byte 1"},
		{Text, "a\x00", "byte 1"},
		{Data, "\x00\xff", ""},
		{Data, "", "empty"},
		{"film", "x", "kind"},
	} {
		err := Check(x.kind, strings.NewReader(x.text), int64(len(x.text)), 8, 4)
		if x.wrong == "" {
			assert.NoError(t, err, "%s %.20q", x.kind, x.text)
			continue
		}
		require.ErrorIs(t, err, ErrUnfit, "%s %.20q", x.kind, x.text)
		assert.ErrorContains(t, err, x.wrong)
	}
}

// What cannot be read is not the file's fault.
func TestAReadThatFailsIsNoUnfitFile(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{JSON, Text} {
		err := Check(kind, failing{}, 9, 8, 4)
		require.Error(t, err)
		assert.NotErrorIs(t, err, ErrUnfit)
	}
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("the disk is gone") }

func TestJSONIsWhatADecoderTakes(t *testing.T) {
	t.Parallel()
	pieces := rapid.SliceOfN(rapid.SampledFrom([]string{"{", "}", "[", "]", ",", ":", `"a"`, "1", "null", " "}), 1, 9)
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(pieces.Draw(t, "pieces"), "")
		err := Check(JSON, strings.NewReader(text), int64(len(text)), 0, 0)
		assert.Equal(t, json.Valid([]byte(text)), err == nil, "%q: %v", text, err)
	})
}

func TestNames(t *testing.T) {
	t.Parallel()
	for _, good := range []string{"depth", "N", "crypto_00", "light-key"} {
		assert.NoError(t, ValidName(good))
	}
	for _, bad := range []string{"", "picture", "Picture", "-x", "../x", "a.b", "a/b", strings.Repeat("x", 61), "ü"} {
		assert.Error(t, ValidName(bad), bad)
	}
	assert.NoError(t, ValidEnding("exr"))
	assert.Error(t, ValidEnding("e/r"))
}
