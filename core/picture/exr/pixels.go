package exr

import (
	"encoding/binary"
	"image"
	"math"
)

// Survey is what all pixels of a file are like, as far as they are read.
type Survey struct {
	NotFinite int  // values that are no number, or infinite
	Flat      bool // each channel has one value everywhere
	Read      bool // all parts could be read
}

// surveyor makes it.
type surveyor struct {
	Survey
	first map[Place]uint32 // the first value of each channel
	some  bool
}

func (f *File) surveyor() *surveyor {
	s := &surveyor{Survey: Survey{Flat: true, Read: !f.Deep()}, first: map[Place]uint32{}}
	for i := range f.Parts {
		s.Read = s.Read && f.Parts[i].Readable()
	}
	return s
}

// Survey reads all pixels and says what they are like.
func (f *File) Survey() (Survey, error) {
	s := f.surveyor()
	err := f.Read(func(b Block) error {
		b.Rows(func(r Row) { s.row(f, b, r) })
		return nil
	})
	return s.end(), err
}

func (s *surveyor) end() Survey {
	s.Flat = s.Flat && s.some && s.Read
	return s.Survey
}

func (s *surveyor) row(f *File, b Block, r Row) {
	kind := b.Part.Channels[r.Channel].Kind
	at := Place{f.index(b.Part), r.Channel}
	s.some = true
	first, known := s.first[at]
	if !known {
		first = value(r.Data, kind, 0)
		s.first[at] = first
		if first != 0 && !b.Part.Display.In(b.Part.Data) { // around it is nothing
			s.Flat = false
		}
	}
	n := len(r.Data) / b.Part.Channels[r.Channel].bytes()
	for i := 0; s.Flat && i < n; i++ {
		s.Flat = value(r.Data, kind, i) == first
	}
	switch kind {
	case half:
		for i := 1; i < len(r.Data); i += 2 {
			if r.Data[i]&0x7c == 0x7c {
				s.NotFinite++
			}
		}
	case 2:
		for i := 3; i < len(r.Data); i += 4 {
			if r.Data[i]&0x7f == 0x7f && r.Data[i-1]&0x80 != 0 {
				s.NotFinite++
			}
		}
	}
}

func (f *File) index(p *Part) int {
	for i := range f.Parts {
		if &f.Parts[i] == p {
			return i
		}
	}
	return -1
}

// value is one of a row as it is stored.
func value(row []byte, kind, i int) uint32 {
	if kind == half {
		return uint32(binary.LittleEndian.Uint16(row[2*i:]))
	}
	return binary.LittleEndian.Uint32(row[4*i:])
}

// HalfFloat is the number that the 16 bits of a half are.
func HalfFloat(h uint16) float32 {
	sign, exponent, fraction := uint32(h>>15)<<31, uint32(h>>10&0x1f), uint32(h&0x3ff)
	switch exponent {
	case 0: // without the leading one
		return math.Float32frombits(sign|0x3f800000) * float32(fraction) / (1 << 24)
	case 31:
		return math.Float32frombits(sign | 0x7f800000 | fraction<<13)
	}
	return math.Float32frombits(sign | (exponent+112)<<23 | fraction<<13)
}

// Picture reads a layer as it is looked at: within the display window, light brightened by so many stops, then as sRGB (IEC
// 61966-2-1) has it. What is brighter than 1 is white, what is no number is black, and what was not rendered is black. The
// survey is of the whole file.
func (f *File) Picture(l Layer, stops float64) (*image.NRGBA64, Survey, error) {
	window := f.Parts[0].Display
	out := image.NewNRGBA64(image.Rectangle{Max: window.Size()})
	for i := 6; i < len(out.Pix); i += 8 {
		out.Pix[i], out.Pix[i+1] = 0xff, 0xff
	}
	s, tone := f.surveyor(), newTone(stops)
	err := f.Read(func(b Block) error {
		part := f.index(b.Part)
		b.Rows(func(r Row) {
			s.row(f, b, r)
			for c, place := range l.Shown {
				if place == (Place{part, r.Channel}) {
					paint(out, window, b, r, tone, c, len(l.Shown) == 1)
				}
			}
		})
		return nil
	})
	return out, s.end(), err
}

// paint puts a row of a channel where it belongs: as one of the three colours, or as all of them.
func paint(out *image.NRGBA64, window image.Rectangle, b Block, r Row, tone *tone, colour int, grey bool) {
	c := b.Part.Channels[r.Channel]
	for y := r.Y; y < min(r.Y+c.Every.Y, b.At.Max.Y); y++ {
		if y < window.Min.Y || y >= window.Max.Y {
			continue
		}
		n := len(r.Data) / c.bytes()
		for x := max(b.At.Min.X, window.Min.X); x < min(b.At.Max.X, window.Max.X); x++ {
			i := min(n-1, (x-b.At.Min.X)/c.Every.X)
			v := tone.of(value(r.Data, c.Kind, i), c.Kind)
			at := out.PixOffset(x-window.Min.X, y-window.Min.Y) + 2*colour
			out.Pix[at], out.Pix[at+1] = byte(v>>8), byte(v)
			if grey {
				copy(out.Pix[at+2:], []byte{byte(v >> 8), byte(v), byte(v >> 8), byte(v)})
			}
		}
	}
}

// tone is how light is shown.
type tone struct {
	gain   float64
	halves []uint16 // by a half's bits
}

func newTone(stops float64) *tone {
	t := &tone{gain: math.Exp2(stops), halves: make([]uint16, 1<<16)}
	for h := range t.halves {
		t.halves[h] = t.shown(float64(HalfFloat(uint16(h))))
	}
	return t
}

func (t *tone) of(bits uint32, kind int) uint16 {
	switch kind {
	case half:
		return t.halves[bits]
	case 2:
		return t.shown(float64(math.Float32frombits(bits)))
	}
	return t.shown(float64(bits))
}

func (t *tone) shown(light float64) uint16 {
	v := light * t.gain
	switch {
	case !(v > 0): // nor a number
		return 0
	case v >= 1:
		return math.MaxUint16
	case v <= 0.0031308:
		v *= 12.92
	default:
		v = 1.055*math.Pow(v, 1/2.4) - 0.055
	}
	return uint16(v*math.MaxUint16 + 0.5)
}
