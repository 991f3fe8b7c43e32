package picture_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"runtime"
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
		_, err := picture.Check(bytes.NewReader(c.data), int64(len(c.data)), c.width, c.height)
		require.ErrorIs(t, err, c.want, name)
	}
}

// claims is a PNG file whose head says a size and whose pixels are not there.
func claims(width, height uint32, depth byte) []byte {
	head := binary.BigEndian.AppendUint32([]byte("IHDR"), width)
	head = append(binary.BigEndian.AppendUint32(head, height), depth, 6, 0, 0, 0)
	out := binary.BigEndian.AppendUint32([]byte("\x89PNG\r\n\x1a\n"), 13)
	out = binary.BigEndian.AppendUint32(append(out, head...), crc32.ChecksumIEEE(head))
	return append(out, "\x00\x00\x00\x00IDAT\x35\xaf\x06\x1e\x00\x00\x00\x00IEND\xae\x42\x60\x82"...)
}

// What a file says of its size is held against what is wanted, and against how many bytes it has, before
// anything is made room for.
func TestNothingIsDecodedThatCannotBeRight(t *testing.T) {
	for name, c := range map[string]struct {
		file          []byte
		width, height int
		want          error
	}{
		"another size":           {claims(16000, 16000, 16), 32, 18, picture.ErrWrongSize},
		"more than is decoded":   {claims(60000, 60000, 16), 60000, 60000, picture.ErrWrongSize},
		"of any size":            {claims(60000, 60000, 16), 0, 0, picture.ErrWrongSize},
		"more than its bytes":    {claims(8000, 8000, 16), 8000, 8000, picture.ErrUndecodable},
		"more than can be meant": {claims(1<<31-1, 1<<31-1, 16), 0, 0, picture.ErrUndecodable},
	} {
		f, err := picture.Open(bytes.NewReader(c.file), int64(len(c.file)))
		if err == nil {
			var m1, m2 runtime.MemStats
			runtime.ReadMemStats(&m1)
			_, err = f.Check(c.width, c.height)
			runtime.ReadMemStats(&m2)
			require.Less(t, m2.TotalAlloc-m1.TotalAlloc, uint64(1<<20), name)
		}
		require.ErrorIs(t, err, c.want, name)
	}
}

func FuzzCheck(f *testing.F) {
	f.Add([]byte("\x89PNG\r\n\x1a\n"))
	f.Add(exr(4, 4, "R"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if info, err := picture.Check(bytes.NewReader(data), int64(len(data)), 4, 4); err == nil {
			require.Equal(t, image.Pt(4, 4), image.Pt(info.Width, info.Height))
		}
	})
}
