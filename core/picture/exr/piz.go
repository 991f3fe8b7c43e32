package exr

import (
	"encoding/binary"
	"errors"
	"fmt"
	"image"
)

// PIZ: the values that occur are numbered, each channel's numbers go through a Haar-like wavelet in two dimensions, and what comes
// out is packed with a canonical Huffman code that has a symbol for repeating the one before.

var errPIZ = errors.New("its code is broken")

// piz unpacks it, one chunk after another, in the same memory.
type piz struct {
	values  []uint16 // by number
	lengths []byte   // of codes, by symbol
	symbols []uint32 // by length, then by symbol
	short   []uint32 // by the next bits: symbol<<8 | length; 0: the code is longer, or there is none
}

const (
	bitmapBytes = 1 << 13
	mostCode    = 58 // bits
	shortCode   = 12
)

func (z *piz) unpack(p *Part, at image.Rectangle, packed []byte, out []uint16) error {
	rest, most, err := z.numbers(packed)
	if err != nil {
		return err
	}
	if len(rest) < 4 {
		return errPIZ
	}
	length := binary.LittleEndian.Uint32(rest)
	if rest = rest[4:]; uint64(length) > uint64(len(rest)) {
		return errPIZ
	}
	if err := z.decode(rest[:length], out); err != nil {
		return err
	}
	words := out
	for _, c := range p.Channels {
		w, h, each := values(at.Min.X, at.Max.X, c.Every.X), values(at.Min.Y, at.Max.Y, c.Every.Y), c.bytes()/2
		for j := range each {
			wavelet(words[min(j, len(words)):], w, each, h, w*each, most)
		}
		words = words[w*h*each:]
	}
	for i, n := range out {
		out[i] = z.values[n]
	}
	return nil
}

// numbers reads which values occur: a bitmap between the first and the last byte of it that is not 0. Most is the largest number.
func (z *piz) numbers(packed []byte) (rest []byte, most uint16, err error) {
	if len(packed) < 4 {
		return nil, 0, errPIZ
	}
	first, last := int(binary.LittleEndian.Uint16(packed)), int(binary.LittleEndian.Uint16(packed[2:]))
	rest = packed[4:]
	var bitmap [bitmapBytes]byte
	if first <= last {
		n := last - first + 1
		if last >= bitmapBytes || len(rest) < n {
			return nil, 0, errPIZ
		}
		copy(bitmap[first:], rest[:n])
		rest = rest[n:]
	}
	numbered := sized(&z.values, 1<<16)
	n := 0
	for v := range 1 << 16 {
		if v == 0 || bitmap[v>>3]&(1<<(v&7)) != 0 { // 0 has always a number
			numbered[n] = uint16(v)
			n++
		}
	}
	clear(numbered[n:])
	return rest, uint16(n - 1), nil
}

// bits reads a stream of bits, the highest of each byte first.
type bits struct {
	data []byte
	held uint64
	n    int
}

// fill has at least 32 bits held, as long as there are so many.
func (b *bits) fill() {
	for b.n <= 56 && len(b.data) > 0 {
		b.held = b.held<<8 | uint64(b.data[0])
		b.data, b.n = b.data[1:], b.n+8
	}
}

func (b *bits) take(n int) (uint32, error) {
	if b.fill(); b.n < n {
		return 0, errPIZ
	}
	b.n -= n
	return uint32(b.held>>b.n) & (1<<n - 1), nil
}

// decode unpacks the Huffman code.
func (z *piz) decode(packed []byte, out []uint16) error {
	if len(packed) < 20 {
		if len(out) == 0 {
			return nil
		}
		return errPIZ
	}
	first, last := binary.LittleEndian.Uint32(packed), binary.LittleEndian.Uint32(packed[4:])
	total := binary.LittleEndian.Uint32(packed[12:])
	if first > last || last > 1<<16 {
		return errPIZ
	}
	stream := bits{data: packed[20:]}
	if err := z.readLengths(&stream, int(first), int(last)); err != nil {
		return err
	}
	// The code begins at a byte.
	code := bits{data: packed[len(packed)-len(stream.data)-stream.n/8:]}
	if uint64(total) > 8*uint64(len(code.data)) {
		return errPIZ
	}
	return z.symbolsOf(&code, int(total), int(last), out)
}

// readLengths reads how long each symbol's code is: in six bits, of which the highest numbers say how many symbols have none.
func (z *piz) readLengths(b *bits, first, last int) error {
	lengths := sized(&z.lengths, 1<<16+1)
	clear(lengths)
	for s := first; s <= last; {
		l, err := b.take(6)
		if err != nil {
			return err
		}
		none := 0
		switch {
		case l == 63:
			more, err := b.take(8)
			if err != nil {
				return err
			}
			none = int(more) + 6
		case l > mostCode:
			none = int(l) - mostCode + 1
		default:
			lengths[s] = byte(l)
			s++
			continue
		}
		if s += none; s > last+1 {
			return fmt.Errorf("%w: its table is too long", errPIZ)
		}
	}
	return nil
}

