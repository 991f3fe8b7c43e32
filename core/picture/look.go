package picture

import (
	"image"
	"math"
)

// Look is how a picture looks from afar: of red, green and blue the mean and the
// standard deviation over its pixels, channels counting from 0 to 1. Pictures of
// neighbouring frames look alike, though nothing in them stands in the same place.
type Look struct {
	Mean, Deviation [3]float64
}

// LookOf measures a picture.
func LookOf(img image.Image) (l Look) {
	b := img.Bounds()
	n := float64(max(1, b.Dx()*b.Dy()))
	var squares [3]float64
	for y := range b.Dy() {
		for x := range b.Dx() {
			for c, v := range rgb(img, x, y) {
				l.Mean[c] += v / n
				squares[c] += v * v / n
			}
		}
	}
	for c := range l.Mean {
		l.Deviation[c] = math.Sqrt(math.Max(0, squares[c]-l.Mean[c]*l.Mean[c]))
	}
	return l
}

// Apart is the largest difference between two looks: 0 for alike, at most 1.
func (l Look) Apart(o Look) (most float64) {
	for c := range l.Mean {
		most = max(most, math.Abs(l.Mean[c]-o.Mean[c]), math.Abs(l.Deviation[c]-o.Deviation[c]))
	}
	return most
}
