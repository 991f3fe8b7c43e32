package picture

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// film is a made-up shot: a wall with a pattern past which the camera pans, discs that move and turn in front of it, light that
// swells, and grain.
type film struct {
	r                       *rand.Rand
	width, height           int
	pan, swell, grain, fade float64
	waves                   [4][3]float64
	discs                   []disc
}

type disc struct{ x, y, vx, vy, size, r, g, b, turn float64 }

func newFilm(seed uint64) *film {
	r := rand.New(rand.NewPCG(seed, 11))
	f := &film{r: r, width: 128, height: 72, pan: r.NormFloat64() * 1.2, swell: 0.08 * r.Float64(), grain: 0.02 * r.Float64(), fade: r.NormFloat64() * 0.0015}
	for i := range f.waves {
		f.waves[i] = [3]float64{0.05 + 0.3*r.Float64(), 0.3 * r.NormFloat64(), 0.15 * r.Float64()}
	}
	for range r.IntN(6) {
		f.discs = append(f.discs, disc{
			128 * r.Float64(), 72 * r.Float64(), r.NormFloat64() * 2, r.NormFloat64() * 1.2, 4 + 14*r.Float64(), r.Float64(), r.Float64(), r.Float64(), r.NormFloat64() * 0.2,
		})
	}
	return f
}

// light is what a place of a frame has, linear.
func (f *film) light(n, x, y int) [3]float64 {
	t := float64(n)
	u, v := float64(x)+f.pan*t, float64(y)
	wall := 0.35
	for _, w := range f.waves {
		wall += w[2] * math.Sin(w[0]*u+w[1]*v)
	}
	c := [3]float64{wall * 0.9, wall * 0.8, wall * 1.1}
	for _, d := range f.discs {
		cx, cy := math.Mod(math.Mod(d.x+d.vx*t, 160)+160, 160)-16, math.Mod(math.Mod(d.y+d.vy*t, 100)+100, 100)-14
		if dx, dy := float64(x)-cx, float64(y)-cy; dx*dx+dy*dy < d.size*d.size {
			stripe := 0.75 + 0.25*math.Sin(3*math.Atan2(dy, dx)+d.turn*t)
			c = [3]float64{d.r * stripe, d.g * stripe, d.b * stripe}
		}
	}
	all := 1 + f.swell*math.Sin(0.15*t) + f.fade*t
	for i := range c {
		c[i] = max(0, c[i]) * all
	}
	return c
}

// fault changes the light of a place.
type fault func(x, y int, c [3]float64) [3]float64

func (f *film) frame(n int, wrong fault) image.Image {
	img := image.NewNRGBA(image.Rect(0, 0, f.width, f.height))
	for y := range f.height {
		for x := range f.width {
			c := f.light(n, x, y)
			if wrong != nil {
				c = wrong(x, y, c)
			}
			level := func(v float64) uint8 {
				return uint8(255*min(1, max(0, math.Pow(max(0, v), 1/2.2)+f.grain*f.r.NormFloat64())) + 0.5)
			}
			img.SetNRGBA(x, y, color.NRGBA{level(c[0]), level(c[1]), level(c[2]), 255})
		}
	}
	return img
}

// faults are what goes wrong with single frames: another exposure, another colour, a lamp that is out, an object that lacks, a
// texture that is lost, a band that is black.
func (f *film) fault() (string, fault) {
	r := f.r
	sign := float64(1 - 2*r.IntN(2))
	x0, y0, w, h := r.IntN(80), r.IntN(40), 20+r.IntN(40), 14+r.IntN(24)
	inside := func(x, y int) bool { return x >= x0 && x < x0+w && y >= y0 && y < y0+h }
	switch r.IntN(6) {
	case 0:
		by := 1 + sign*(0.08+0.3*r.Float64())
		return fmt.Sprintf("exposure %.2f", by), func(_, _ int, c [3]float64) [3]float64 { return [3]float64{c[0] * by, c[1] * by, c[2] * by} }
	case 1:
		by, which := 1+sign*(0.1+0.3*r.Float64()), r.IntN(3)
		return fmt.Sprintf("colour %d %.2f", which, by), func(_, _ int, c [3]float64) [3]float64 { c[which] *= by; return c }
	case 2:
		by := 0.3 + 0.4*r.Float64()
		return fmt.Sprintf("lamp %.2f on %dx%d", by, w, h), func(x, y int, c [3]float64) [3]float64 {
			if inside(x, y) {
				return [3]float64{c[0] * by, c[1] * by, c[2] * by}
			}
			return c
		}
	case 3:
		to := [3]float64{r.Float64(), 0.1 * r.Float64(), r.Float64()}
		return fmt.Sprintf("texture %dx%d", w, h), func(x, y int, c [3]float64) [3]float64 {
			if inside(x, y) {
				return to
			}
			return c
		}
	case 4:
		at, thick := r.IntN(60), 6+r.IntN(12)
		return fmt.Sprintf("band %d", thick), func(_, y int, c [3]float64) [3]float64 {
			if y >= at && y < at+thick {
				return [3]float64{}
			}
			return c
		}
	}
	return "white", func(x, y int, c [3]float64) [3]float64 {
		if inside(x, y) {
			return [3]float64{c[0] + 0.6, c[1] + 0.6, c[2] + 0.6}
		}
		return c
	}
}

