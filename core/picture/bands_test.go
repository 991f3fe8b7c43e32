package picture

import (
	"image"
	"image/color"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Pictures are compared by bands of rows, and what comes of it is what all rows at once give.
func TestBandsComeToTheWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := image.Pt(rapid.IntRange(1, 20).Draw(t, "width"), rapid.IntRange(1, 3*band).Draw(t, "height"))
		draw := func(seed int) image.Image {
			img := image.NewGray(image.Rectangle{Max: size})
			for i := range img.Pix {
				img.Pix[i] = uint8(i*seed + i*i/7)
			}
			img.SetGray(0, 0, color.Gray{Y: uint8(seed)})
			return img
		}
		a, b := draw(rapid.IntRange(1, 250).Draw(t, "a")), draw(rapid.IntRange(1, 250).Draw(t, "b"))
		d, _, err := Compare(a, b)
		require.NoError(t, err)
		whole := ssim(lumas(a, 0, size.Y), lumas(b, 0, size.Y), 0, size.Y) / float64(size.X*size.Y)
		assert.InDelta(t, whole, d.SSIM, 1e-9)
	})
}
