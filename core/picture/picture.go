// Package picture decides whether a rendered frame's file is whole, and how far two
// pictures are apart.
package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // the formats that are decoded register themselves
	_ "image/png"
	"io"
)

// Reasons for refusing a picture; test with errors.Is.
var (
	ErrUndecodable = errors.New("the picture does not decode")
	ErrWrongSize   = errors.New("the picture has the wrong size")
	ErrBlank       = errors.New("the picture is one flat colour")
)

// Info is what a picture's file is.
type Info struct {
	Format        string   // png, jpeg or exr
	Width, Height int      // pixels
	Channels      []string // of an OpenEXR file
}

// ContentType is the media type of the file.
func (i Info) ContentType() string {
	if i.Format == "exr" {
		return "image/x-exr"
	}
	return "image/" + i.Format
}

// Check reads a whole picture and says what it is, if it is width x height pixels
// (0 accepts any) and: PNG or JPEG, decodes to the last row and is not one flat
// colour; OpenEXR, has all the chunks that its structure lists. The error wraps one
// of this package's reasons and says what was found.
func Check(r io.Reader, width, height int) (Info, error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return Info{}, fmt.Errorf("%w: %v", ErrUndecodable, err)
	}
	if bytes.HasPrefix(data, exrMagic) {
		info, err := checkEXR(data)
		if err != nil {
			return info, fmt.Errorf("%w: OpenEXR: %w", ErrUndecodable, err)
		}
		return info, info.sized(width, height)
	}
	img, format, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return Info{}, fmt.Errorf("%w: %v", ErrUndecodable, err)
	}
	size := img.Bounds().Size()
	info := Info{Format: format, Width: size.X, Height: size.Y}
	if err := info.sized(width, height); err != nil {
		return info, err
	}
	if flat(img) {
		return info, fmt.Errorf("%w: every pixel is %v", ErrBlank, img.At(img.Bounds().Min.X, img.Bounds().Min.Y))
	}
	return info, nil
}

func (i Info) sized(width, height int) error {
	if (width > 0 && i.Width != width) || (height > 0 && i.Height != height) {
		return fmt.Errorf("%w: it is %dx%d, the shot is %dx%d", ErrWrongSize, i.Width, i.Height, width, height)
	}
	return nil
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
