// Package picture decides whether a rendered frame's file is whole.
package picture

import (
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // the formats that Check decodes register themselves
	_ "image/png"
	"io"
)

// Reasons for refusing a picture; test with errors.Is.
var (
	ErrUndecodable = errors.New("the picture does not decode")
	ErrWrongSize   = errors.New("the picture has the wrong size")
	ErrBlank       = errors.New("the picture is one flat colour")
)

// Check reads a whole picture (PNG or JPEG) and returns it if it decodes to the
// last row, is width x height pixels, and is not one flat colour. A width or
// height of 0 accepts any. The error wraps one of this package's reasons and
// says what was found.
func Check(r io.Reader, width, height int) (image.Image, error) {
	img, _, err := image.Decode(r)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUndecodable, err)
	}
	size := img.Bounds().Size()
	if (width > 0 && size.X != width) || (height > 0 && size.Y != height) {
		return nil, fmt.Errorf("%w: it is %dx%d, the shot is %dx%d", ErrWrongSize, size.X, size.Y, width, height)
	}
	if flat(img) {
		return nil, fmt.Errorf("%w: every pixel is %v", ErrBlank, img.At(img.Bounds().Min.X, img.Bounds().Min.Y))
	}
	return img, nil
}

// flat reports whether all pixels are equal. A real picture differs within a
// few pixels, so this nearly always ends at once.
func flat(img image.Image) bool {
	b := img.Bounds()
	r0, g0, b0, a0 := img.At(b.Min.X, b.Min.Y).RGBA()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			if r, g, bl, a := img.At(x, y).RGBA(); r != r0 || g != g0 || bl != b0 || a != a0 {
				return false
			}
		}
	}
	return true
}
