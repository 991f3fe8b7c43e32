package picture_test

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"

	"rotanex.example/core/picture"
)

func encoded(t *testing.T, width, height int, paint func(x, y int) color.Color) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			img.Set(x, y, paint(x, y))
		}
	}
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, img))
	return out.Bytes()
}

func TestCheck(t *testing.T) {
	flat := encoded(t, 32, 18, func(int, int) color.Color { return color.NRGBA{10, 20, 30, 255} })
	lastPixel := encoded(t, 32, 18, func(x, y int) color.Color {
		return color.NRGBA{uint8(x / 31 * y / 17), 20, 30, 255}
	})
	for name, c := range map[string]struct {
		data          []byte
		width, height int
		want          error
	}{
		"whole":           {lastPixel, 32, 18, nil},
		"any size":        {lastPixel, 0, 0, nil},
		"wrong width":     {lastPixel, 33, 18, picture.ErrWrongSize},
		"wrong height":    {lastPixel, 32, 19, picture.ErrWrongSize},
		"one flat colour": {flat, 32, 18, picture.ErrBlank},
		"half written":    {lastPixel[:len(lastPixel)/2], 32, 18, picture.ErrUndecodable},
		"empty":           {nil, 32, 18, picture.ErrUndecodable},
		"not a picture":   {[]byte("half a frame"), 32, 18, picture.ErrUndecodable},
	} {
		_, err := picture.Check(bytes.NewReader(c.data), c.width, c.height)
		require.ErrorIs(t, err, c.want, name)
	}
}

func FuzzCheck(f *testing.F) {
	f.Add([]byte("\x89PNG\r\n\x1a\n"))
	f.Add(exr(4, 4, "R"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if info, err := picture.Check(bytes.NewReader(data), 4, 4); err == nil {
			require.Equal(t, image.Pt(4, 4), image.Pt(info.Width, info.Height))
		}
	})
}
