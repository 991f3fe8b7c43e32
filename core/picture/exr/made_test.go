package exr_test

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"image"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/picture/exr"
)

// made is a plain file of floats: at says the value of each channel at a place of the data window.
func made(window, display image.Rectangle, channels []string, at func(channel string, x, y int) float32) []byte {
	le := binary.LittleEndian
	numbers := func(v ...int) (out []byte) {
		for _, n := range v {
			out = le.AppendUint32(out, uint32(n))
		}
		return out
	}
	out := numbers(20000630, 2)
	attribute := func(name, kind string, value []byte) {
		out = append(append(out, name+"\x00"+kind+"\x00"...), le.AppendUint32(nil, uint32(len(value)))...)
		out = append(out, value...)
	}
	box := func(r image.Rectangle) []byte { return numbers(r.Min.X, r.Min.Y, r.Max.X-1, r.Max.Y-1) }
	var list []byte
	for _, c := range channels {
		list = append(append(list, c+"\x00"...), numbers(2, 0, 1, 1)...)
	}
	attribute("channels", "chlist", append(list, 0))
	attribute("compression", "compression", []byte{0})
	attribute("dataWindow", "box2i", box(window))
	attribute("displayWindow", "box2i", box(display))
	out = append(out, 0)
	size := 4 * window.Dx() * len(channels)
	first := len(out) + 8*window.Dy()
	for y := range window.Dy() {
		out = le.AppendUint64(out, uint64(first+y*(8+size)))
	}
	for y := window.Min.Y; y < window.Max.Y; y++ {
		out = append(out, numbers(y, size)...)
		for _, c := range channels {
			for x := window.Min.X; x < window.Max.X; x++ {
				out = le.AppendUint32(out, math.Float32bits(at(c, x, y)))
			}
		}
	}
	return out
}

func grey(_ string, x, y int) float32 { return float32(x+y) / 64 }

func TestLayersAreFound(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		channels, layers []string
		shown            int // channels of the main one
	}{
		{[]string{"A", "B", "G", "R"}, []string{""}, 3},
		{[]string{"Y"}, []string{""}, 1},
		{[]string{"B", "G", "R", "Z", "id"}, []string{"", "Z", "id"}, 3},
		{[]string{"N.X", "N.Y", "N.Z", "b.diffuse.B", "b.diffuse.G", "b.diffuse.R", "depth.Z", "v.U", "v.V"}, []string{"N", "b.diffuse", "depth.Z", "v"}, 3},
		{[]string{"occlusion"}, []string{"occlusion"}, 1},
		{[]string{"ao.blue", "ao.green", "ao.red", "R", "G", "B"}, []string{"", "ao"}, 3},
	} {
		f := open(t, made(image.Rect(0, 0, 4, 4), image.Rect(0, 0, 4, 4), c.channels, grey))
		var names []string
		for _, l := range f.Layers() {
			names = append(names, l.Name)
		}
		assert.Equal(t, c.layers, names, c.channels)
		main, ok := f.Layer("")
		assert.True(t, ok)
		assert.Len(t, main.Shown, c.shown, c.channels)
	}
	_, ok := open(t, made(image.Rect(0, 0, 4, 4), image.Rect(0, 0, 4, 4), []string{"Y"}, grey)).Layer("gone")
	assert.False(t, ok)
}

