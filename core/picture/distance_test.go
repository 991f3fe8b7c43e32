package picture_test

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/picture"
)

func grey(width, height int, at func(x, y int) uint8) *image.Gray {
	img := image.NewGray(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			img.SetGray(x, y, color.Gray{Y: at(x, y)})
		}
	}
	return img
}

func TestCompare(t *testing.T) {
	ramp := func(x, y int) uint8 { return uint8(4*x + y) }
	a := grey(40, 30, ramp)
	same, diff, err := picture.Compare(a, a)
	require.NoError(t, err)
	assert.True(t, same.Same)
	assert.Zero(t, same.RMSE)
	assert.InDelta(t, 1, same.SSIM, 1e-9)
	assert.Equal(t, image.Pt(40, 30), diff.Bounds().Size())

	lighter := grey(40, 30, func(x, y int) uint8 { return ramp(x, y) + 51 })
	d, _, err := picture.Compare(a, lighter)
	require.NoError(t, err)
	assert.InDelta(t, 0.2, d.RMSE, 1e-9, "a fifth lighter everywhere")
	assert.InDelta(t, -20*math.Log10(0.2), d.PSNR, 1e-9)
	assert.Greater(t, d.SSIM, 0.6, "the structure is the same")

	noisy := grey(40, 30, func(x, y int) uint8 { return ramp(x, y) + uint8(102*((x+y)%2)) })
	n, diff, err := picture.Compare(a, noisy)
	require.NoError(t, err)
	assert.Less(t, n.SSIM, d.SSIM, "noise harms the structure more than light does")
	lit, unlit := diff.NRGBAAt(1, 0), diff.NRGBAAt(0, 0)
	assert.Greater(t, lit.R, unlit.R, "warm where the second is lighter")

	_, _, err = picture.Compare(a, grey(41, 30, ramp))
	assert.ErrorIs(t, err, picture.ErrWrongSize)
}

// exr makes an OpenEXR file of one part, uncompressed, with the channels named.
func exr(width, height int, channels ...string) []byte {
	var out bytes.Buffer
	le := binary.LittleEndian
	number := func(v ...uint32) (b []byte) {
		for _, n := range v {
			b = le.AppendUint32(b, n)
		}
		return b
	}
	attribute := func(name, kind string, value []byte) {
		out.WriteString(name + "\x00" + kind + "\x00")
		out.Write(number(uint32(len(value))))
		out.Write(value)
	}
	out.Write(number(20000630, 2))
	var list []byte
	for _, c := range channels {
		list = append(append(list, c...), 0)
		list = append(list, number(1, 0, 1, 1)...) // halves
	}
	attribute("channels", "chlist", append(list, 0))
	attribute("compression", "compression", []byte{0})
	attribute("dataWindow", "box2i", number(0, 0, uint32(width-1), uint32(height-1)))
	attribute("lineOrder", "lineOrder", []byte{0})
	out.WriteByte(0)
	row := 8 + 2*width*len(channels)
	start := out.Len() + 8*height
	for y := range height {
		out.Write(le.AppendUint64(nil, uint64(start+y*row)))
	}
	for y := range height {
		out.Write(number(uint32(y), uint32(row-8)))
		out.Write(bytes.Repeat([]byte{byte(y)}, row-8))
	}
	return out.Bytes()
}

func TestCheckReadsOpenEXR(t *testing.T) {
	whole := exr(32, 18, "A", "B", "G", "R")
	info, err := picture.Check(bytes.NewReader(whole), int64(len(whole)), 32, 18)
	require.NoError(t, err)
	assert.Equal(t, picture.Info{Format: "exr", Width: 32, Height: 18, Channels: []string{"A", "B", "G", "R"}, Layers: []string{""}}, info)
	assert.Equal(t, "image/x-exr", info.ContentType())
	_, err = picture.Check(bytes.NewReader(whole), int64(len(whole)), 64, 18)
	assert.ErrorIs(t, err, picture.ErrWrongSize)
	for _, cut := range []int{5, 30, 100, len(whole) / 2, len(whole) - 1} {
		_, err = picture.Check(bytes.NewReader(whole[:cut]), int64(len(whole[:cut])), 32, 18)
		assert.ErrorIs(t, err, picture.ErrUndecodable, "%d bytes", cut)
		assert.ErrorContains(t, err, "cut short", "%d bytes", cut)
	}
	unwritten := bytes.Clone(whole)
	table := bytes.Index(whole, []byte("lineOrder\x00lineOrder\x00")) + 26
	copy(unwritten[table+8*3:], make([]byte, 8))
	_, err = picture.Check(bytes.NewReader(unwritten), int64(len(unwritten)), 32, 18)
	assert.ErrorContains(t, err, "4 of 18 was never written")
	_, err = picture.Check(bytes.NewReader(exr(8, 8)), int64(len(exr(8, 8))), 8, 8)
	assert.ErrorContains(t, err, "no channel")
}
