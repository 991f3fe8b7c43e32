package picture

import (
	"bytes"
	"image"
	"image/color"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/image/tiff"
)

// slope is a picture of sixteen bits, large enough for more than one block.
func slope(width, height int) image.Image {
	img := image.NewNRGBA64(image.Rect(0, 0, width, height))
	for x := range width {
		for y := range height {
			img.SetNRGBA64(x, y, color.NRGBA64{uint16(x * 99), uint16(y * 77), uint16(x * y), 65535})
		}
	}
	return img
}

func TestTIFFIsReadFromItsPlaces(t *testing.T) {
	t.Parallel()
	img := slope(600, 400)
	for name, options := range map[string]*tiff.Options{"plain": nil, "packed": {Compression: tiff.Deflate, Predictor: true}} {
		var file bytes.Buffer
		require.NoError(t, tiff.Encode(&file, img, options))
		data := file.Bytes()
		info, err := Check(bytes.NewReader(data), int64(len(data)), 600, 400)
		require.NoError(t, err, name)
		assert.Equal(t, "tiff", info.Format)
		assert.Equal(t, "image/tiff", info.ContentType())
		f, err := Open(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		got, err := f.Decode(View{})
		require.NoError(t, err)
		for _, p := range []image.Point{{0, 0}, {599, 399}, {300, 7}} {
			assert.Equal(t, img.At(p.X, p.Y), color.NRGBA64Model.Convert(got.At(p.X, p.Y)), "%s %v", name, p)
		}
		_, err = Check(bytes.NewReader(data), int64(len(data)), 600, 401)
		require.ErrorIs(t, err, ErrWrongSize)
		for _, cut := range []int{6, 100, len(data) / 2, len(data) - 400} {
			_, err = Check(bytes.NewReader(data[:cut]), int64(cut), 600, 400)
			require.ErrorIs(t, err, ErrUndecodable, "%s cut to %d", name, cut)
		}
	}
	var flat bytes.Buffer
	require.NoError(t, tiff.Encode(&flat, image.NewGray(image.Rect(0, 0, 8, 8)), nil))
	_, err := Check(bytes.NewReader(flat.Bytes()), int64(flat.Len()), 8, 8)
	require.ErrorIs(t, err, ErrBlank)
	_, err = Open(io.MultiReader(bytes.NewReader(flat.Bytes())), int64(flat.Len()))
	require.ErrorIs(t, err, ErrUndecodable, "no place of it can be read")
	_, err = Open(strings.NewReader("II*\x00\xff\xff\xff\x7f"), 8)
	require.ErrorIs(t, err, ErrUndecodable)
}

// Files as another program writes them: packed in ways of its own, with the directory behind the pixels.
func TestTIFFOfAnotherProgram(t *testing.T) {
	t.Parallel()
	convert, err := exec.LookPath("convert")
	if err != nil {
		t.Skip("ImageMagick is not here")
	}
	folder := t.TempDir()
	var file bytes.Buffer
	require.NoError(t, tiff.Encode(&file, slope(300, 200), nil))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "in.tif"), file.Bytes(), 0o600))
	for _, args := range [][]string{{"-compress", "lzw", "-depth", "8"}, {"-compress", "zip", "-depth", "16"}, {"-compress", "none", "-endian", "MSB"}, {"-compress", "rle", "-depth", "8"}} {
		out := filepath.Join(folder, "out.tif")
		said, err := exec.CommandContext(t.Context(), convert, append(append([]string{filepath.Join(folder, "in.tif")}, args...), out)...).CombinedOutput()
		require.NoError(t, err, "%s", said)
		opened, err := os.Open(out)
		require.NoError(t, err)
		size, err := opened.Stat()
		require.NoError(t, err)
		info, err := Check(opened, size.Size(), 300, 200)
		require.NoError(t, err, "%v", args)
		assert.Equal(t, "tiff", info.Format)
		require.NoError(t, opened.Close())
	}
}