func TestASurveyFindsWhatIsNoNumberAndWhatIsFlat(t *testing.T) {
	t.Parallel()
	whole := image.Rect(0, 0, 8, 4)
	for name, c := range map[string]struct {
		window image.Rectangle
		at     func(channel string, x, y int) float32
		want   exr.Survey
	}{
		"a picture":                  {whole, grey, exr.Survey{Read: true}},
		"one flat colour":            {whole, func(c string, _, _ int) float32 { return float32(len(c)) }, exr.Survey{Flat: true, Read: true}},
		"a flat part of it":          {image.Rect(2, 2, 4, 4), func(string, int, int) float32 { return 1 }, exr.Survey{Read: true}},
		"nothing":                    {image.Rect(2, 2, 4, 4), func(string, int, int) float32 { return 0 }, exr.Survey{Flat: true, Read: true}},
		"one other value at the end": {whole, func(_ string, x, y int) float32 { return float32(x / 7 * y / 3) }, exr.Survey{Read: true}},
		"some that are no numbers": {whole, func(c string, x, y int) float32 {
			if c == "R" && x == 3 {
				return []float32{float32(math.NaN()), float32(math.Inf(1)), float32(math.Inf(-1)), 65504}[y]
			}
			return grey(c, x, y)
		}, exr.Survey{Read: true, NotFinite: 3}},
	} {
		got, err := open(t, made(c.window, whole, []string{"B", "G", "R"}, c.at)).Survey()
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
}

// The picture is the display window: what lies outside of it is not shown, and what was not rendered of it is black.
func TestWindowsNeedNotBeTheSame(t *testing.T) {
	t.Parallel()
	for _, window := range []image.Rectangle{image.Rect(-3, -2, 20, 15), image.Rect(4, 3, 7, 6), image.Rect(-5, 5, 2, 9)} {
		display := image.Rect(1, 1, 11, 8)
		f := open(t, made(window, display, []string{"Y"}, func(string, int, int) float32 { return 1 }))
		assert.Equal(t, image.Pt(10, 7), f.Size())
		layer, _ := f.Layer("")
		img, _, err := f.Picture(layer, 0)
		require.NoError(t, err)
		for y := range 7 {
			for x := range 10 {
				want := uint16(0)
				if image.Pt(x+1, y+1).In(window) {
					want = 65535
				}
				p := img.NRGBA64At(x, y)
				assert.Equal(t, [4]uint16{want, want, want, 65535}, [4]uint16{p.R, p.G, p.B, p.A}, "%v at %d,%d", window, x, y)
			}
		}
	}
}

func TestABrokenFileIsRefused(t *testing.T) {
	t.Parallel()
	whole := made(image.Rect(0, 0, 4, 4), image.Rect(0, 0, 4, 4), []string{"Y"}, grey)
	spoilt := func(find, replace string) []byte {
		require.Contains(t, string(whole), find)
		return bytes.Replace(whole, []byte(find), []byte(replace), 1)
	}
	row := "\x02\x00\x00\x00\x10\x00\x00\x00" // the third, of 16 bytes
	for want, file := range map[string][]byte{
		"cut short":                    whole[:len(whole)-1],
		"lie outside of":               spoilt(row, "\x09\x00\x00\x00\x10\x00\x00\x00"),
		"unpack to more than":          spoilt(row, "\x02\x00\x00\x00\x11\x00\x00\x00"),
		"does not unpack to as much":   spoilt(row, "\x02\x00\x00\x00\x0f\x00\x00\x00"),
		"no compression that is known": spoilt("compression\x00\x01\x00\x00\x00\x00", "compression\x00\x01\x00\x00\x00\x20"),
		"that is not known":            spoilt("Y\x00\x02", "Y\x00\x07"),
		"its dataWindow is":            spoilt("dataWindow\x00box2i\x00\x10\x00\x00\x00\x00\x00\x00\x00", "dataWindow\x00box2i\x00\x10\x00\x00\x00\x00\x00\x00\x80"),
	} {
		f, err := exr.Open(bufio.NewReader(bytes.NewReader(file)))
		if err == nil {
			_, err = f.Survey()
		}
		assert.ErrorContains(t, err, want)
	}
	for _, name := range []string{"plain", "one_piz", "one_float_piz", "ff_half_rle", "one_half_pxr24", "tile_zip"} {
		file := data(t, name+".exr")
		for at := len(file) / 3; at < len(file); at += 7 {
			broken := slices.Clone(file)
			broken[at] ^= 0x5a
			if f, err := exr.Open(bufio.NewReader(bytes.NewReader(broken))); err == nil {
				_, _ = f.Survey() // whatever it says, it says it
			}
		}
	}
}

func FuzzSurvey(f *testing.F) {
	for _, name := range []string{"plain", "one_piz", "ff_half_rle", "one_half_pxr24", "tile_zip", "parts", "mip_zip"} {
		f.Add(data(f, name+".exr"))
	}
	f.Fuzz(func(_ *testing.T, file []byte) {
		x, err := exr.Open(bufio.NewReader(bytes.NewReader(file)))
		if err != nil || len(x.Parts) > 2 || x.Size().X > 200 || x.Size().Y > 200 || x.Parts[0].Data.Dx() > 4000 || x.Parts[0].Data.Dy() > 4000 {
			return
		}
		for _, l := range x.Layers() {
			_, _, _ = x.Picture(l, 1)
			return
		}
	})
}