// codes are the first code of each length and where its symbols begin.
type codes struct {
	first  [mostCode + 2]uint64
	count  [mostCode + 2]uint64
	starts [mostCode + 2]int
}

// canonical lays the codes out: the longest begin with 0, and each length goes on where half of the longer ones ended.
func (z *piz) canonical() (c codes) {
	for _, l := range z.lengths {
		c.count[l]++
	}
	c.count[0] = 0
	var next uint64
	for l := mostCode; l > 0; l-- {
		c.first[l] = next
		next = (next + c.count[l]) >> 1
	}
	at := 0
	for l := 1; l <= mostCode; l++ {
		c.starts[l] = at
		at += int(c.count[l])
	}
	symbols := sized(&z.symbols, at)
	places := c.starts
	for s, l := range z.lengths {
		if l > 0 {
			symbols[places[l]] = uint32(s)
			places[l]++
		}
	}
	short := sized(&z.short, 1<<shortCode)
	clear(short)
	for l := 1; l <= shortCode; l++ {
		for i := range c.count[l] {
			from, n := (c.first[l]+i)<<(shortCode-l), uint64(1)<<(shortCode-l)
			for j := from; j < from+n && j < uint64(len(short)); j++ {
				short[j] = symbols[c.starts[l]+int(i)]<<8 | uint32(l)
			}
		}
	}
	return c
}

// symbolsOf reads symbols from so many bits until there are as many as are wanted.
func (z *piz) symbolsOf(b *bits, total, repeat int, out []uint16) error {
	c := z.canonical()
	n := 0
	for n < len(out) {
		symbol, length, err := z.symbol(b, &c)
		if total -= length; err != nil || total < 0 {
			return errPIZ
		}
		if symbol != repeat {
			out[n] = uint16(symbol)
			n++
			continue
		}
		times, err := b.take(8)
		if total -= 8; err != nil || n == 0 || total < 0 || int(times) > len(out)-n {
			return errPIZ
		}
		for range times {
			out[n] = out[n-1]
			n++
		}
	}
	return nil
}

// symbol reads one.
func (z *piz) symbol(b *bits, c *codes) (symbol, length int, err error) {
	b.fill()
	if b.n >= shortCode {
		if s := z.short[b.held>>(b.n-shortCode)&(1<<shortCode-1)]; s != 0 {
			b.n -= int(s & 0xff)
			return int(s >> 8), int(s & 0xff), nil
		}
	}
	var code uint64
	for l := 1; l <= mostCode; l++ {
		bit, err := b.take(1)
		if err != nil {
			return 0, 0, err
		}
		code = code<<1 | uint64(bit)
		if code >= c.first[l] && code-c.first[l] < c.count[l] {
			return int(z.symbols[c.starts[l]+int(code-c.first[l])]), l, nil
		}
	}
	return 0, 0, errPIZ
}

// wavelet undoes it in place, for w x h values that are dx and dy apart.
func wavelet(data []uint16, w, dx, h, dy int, most uint16) {
	undo := undo16
	if most < 1<<14 {
		undo = undo14
	}
	p := 1
	for p <= min(w, h) {
		p <<= 1
	}
	p >>= 1
	for p2, p := p, p>>1; p >= 1; p2, p = p, p>>1 {
		right, down := dx*p, dy*p
		y := 0
		for ; y <= h-p2; y += p2 {
			x := 0
			for ; x <= w-p2; x += p2 {
				i := y*dy + x*dx
				a, b := undo(data[i], data[i+down])
				c, d := undo(data[i+right], data[i+right+down])
				data[i], data[i+right] = undo(a, c)
				data[i+down], data[i+right+down] = undo(b, d)
			}
			if w&p != 0 {
				i := y*dy + x*dx
				data[i], data[i+down] = undo(data[i], data[i+down])
			}
		}
		if h&p != 0 {
			for x := 0; x <= w-p2; x += p2 {
				i := y*dy + x*dx
				data[i], data[i+right] = undo(data[i], data[i+right])
			}
		}
	}
}

// undo14 gives two values back from their mean and their difference, where neither needs 15 bits.
func undo14(mean, difference uint16) (a, b uint16) {
	m, d := int16(mean), int16(difference)
	first := int32(m) + int32(d&1) + int32(d>>1)
	return uint16(first), uint16(first - int32(d))
}

// undo16 does so for any values, in the arithmetic of 16 bits.
func undo16(mean, difference uint16) (a, b uint16) {
	b = mean - difference>>1
	return difference + b - 1<<15, b
}
