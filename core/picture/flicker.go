package picture

import (
	"image"
	"math"
	"slices"
)

// A frame flickers whose light or colour jumps against the frames before and behind it beyond what the shot's own motion
// explains: one that another renderer, another version or a lost texture made. What moves is told from that in two ways. Of light
// and colour as a whole the median over the picture is taken of how each place changed, which what moves in less than half of it
// does not shift. Of a part of the picture it is asked whether a place's light is found near it in a frame before and in one
// behind: what moves was somewhere near, what flickers was not. Each is held against how much it differs in the frames around, as
// a shot that shakes or has grain differs all the time.

// Glance is a picture made small: what is looked at for flicker.
type Glance struct {
	width, height int
	light         []float32 // of each place, 0 to 1 as it is seen, row by row
	blue, red     []float32 // the differences of colour, as of JPEG
}

// glanceWidth is how many places wide a glance is.
const glanceWidth = 64

// GlanceOf makes a picture small, by the mean of each place.
func GlanceOf(img image.Image) Glance {
	size := img.Bounds()
	g := Glance{width: min(glanceWidth, size.Dx())}
	g.height = max(1, min(size.Dy(), g.width*size.Dy()/max(1, size.Dx())))
	n := g.width * g.height
	g.light, g.blue, g.red = make([]float32, n), make([]float32, n), make([]float32, n)
	for y := range g.height {
		y0, y1 := size.Min.Y+y*size.Dy()/g.height, size.Min.Y+(y+1)*size.Dy()/g.height
		for x := range g.width {
			x0, x1 := size.Min.X+x*size.Dx()/g.width, size.Min.X+(x+1)*size.Dx()/g.width
			var r, gr, b float64
			for v := y0; v < y1; v++ {
				for u := x0; u < x1; u++ {
					p, q, s, _ := img.At(u, v).RGBA()
					r, gr, b = r+float64(p), gr+float64(q), b+float64(s)
				}
			}
			each := 65535 * float64((y1-y0)*(x1-x0))
			r, gr, b = r/each, gr/each, b/each
			light := 0.299*r + 0.587*gr + 0.114*b
			at := y*g.width + x
			g.light[at], g.blue[at], g.red[at] = float32(light), float32(0.564*(b-light)), float32(0.713*(r-light))
		}
	}
	return g
}

// Kinds of flicker.
const (
	Brighter = "brighter"
	Darker   = "darker"
	Colour   = "colour"
	Part     = "part" // of the picture is other than before and behind
)

// Flicker is a frame that is to be looked at.
type Flicker struct {
	At     int     // its place in the sequence
	Kind   string  // of what is most
	Amount float64 // by how much: of light and colour as a share of the range, of a part its share of the picture
}

// Sequence looks at the frames of a shot one after another. The zero value is ready.
type Sequence struct {
	last  []Glance     // the last few
	steps [3][]float64 // of light, blue and red, from each frame to the next
	parts []float64    // of each frame but the last two, the share that is found in none around it
}

// Of what differs a part by itself, and of what is near: in places of a glance.
const (
	near     = 2     // what moved from one frame to the next is found within so many
	tells    = 0.025 // of light, by which a place differs from all near it
	tellsHue = 0.02  // of colour
)

// Add takes in the next frame. One that is not there, such as one that failed, is left out.
func (s *Sequence) Add(g Glance) {
	if n := len(s.last); n > 0 {
		if before := s.last[n-1]; before.width != g.width || before.height != g.height {
			g = before // of another size: it was never one sequence
		}
		before := s.last[n-1]
		for i, pair := range [3][2][]float32{{before.light, g.light}, {before.blue, g.blue}, {before.red, g.red}} {
			s.steps[i] = append(s.steps[i], medianStep(pair[0], pair[1]))
		}
	}
	s.last = append(s.last, g)
	if len(s.last) == 5 {
		s.parts = append(s.parts, alone(s.last, 2))
		s.last = s.last[1:]
		return
	}
	// At the beginning there are not yet two before.
	if len(s.last) < 4 {
		return
	}
	if len(s.parts) == 0 {
		s.parts = append(s.parts, alone(s.last, 0), alone(s.last, 1))
	}
}

// medianStep is by how much a picture changed as a whole.
func medianStep(before, after []float32) float64 {
	steps := make([]float32, len(before))
	for i := range before {
		steps[i] = after[i] - before[i]
	}
	slices.Sort(steps)
	return float64(steps[len(steps)/2])
}

