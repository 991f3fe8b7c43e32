package simulator

import (
	"fmt"
	"image"
	"image/color"
	_ "image/jpeg" // as what an input may be
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// composite multiplies the pictures of other passes that lie in the folder of inputs, such as beauty.0012.png; nil: none do. What these have
// beside them, such as beauty.depth.0012.png, it has no use for.
func (r Render) composite() (image.Image, error) {
	if r.Inputs == "" {
		return nil, nil
	}
	files, err := filepath.Glob(filepath.Join(r.Inputs, fmt.Sprintf("*.%04d.*", r.Frame)))
	files = slices.DeleteFunc(files, func(name string) bool { return strings.Count(filepath.Base(name), ".") > 2 })
	if err != nil || len(files) == 0 {
		return nil, err
	}
	out := image.NewNRGBA(image.Rect(0, 0, r.Width, r.Height))
	for i := range out.Pix {
		out.Pix[i] = 255
	}
	for _, name := range files {
		img, err := decoded(name)
		if err != nil {
			return nil, fmt.Errorf("input %s: %w", filepath.Base(name), err)
		}
		if size := img.Bounds().Size(); size != (image.Point{X: r.Width, Y: r.Height}) {
			return nil, fmt.Errorf("input %s is %d x %d, the frame %d x %d", filepath.Base(name), size.X, size.Y, r.Width, r.Height)
		}
		multiply(out, img)
	}
	return out, nil
}

func decoded(name string) (image.Image, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	img, _, err := image.Decode(file)
	return img, err
}

func multiply(out *image.NRGBA, by image.Image) {
	at := by.Bounds().Min
	for y := range out.Rect.Dy() {
		for x := range out.Rect.Dx() {
			p, q := out.NRGBAAt(x, y), color.NRGBAModel.Convert(by.At(at.X+x, at.Y+y)).(color.NRGBA)
			level := func(a, b uint8) uint8 { return uint8(int(a) * int(b) / 255) }
			out.SetNRGBA(x, y, color.NRGBA{level(p.R, q.R), level(p.G, q.G), level(p.B, q.B), 255})
		}
	}
}
