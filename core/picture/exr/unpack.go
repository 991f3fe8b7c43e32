package exr

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
)

// readable reports whether pixels that are packed so are read.
func readable(packing int) bool { return packing <= 5 }

// Readable reports whether a part's pixels are read.
func (p *Part) Readable() bool { return readable(p.packing) }

// unpacker unpacks chunks, one after another, in the same memory.
type unpacker struct {
	packed, plain, halves []byte
	words                 []uint16
	piz                   piz
}

// sized makes a buffer so long; what was in it is gone.
func sized[T any](buffer *[]T, n int) []T {
	if cap(*buffer) < n {
		*buffer = make([]T, n)
	}
	*buffer = (*buffer)[:n]
	return *buffer
}

var errTooShort = errors.New("it does not unpack to as much as its pixels are")

// unpack returns the rows of a chunk. One that packing would have made longer is stored plainly.
func (u *unpacker) unpack(p *Part, at image.Rectangle, packed []byte, plain int) ([]byte, error) {
	if len(packed) == plain {
		return packed, nil
	}
	var err error
	halves := sized(&u.halves, plain)
	switch p.Packing {
	case "none":
		return nil, errTooShort
	case "rle":
		err = unrun(halves, packed)
	case "zips", "zip":
		err = inflate(halves, packed)
	case "pxr24":
		return u.pxr24(p, at, packed, plain)
	case "piz":
		words := sized(&u.words, plain/2)
		if err := u.piz.unpack(p, at, packed, words); err != nil {
			return nil, err
		}
		return u.byRow(p, at, words, plain), nil
	}
	if err != nil {
		return nil, err
	}
	return u.joined(halves), nil
}

// joined undoes what is done to bytes before they are packed: each was made the difference to the one before, and those of odd
// places were put behind those of even ones.
func (u *unpacker) joined(halves []byte) []byte {
	out := sized(&u.plain, len(halves))
	for i := 1; i < len(halves); i++ {
		halves[i] += halves[i-1] - 128
	}
	odd := halves[(len(halves)+1)/2:]
	for i, b := range halves[:len(halves)-len(odd)] {
		out[2*i] = b
	}
	for i, b := range odd {
		out[2*i+1] = b
	}
	return out
}

// unrun unpacks runs: a length below 0 is of bytes as they are, any other of one that is repeated once more than it says.
func unrun(out, packed []byte) error {
	for len(packed) > 0 {
		n := int(int8(packed[0]))
		packed = packed[1:]
		switch {
		case n < 0 && -n <= len(packed) && -n <= len(out):
			copy(out, packed[:-n])
			out, packed = out[-n:], packed[-n:]
		case n >= 0 && len(packed) > 0 && n < len(out):
			for i := range n + 1 {
				out[i] = packed[0]
			}
			out, packed = out[n+1:], packed[1:]
		default:
			return errTooShort
		}
	}
	if len(out) > 0 {
		return errTooShort
	}
	return nil
}

// inflate unpacks DEFLATE in a zlib wrapping, to exactly so much.
func inflate(out, packed []byte) error {
	r, err := zlib.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	defer func() { _ = r.Close() }()
	if _, err := io.ReadFull(r, out); err != nil {
		return fmt.Errorf("%w: %v", errTooShort, err)
	}
	// The check of its sum comes with the end.
	if n, err := r.Read(make([]byte, 1)); n > 0 || err != io.EOF {
		return fmt.Errorf("%w, or to more: %v", errTooShort, err)
	}
	return nil
}

// pxr24 unpacks differences whose bytes stand plane by plane, the highest first; a float has lost its lowest.
func (u *unpacker) pxr24(p *Part, at image.Rectangle, packed []byte, plain int) ([]byte, error) {
	planes := func(c Channel) int { return [...]int{4, 2, 3}[c.Kind] }
	n := 0
	rowsOf(p, at, func(c Channel, width int) { n += planes(c) * width })
	from := sized(&u.halves, n)
	if err := inflate(from, packed); err != nil {
		return nil, err
	}
	out := sized(&u.plain, plain)
	to := out
	rowsOf(p, at, func(c Channel, width int) {
		var value uint32
		for x := range width {
			var difference uint32
			for b := range planes(c) {
				difference = difference<<8 | uint32(from[b*width+x])
			}
			if c.Kind == 2 {
				difference <<= 8
			}
			value += difference
			if c.Kind == half {
				binary.LittleEndian.PutUint16(to[2*x:], uint16(value))
			} else {
				binary.LittleEndian.PutUint32(to[4*x:], value)
			}
		}
		from, to = from[planes(c)*width:], to[c.bytes()*width:]
	})
	return out, nil
}

// rowsOf goes through the rows of a rectangle as they are stored, with how many values each has.
func rowsOf(p *Part, at image.Rectangle, see func(c Channel, width int)) {
	for y := at.Min.Y; y < at.Max.Y; y++ {
		for _, c := range p.Channels {
			if values(y, y+1, c.Every.Y) > 0 {
				see(c, values(at.Min.X, at.Max.X, c.Every.X))
			}
		}
	}
}

// byRow puts words that stand channel by channel row by row.
func (u *unpacker) byRow(p *Part, at image.Rectangle, words []uint16, plain int) []byte {
	out := sized(&u.plain, plain)
	starts := make([]int, len(p.Channels))
	at0 := 0
	for i, c := range p.Channels {
		starts[i] = at0
		at0 += c.bytes() / 2 * values(at.Min.X, at.Max.X, c.Every.X) * values(at.Min.Y, at.Max.Y, c.Every.Y)
	}
	to := out
	for y := at.Min.Y; y < at.Max.Y; y++ {
		for i, c := range p.Channels {
			if values(y, y+1, c.Every.Y) == 0 {
				continue
			}
			n := c.bytes() / 2 * values(at.Min.X, at.Max.X, c.Every.X)
			for _, w := range words[starts[i] : starts[i]+n] {
				binary.LittleEndian.PutUint16(to, w)
				to = to[2:]
			}
			starts[i] += n
		}
	}
	return out
}
