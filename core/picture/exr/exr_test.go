package exr_test

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/picture/exr"
)

// All files of testdata are one picture: plain.exr as povray wrote it, the others made of it by OpenEXR's own tools (tile_, one_,
// mip_, parts) and by ffmpeg (ff_), which read plain.gbrpf32le from it too.
func data(t testing.TB, name string) []byte {
	t.Helper()
	out, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	return out
}

func open(t *testing.T, file []byte) *exr.File {
	t.Helper()
	f, err := exr.Open(bufio.NewReader(bytes.NewReader(file)))
	require.NoError(t, err)
	return f
}

// samples are the values of each channel, row by row.
func samples(t *testing.T, f *exr.File) map[string][]float32 {
	t.Helper()
	out := map[string][]float32{}
	require.NoError(t, f.Read(func(b exr.Block) error {
		part := 0
		for i := range f.Parts {
			if b.Part == &f.Parts[i] {
				part = i
			}
		}
		b.Rows(func(r exr.Row) {
			c := b.Part.Channels[r.Channel]
			name := c.Name
			if part > 0 {
				name = b.Part.Name + "." + name
			}
			if out[name] == nil {
				out[name] = make([]float32, b.Part.Data.Dx()*b.Part.Data.Dy())
			}
			to := out[name][(r.Y-b.Part.Data.Min.Y)*b.Part.Data.Dx()+b.At.Min.X-b.Part.Data.Min.X:]
			for i := range b.At.Dx() {
				if c.Kind == 1 {
					to[i] = exr.HalfFloat(binary.LittleEndian.Uint16(r.Data[2*i:]))
				} else {
					to[i] = math.Float32frombits(binary.LittleEndian.Uint32(r.Data[4*i:]))
				}
			}
		})
		return nil
	}))
	return out
}

// reference are the values as another program read them.
func reference(t *testing.T) map[string][]float32 {
	t.Helper()
	raw := data(t, "plain.gbrpf32le")
	out := map[string][]float32{}
	for i, name := range []string{"G", "B", "R"} {
		values := make([]float32, len(raw)/12)
		require.NoError(t, binary.Read(bytes.NewReader(raw[i*len(raw)/3:(i+1)*len(raw)/3]), binary.LittleEndian, values))
		out[name] = values
	}
	return out
}

func TestEachPackingIsRead(t *testing.T) {
	t.Parallel()
	want := reference(t)
	for _, name := range []string{
		"plain", "ff_half_none", "ff_half_rle", "ff_half_zip1", "ff_half_zip16", "ff_float_rle", "ff_float_zip16",
		"tile_none", "tile_rle", "tile_zip", "mip_zip", "one_piz", "one_float_piz", "one_half_pxr24",
	} {
		f := open(t, data(t, name+".exr"))
		assert.Equal(t, image.Pt(37, 23), f.Size())
		assert.Equal(t, want, samples(t, f), name)
	}
	lossy := samples(t, open(t, data(t, "one_float_pxr24.exr")))
	for channel, values := range want {
		for i, v := range values {
			assert.InDelta(t, v, lossy[channel][i], math.Abs(float64(v))/(1<<15))
		}
	}
	parts := open(t, data(t, "parts.exr"))
	got := samples(t, parts)
	assert.Equal(t, want["R"], got["R"])
	assert.Equal(t, want["G"], got["ff_float_zip16.G"])
	assert.Equal(t, []string{"B", "G", "R", "ff_float_zip16.B", "ff_float_zip16.G", "ff_float_zip16.R"}, parts.ChannelNames())
	other := open(t, data(t, "tile_b44.exr"))
	assert.Empty(t, samples(t, other), "it is looked at for whether all is there")
	assert.Empty(t, other.Layers())
}

// What is shown is what povray itself makes of the light: sixteen bits in sRGB.
func TestItIsShownAsItsRendererShowsIt(t *testing.T) {
	t.Parallel()
	want, err := png.Decode(bytes.NewReader(data(t, "plain.png")))
	require.NoError(t, err)
	for _, name := range []string{"plain", "one_float_piz", "tile_zip"} {
		f := open(t, data(t, name+".exr"))
		layer, ok := f.Layer("")
		require.True(t, ok)
		got, survey, err := f.Picture(layer, 0)
		require.NoError(t, err)
		assert.Equal(t, exr.Survey{Read: true}, survey)
		for y := range 23 {
			for x := range 37 {
				r, g, b, _ := want.At(x, y).RGBA()
				gr, gg, gb, ga := got.At(x, y).RGBA()
				assert.InDeltaSlice(t, []float64{float64(r), float64(g), float64(b), 65535}, []float64{float64(gr), float64(gg), float64(gb), float64(ga)}, 80, "%d,%d", x, y)
			}
		}
	}
	f := open(t, data(t, "plain.exr"))
	layer, _ := f.Layer("")
	brighter, _, err := f.Picture(layer, 1)
	require.NoError(t, err)
	light := reference(t)["G"]
	at := 11*37 + 18
	v := 2 * float64(light[at])
	require.Less(t, v, 1.0)
	assert.InDelta(t, 65535*(1.055*math.Pow(v, 1/2.4)-0.055), float64(brighter.NRGBA64At(18, 11).G), 1)
}

func TestHalves(t *testing.T) {
	t.Parallel()
	for bits, want := range map[uint16]float32{0: 0, 0x3c00: 1, 0xc000: -2, 0x7bff: 65504, 0x0400: 1.0 / (1 << 14), 0x0001: 1.0 / (1 << 24), 0x3555: 0.33325195, 0x8001: -1.0 / (1 << 24)} {
		assert.InDelta(t, want, exr.HalfFloat(bits), 0, "%#x", bits)
	}
	assert.True(t, math.IsInf(float64(exr.HalfFloat(0xfc00)), -1))
	assert.True(t, math.IsNaN(float64(exr.HalfFloat(0x7c01))))
}
