package picture

import (
	"fmt"
	"image"
	"image/color"
	"math"
)

// Distance is how far two pictures are apart. Channels count from 0 to 1.
type Distance struct {
	RMSE float64 `json:"rmse"` // root of the mean squared difference over red, green and blue
	// PSNR is 20 log10 of 1 over RMSE, in decibels; 0 with Same set where there is no difference.
	PSNR float64 `json:"psnr_db"`
	SSIM float64 `json:"ssim"` // structural similarity of the luma, 1 for equal pictures
	Same bool    `json:"same"`
}

// Compare returns the distance of two pictures of one size, and a picture of the
// difference: grey where they are equal, warm where b is lighter, cool where it is
// darker, the largest difference at full strength.
func Compare(a, b image.Image) (Distance, *image.NRGBA, error) {
	size := a.Bounds().Size()
	if size != b.Bounds().Size() {
		return Distance{}, nil, fmt.Errorf("%w: one is %dx%d, the other %dx%d", ErrWrongSize, size.X, size.Y, b.Bounds().Dx(), b.Bounds().Dy())
	}
	sum, largest, structure := 0.0, 0.0, 0.0
	for top := 0; top < size.Y; top += band {
		bottom := min(top+band, size.Y)
		above, below := max(0, top-window), min(size.Y, bottom+window)
		la, lb := lumas(a, above, below), lumas(b, above, below)
		for y := top; y < bottom; y++ {
			for x := range size.X {
				p, q := rgb(a, x, y), rgb(b, x, y)
				for c := range 3 {
					sum += (p[c] - q[c]) * (p[c] - q[c])
				}
				i := (y-above)*size.X + x
				largest = max(largest, math.Abs(la.at[i]-lb.at[i]))
			}
		}
		structure += ssim(la, lb, top-above, bottom-above)
	}
	pixels := float64(max(1, size.X*size.Y))
	d := Distance{RMSE: math.Sqrt(sum / (3 * pixels)), SSIM: structure / pixels}
	if d.Same = sum == 0; !d.Same {
		d.PSNR = -20 * math.Log10(d.RMSE)
	}
	return d, difference(a, b, largest), nil
}

// band is how many rows are compared at once: what that takes is bounded by the width.
const band = 64

// lumas are those of some rows.
func lumas(img image.Image, from, to int) plane {
	out := newPlane(image.Pt(img.Bounds().Dx(), to-from))
	for y := from; y < to; y++ {
		for x := range out.width {
			out.at[(y-from)*out.width+x] = luma(rgb(img, x, y))
		}
	}
	return out
}

func rgb(img image.Image, x, y int) [3]float64 {
	o := img.Bounds().Min
	r, g, b, _ := img.At(o.X+x, o.Y+y).RGBA()
	return [3]float64{float64(r) / 65535, float64(g) / 65535, float64(b) / 65535}
}

// luma weighs the channels as ITU-R BT.709 does.
func luma(c [3]float64) float64 { return 0.2126*c[0] + 0.7152*c[1] + 0.0722*c[2] }

func difference(a, b image.Image, largest float64) *image.NRGBA {
	size := a.Bounds().Size()
	out := image.NewNRGBA(image.Rectangle{Max: size})
	for y := range size.Y {
		for x := range size.X {
			d := 0.0
			if largest > 0 {
				d = (luma(rgb(b, x, y)) - luma(rgb(a, x, y))) / largest
			}
			grey := 46.0
			warm, cool := max(0, d), max(0, -d)
			out.SetNRGBA(x, y, color.NRGBA{
				R: uint8(grey + 205*warm + 20*cool), G: uint8(grey + 120*warm + 110*cool), B: uint8(grey + 10*warm + 200*cool), A: 255,
			})
		}
	}
	return out
}

// plane is one channel of a picture, row by row.
type plane struct {
	width, height int
	at            []float64
}

func newPlane(size image.Point) plane {
	return plane{size.X, size.Y, make([]float64, size.X*size.Y)}
}

// ssim is the structural similarity of some rows, summed over their pixels (Wang, Bovik, Sheikh and Simoncelli, "Image
// quality assessment: from error visibility to structural similarity", 2004): windows
// weighed by a normal distribution of 1.5 pixels over 11, K1 0.01, K2 0.03.
func ssim(a, b plane, from, to int) (sum float64) {
	const c1, c2 = 0.01 * 0.01, 0.03 * 0.03
	product := func(p, q plane) plane {
		out := plane{p.width, p.height, make([]float64, len(p.at))}
		for i := range out.at {
			out.at[i] = p.at[i] * q.at[i]
		}
		return out
	}
	ma, mb := blurred(a), blurred(b)
	aa, bb, ab := blurred(product(a, a)), blurred(product(b, b)), blurred(product(a, b))
	for i := from * a.width; i < to*a.width; i++ {
		x, y := ma.at[i], mb.at[i]
		va, vb, cov := aa.at[i]-x*x, bb.at[i]-y*y, ab.at[i]-x*y
		sum += (2*x*y + c1) * (2*cov + c2) / ((x*x + y*y + c1) * (va + vb + c2))
	}
	return sum
}

const window = 5 // pixels to each side

func blurred(p plane) plane {
	var weights [2*window + 1]float64
	for i := range weights {
		d := float64(i-window) / 1.5
		weights[i] = math.Exp(-d * d / 2)
	}
	along := func(from plane, dx, dy int) plane {
		out := plane{p.width, p.height, make([]float64, len(from.at))}
		for y := range p.height {
			for x := range p.width {
				sum, all := 0.0, 0.0
				for i, w := range weights {
					u, v := x+dx*(i-window), y+dy*(i-window)
					if u >= 0 && u < p.width && v >= 0 && v < p.height { // at an edge, the rest counts
						sum += w * from.at[v*p.width+u]
						all += w
					}
				}
				out.at[y*p.width+x] = sum / all
			}
		}
		return out
	}
	return along(along(p, 1, 0), 0, 1)
}
