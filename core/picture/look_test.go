package picture_test

import (
	"image"
	"image/color"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/picture"
)

func painted(w, h int, at func(x, y int) uint8) *image.Gray {
	img := image.NewGray(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetGray(x, y, color.Gray{Y: at(x, y)})
		}
	}
	return img
}

func TestLookOfHalfBlackHalfWhite(t *testing.T) {
	l := picture.LookOf(painted(10, 4, func(x, _ int) uint8 { return uint8(255 * (x / 5)) }))
	for c := range 3 {
		assert.InDelta(t, 0.5, l.Mean[c], 1e-12)
		assert.InDelta(t, 0.5, l.Deviation[c], 1e-12)
	}
	assert.InDelta(t, 0.5, l.Apart(picture.LookOf(painted(3, 3, func(int, int) uint8 { return 0 }))), 1e-12)
}

// What moves within a picture leaves its look; what becomes lighter changes it by as much.
func TestLooksForgetPlacesButNotLight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(2, 12).Draw(t, "width"), rapid.IntRange(2, 12).Draw(t, "height")
		seed := rapid.SliceOfN(rapid.Uint8Range(0, 200), w*h, w*h).Draw(t, "pixels")
		shift := rapid.IntRange(0, w-1).Draw(t, "shift")
		light := rapid.Uint8Range(0, 55).Draw(t, "light")
		here := picture.LookOf(painted(w, h, func(x, y int) uint8 { return seed[y*w+x] }))
		moved := picture.LookOf(painted(w, h, func(x, y int) uint8 { return seed[y*w+(x+shift)%w] }))
		assert.InDelta(t, 0, here.Apart(moved), 1e-9)
		lighter := picture.LookOf(painted(w, h, func(x, y int) uint8 { return seed[y*w+x] + light }))
		assert.InDelta(t, float64(light)/255, here.Apart(lighter), 1e-6)
		assert.InDelta(t, here.Apart(lighter), lighter.Apart(here), 1e-12)
	})
}