// alone is the share of a frame's places that are not found near them, neither in a frame before nor in one behind it: the least of
// some pairs of those, as one of them may be what flickers.
func alone(frames []Glance, at int) float64 {
	least := math.Inf(1)
	for _, pair := range [3][2]int{{at - 1, at + 1}, {at - 1, at + 2}, {at - 2, at + 1}} {
		if pair[0] >= 0 && pair[1] < len(frames) {
			least = min(least, notIn(frames[at], frames[pair[0]], near*(at-pair[0]), frames[pair[1]], near*(pair[1]-at)))
		}
		if least == 0 {
			break
		}
	}
	if math.IsInf(least, 1) {
		return 0 // the first and the last
	}
	return least
}

// notIn is the share of a glance's places that are within reach in neither of two others.
func notIn(g, a Glance, reachA int, b Glance, reachB int) float64 {
	n := 0
	for y := range g.height {
		for x := range g.width {
			at := y*g.width + x
			if !found(g.light[at], tells, a.light, b.light, a, x, y, reachA, reachB) ||
				!found(g.blue[at], tellsHue, a.blue, b.blue, a, x, y, reachA, reachB) ||
				!found(g.red[at], tellsHue, a.red, b.red, a, x, y, reachA, reachB) {
				n++
			}
		}
	}
	return float64(n) / float64(len(g.light))
}

// found reports whether a value lies within those that one of two frames has near a place.
func found(value, slack float32, a, b []float32, of Glance, x, y, reachA, reachB int) bool {
	at := y*of.width + x
	if d := value - a[at]; -slack <= d && d <= slack {
		return true // most places have not changed
	}
	for _, side := range [2]struct {
		all   []float32
		reach int
	}{{a, reachA}, {b, reachB}} {
		low, high := float32(math.Inf(1)), float32(math.Inf(-1))
		for v := max(0, y-side.reach); v <= min(of.height-1, y+side.reach); v++ {
			for u := max(0, x-side.reach); u <= min(of.width-1, x+side.reach); u++ {
				z := side.all[v*of.width+u]
				low, high = min(low, z), max(high, z)
			}
		}
		if low-slack <= value && value <= high+slack {
			return true
		}
	}
	return false
}

// How much is marked: at least so much of the range, or of the picture, and so many times what is usual around.
const (
	leastLight  = 0.012
	leastColour = 0.006
	leastPart   = 0.003
	usualTimes  = 5
)

// behind is how many frames before and behind one it is held against: bursts of fewer than that are seen.
const behind = 4

// around is over how many frames on each side it is looked what is usual.
const around = 15

// Flickers lists the frames that flicker, of those that were taken in.
func (s *Sequence) Flickers() []Flicker {
	n := len(s.steps[0]) + 1
	if n < 2*behind {
		return nil
	}
	parts := slices.Clone(s.parts)
	for len(parts) < n { // the last two have one behind, or none
		parts = append(parts, alone(s.last, len(s.last)-(n-len(parts))))
	}
	light, blue, red := off(s.steps[0]), off(s.steps[1]), off(s.steps[2])
	hue := make([]float64, n)
	for i := range hue {
		hue[i] = math.Hypot(blue[i], red[i])
	}
	var out []Flicker
	for i := range n {
		best, f := 0.0, Flicker{At: i}
		weigh := func(kind string, all []float64, least float64) {
			x := math.Abs(all[i])
			if times := x / (least + usualTimes*usual(all, i)); times >= 1 && times > best {
				best, f.Kind, f.Amount = times, kind, x
			}
		}
		kind := Brighter
		if light[i] < 0 {
			kind = Darker
		}
		weigh(kind, light, leastLight)
		weigh(Colour, hue, leastColour)
		if best == 0 { // the whole says it for its parts
			weigh(Part, parts, leastPart)
		}
		if best > 0 {
			out = append(out, f)
		}
	}
	return out
}

// off is by how much each frame differs from the median of those around it, what changes evenly taken off, of the steps between
// them: so a burst of a few differs, and what changes for good or little by little does not.
func off(steps []float64) []float64 {
	level := make([]float64, len(steps)+1)
	for i, s := range steps {
		level[i+1] = level[i] + s
	}
	out := make([]float64, len(level))
	for i, x := range level {
		// As many on both sides; at an end, those nearest.
		from := max(0, min(i-behind, len(level)-1-2*behind))
		to := min(len(level), from+2*behind+1)
		slope := middle(slices.Clone(steps[from : to-1]))
		some := make([]float64, 0, to-from)
		for k := from; k < to; k++ {
			some = append(some, level[k]-float64(k-i)*slope)
		}
		out[i] = x - middle(some)
	}
	return out
}

// middle is the median of a list, which it sorts.
func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// usual is how much frames around one differ, as a median.
func usual(all []float64, at int) float64 {
	var some []float64
	for i := max(0, at-around); i <= min(len(all)-1, at+around); i++ {
		if i < at-1 || i > at+1 {
			some = append(some, math.Abs(all[i]))
		}
	}
	if len(some) == 0 {
		return 0
	}
	return middle(some)
}