// looked plays a film of so many frames with some faults, and counts what was found, missed and marked without a cause.
func looked(seed uint64, frames, faulty int) (found, missed, false_ int, said string) {
	f := newFilm(seed)
	wrong, names := map[int]fault{}, map[int]string{}
	for len(wrong) < faulty {
		at := 3 + f.r.IntN(frames-6)
		if wrong[at-1] == nil && wrong[at+1] == nil && wrong[at-2] == nil && wrong[at+2] == nil {
			names[at], wrong[at] = f.fault()
		}
	}
	var s Sequence
	for n := range frames {
		s.Add(GlanceOf(f.frame(n, wrong[n])))
	}
	marked := map[int]Flicker{}
	for _, m := range s.Flickers() {
		marked[m.At] = m
	}
	for at := range frames {
		m, is := marked[at]
		switch {
		case wrong[at] != nil && is:
			found++
		case wrong[at] != nil:
			missed++
			said += fmt.Sprintf(" missed %s;", names[at])
		case is:
			false_++
			said += fmt.Sprintf(" marked %d %s %.3f;", at, m.Kind, m.Amount)
		}
	}
	return found, missed, false_, said
}

func TestFlickerIsFound(t *testing.T) {
	t.Parallel()
	found, missed, wrongly, frames := 0, 0, 0, 0
	for seed := range uint64(12) {
		a, b, c, said := looked(seed, 60, 4)
		found, missed, wrongly, frames = found+a, missed+b, wrongly+c, frames+60
		if said != "" {
			t.Logf("%d:%s", seed, said)
		}
	}
	t.Logf("%d of %d found, %d of %d marked wrongly", found, found+missed, wrongly, frames)
	assert.GreaterOrEqual(t, float64(found), 0.95*float64(found+missed))
	assert.LessOrEqual(t, wrongly, frames/500)
}

// What changes for good, little by little, or with a cut is no flicker; a burst is.
func TestWhatIsNoFlicker(t *testing.T) {
	t.Parallel()
	marks := func(light func(n int) float64) (at []int) {
		f := newFilm(5)
		var s Sequence
		for n := range 40 {
			by := light(n)
			s.Add(GlanceOf(f.frame(n, func(_, _ int, c [3]float64) [3]float64 { return [3]float64{c[0] * by, c[1] * by, c[2] * by} })))
		}
		for _, m := range s.Flickers() {
			at = append(at, m.At)
		}
		return at
	}
	assert.Empty(t, marks(func(int) float64 { return 1 }))
	assert.Empty(t, marks(func(n int) float64 { return 1 + 0.02*float64(n) }), "it fades up")
	assert.Empty(t, marks(func(n int) float64 { return map[bool]float64{true: 0.6, false: 1}[n < 20] }), "a lamp goes on")
	assert.Equal(t, []int{17, 18, 19}, marks(func(n int) float64 { return map[bool]float64{true: 0.8, false: 1}[n >= 17 && n < 20] }), "three were rendered by another")
	assert.Equal(t, []int{0}, marks(func(n int) float64 { return map[bool]float64{true: 0.7, false: 1}[n == 0] }), "the first")
	assert.Equal(t, []int{39}, marks(func(n int) float64 { return map[bool]float64{true: 0.7, false: 1}[n == 39] }), "the last")

	var few Sequence
	few.Add(GlanceOf(image.NewGray(image.Rect(0, 0, 3, 2))))
	assert.Empty(t, few.Flickers())
}
