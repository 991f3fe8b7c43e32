package simulator

import (
	"fmt"
	"image"
	"image/color"
	"math"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// The picture: clockwork planets on brass rings around a lamp, before a night sky.

type rgb struct{ r, g, b float64 }

func (c rgb) times(k float64) rgb { return rgb{c.r * k, c.g * k, c.b * k} }
func (c rgb) plus(d rgb) rgb      { return rgb{c.r + d.r, c.g + d.g, c.b + d.b} }
func mix(a, b rgb, t float64) rgb { return a.times(1 - t).plus(b.times(t)) }

func (c rgb) colour() color.NRGBA {
	level := func(x float64) uint8 { return uint8(255 * min(1, max(0, 1-math.Exp(-1.6*x)))) }
	return color.NRGBA{level(c.r), level(c.g), level(c.b), 255}
}

// hue turns a place on the colour wheel into a colour of middling strength.
func hue(h, strength float64) rgb {
	part := func(offset float64) float64 {
		return 0.5 + strength*0.5*math.Cos(2*math.Pi*(h+offset))
	}
	return rgb{part(0), part(-1.0 / 3), part(1.0 / 3)}
}

// planet is a ball on a ring.
type planet struct{ ring, size, speed, phase, hue float64 }

var planets = []planet{
	{0.20, 0.030, 4.1, 0.4, 0.08},
	{0.33, 0.048, 2.6, 2.1, 0.55},
	{0.47, 0.040, 1.7, 4.0, 0.98},
	{0.64, 0.075, 1.0, 5.4, 0.12},
	{0.84, 0.056, 0.6, 1.2, 0.47},
}

const tilt = 0.42 // how flat the rings look

// Paint draws a frame of the scene, with its number.
func Paint(s Scene, frame, width, height int) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	scale := float64(height)
	k := s.sky(float64(frame)/float64(max(1, s.Frames)), 1.15/scale)
	for y := range height {
		for x := range width {
			// Middle of the picture is 0,0; its height is 1.
			u, v := (float64(x)+0.5-float64(width)/2)/scale, (float64(y)+0.5-float64(height)/2)/scale
			img.SetNRGBA(x, y, k.shade(u*1.15, v*1.15).colour())
		}
	}
	label(img, fmt.Sprintf("%s  %04d", s.Title, frame))
	return img
}

// sky is what is the same for all points of a frame, worked out once: demos paint many.
type sky struct {
	low      rgb
	lampless bool
	t, pixel float64 // pixel is the size of one, for soft edges
	balls    []ball
}

// ball is a planet where it is.
type ball struct {
	planet
	x, y, away float64
	colour     rgb
}

func (s Scene) sky(t, pixel float64) sky {
	k := sky{low: hue(s.Hue, 0.8).times(0.22), lampless: s.lampless, t: t, pixel: pixel}
	for _, p := range planets {
		angle := p.phase + 2*math.Pi*p.speed*t
		b := ball{planet: p, x: p.ring * math.Cos(angle), y: p.ring * math.Sin(angle) * tilt, colour: hue(p.hue+s.Hue*0.2, 0.7)}
		b.away = math.Hypot(b.x, b.y) + 1e-6
		k.balls = append(k.balls, b)
	}
	return k
}

// shade is the light at a point.
func (k *sky) shade(u, v float64) rgb {
	c := mix(rgb{0.03, 0.05, 0.12}, k.low, min(1, max(0, 0.5-v))).plus(star(u, v))
	lamp := math.Hypot(u, v/0.9)
	if !k.lampless {
		c = c.plus(rgb{1.6, 1.1, 0.5}.times(0.012 / (lamp*lamp + 0.01)))
	}
	brass := rgb{0.75, 0.52, 0.22}
	r := math.Hypot(u, v/tilt)
	width := 0.004 + 1.5*k.pixel
	for _, p := range k.balls {
		if d := math.Abs(r - p.ring); d < width {
			light := 0.35 + 0.65*math.Abs(math.Cos(math.Atan2(v/tilt, u)*24+k.t*12*p.speed))
			c = mix(c, brass.times(light), 1-d/width)
		}
	}
	for _, p := range k.balls {
		edge := 1 + k.pixel/p.size
		dx, dy := (u-p.x)/p.size, (v-p.y)/p.size
		if math.Abs(dx) > edge || math.Abs(dy) > edge {
			continue
		}
		d := math.Hypot(dx, dy)
		if d > edge {
			continue
		}
		nz := math.Sqrt(max(0, 1-d*d))
		facing := max(0, (-p.x*dx-p.y*dy)/p.away*0.8+nz*0.6)
		band := 0.85 + 0.15*math.Sin(dy*9+p.phase*3)
		c = mix(c, p.colour.times((0.06+1.1*facing)*band), min(1, (edge-d)/(2*k.pixel/p.size)))
	}
	return c
}

// star is the light of the fixed stars: a few cells of a grid hold one.
func star(u, v float64) rgb {
	const cells = 46.0
	cx, cy := math.Floor(u*cells), math.Floor(v*cells)
	h := math.Sin(cx*127.1+cy*311.7) * 43758.5453
	h -= math.Floor(h)
	if h < 0.88 {
		return rgb{}
	}
	ox, oy := math.Mod(h*97, 1), math.Mod(h*53, 1)
	d := math.Hypot(u*cells-cx-ox, v*cells-cy-oy)
	k := max(0, 0.16-d) * 6 * (h - 0.85) * 6
	return rgb{k, k, k * 1.1}
}

// label writes the scene's name and the frame's number into a corner.
func label(img *image.NRGBA, text string) {
	face, err := opentype.Parse(gomono.TTF)
	if err != nil {
		return // the picture stands without it
	}
	size := max(9, float64(img.Bounds().Dy())/16)
	f, err := opentype.NewFace(face, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		return
	}
	at := fixed.P(int(size*0.8), img.Bounds().Dy()-int(size*0.8))
	d := font.Drawer{Dst: img, Src: image.NewUniform(color.NRGBA{240, 225, 190, 255}), Face: f, Dot: at}
	d.DrawString(text)
}
