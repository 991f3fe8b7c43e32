package picture_test

import (
	"image"
	"image/color"
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/picture"
)

func TestASheetHasACellForEachPicture(t *testing.T) {
	red := image.NewNRGBA(image.Rect(0, 0, 32, 18))
	for i := range red.Pix {
		red.Pix[i] = []byte{220, 30, 30, 255}[i%4]
	}
	sheet := picture.Sheet([]picture.Cell{{red, "1"}, {nil, "2 waiting"}, {red, "3"}, {red, "4"}, {red, "5"}}, 3, 64, 32, 18)
	assert.Equal(t, image.Pt(8+3*72, 8+2*(36+18+8)), sheet.Bounds().Size())
	assert.Equal(t, color.NRGBA{220, 30, 30, 255}, sheet.NRGBAAt(8+30, 8+15))
	assert.NotEqual(t, color.NRGBA{220, 30, 30, 255}, sheet.NRGBAAt(8+72+30, 8+15), "it is not done")
	assert.Equal(t, color.NRGBA{220, 30, 30, 255}, sheet.NRGBAAt(8+72+30, 8+62+15), "in the second row")
	written := 0
	for y := 8 + 36; y < 8+36+18; y++ {
		for x := 8; x < 8+64; x++ {
			if sheet.NRGBAAt(x, y).R > 100 {
				written++
			}
		}
	}
	assert.Positive(t, written)
	assert.Equal(t, image.Pt(8+72, 8+62), picture.Sheet([]picture.Cell{{red, ""}}, 9, 64, 32, 18).Bounds().Size(), "no wider than it has pictures")
	assert.NotPanics(t, func() { picture.Sheet(nil, 3, 64, 0, 0) })
}
