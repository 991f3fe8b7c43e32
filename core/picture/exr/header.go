// Package exr reads OpenEXR files: how they are made up, and the pixels of those that are stored plainly or packed with RLE, ZIPS,
// ZIP, PIZ or PXR24. Their structure is that of "OpenEXR File Layout" of the Academy Software Foundation; how pixels are packed,
// that of the library which is the format's reference. A file is read from the front to the back, once.
package exr

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"slices"
	"strings"
)

// Magic begins an OpenEXR file.
var Magic = []byte{0x76, 0x2f, 0x31, 0x01}

// Flags in the version field.
const (
	tiled     = 0x200
	deep      = 0x800
	multiPart = 0x1000
)

// The ways in which pixels are packed, by number.
var (
	packings = []string{"none", "rle", "zips", "zip", "piz", "pxr24", "b44", "b44a", "dwaa", "dwab"}
	// rows is how many rows a chunk of each holds.
	rows = []int{1, 1, 1, 16, 32, 16, 32, 32, 32, 256}
)

// ErrCutShort says that a file ends before all that it lists was there.
var ErrCutShort = errors.New("it is cut short")

// Bounds of what is kept of a file's structure while it is read.
const (
	mostValue  = 64 << 10 // bytes of an attribute that is read
	mostChunks = 2 << 20
	mostParts  = 1000
	mostPixels = 1 << 27 // of a part, as its data window has it
)

// Channel is one value of each pixel.
type Channel struct {
	Name string
	Kind int // 0 whole number of 32 bits, 1 half, 2 float
	// Every is of how many columns and rows one has a value.
	Every image.Point
}

func (c Channel) bytes() int {
	if c.Kind == half {
		return 2
	}
	return 4
}

const half = 1

// Part is one picture of a file; most files have one.
type Part struct {
	Name     string
	Channels []Channel // in the order in which they are stored
	Data     image.Rectangle
	Display  image.Rectangle
	Packing  string

	packing int
	tiled   bool
	tile    image.Point
	levels  int // 0 one, 1 mipmaps, 2 ripmaps
	chunks  int // as declared; 0 is not
}

// File is an OpenEXR file whose header was read.
type File struct {
	Parts []Part

	r       *reader
	version uint32
}

// Open reads a file's header.
func Open(file *bufio.Reader) (*File, error) {
	f := &File{r: &reader{file: file}}
	f.r.take(len(Magic))
	f.version = f.r.uint32()
	for len(f.Parts) < mostParts {
		p, err := f.r.header(f.version)
		if err != nil {
			return nil, err
		}
		f.Parts = append(f.Parts, p)
		if f.version&multiPart == 0 {
			break
		}
		if f.r.peek() == 0 {
			f.r.take(1)
			break
		}
	}
	if !slices.ContainsFunc(f.Parts, func(p Part) bool { return len(p.Channels) > 0 }) {
		return nil, errors.New("it has no channel")
	}
	return f, nil
}

// Deep reports whether pixels have several samples each, which are not read.
func (f *File) Deep() bool { return f.version&deep != 0 }

// Size is that of the picture: of the first part's display window.
func (f *File) Size() image.Point { return f.Parts[0].Display.Size() }

// ChannelNames lists all channels; those of a part behind the first with its name.
func (f *File) ChannelNames() (out []string) {
	for i := range f.Parts {
		for _, c := range f.Parts[i].Channels {
			out = append(out, f.Parts[i].full(i, c.Name))
		}
	}
	return out
}

// full is a channel's name in the file.
func (p *Part) full(part int, channel string) string {
	if part == 0 || p.Name == "" || strings.HasPrefix(channel, p.Name+".") {
		return channel
	}
	return p.Name + "." + channel
}

// reader reads a file on and on, and knows where it is.
type reader struct {
	file *bufio.Reader
	at   uint64
	err  error
}

func (r *reader) take(n int) []byte {
	out := make([]byte, n)
	r.fill(out)
	return out
}

func (r *reader) fill(out []byte) {
	if r.err == nil {
		if _, err := io.ReadFull(r.file, out); err != nil {
			r.err = ErrCutShort
		}
		r.at += uint64(len(out))
	}
}

func (r *reader) skip(n int) {
	if r.err == nil {
		if _, err := r.file.Discard(n); err != nil {
			r.err = ErrCutShort
		}
		r.at += uint64(n)
	}
}

// skipTo reads on to a place further back.
func (r *reader) skipTo(offset uint64) {
	for r.err == nil && r.at < offset {
		r.skip(int(min(offset-r.at, 1<<30)))
	}
}

func (r *reader) uint32() uint32 { return binary.LittleEndian.Uint32(r.take(4)) }

func (r *reader) peek() byte {
	next, err := r.file.Peek(1)
	if err != nil {
		r.err = ErrCutShort
		return 0
	}
	return next[0]
}

// word reads text that ends in a zero byte.
func (r *reader) word() string {
	var out []byte
	for len(out) < 256 {
		b := r.take(1)[0]
		if r.err != nil || b == 0 {
			return string(out)
		}
		out = append(out, b)
	}
	r.err = ErrCutShort
	return ""
}

// header reads the attributes of a part up to the empty name that ends them.
func (r *reader) header(version uint32) (Part, error) {
	p := Part{tiled: version&tiled != 0, packing: -1}
	for {
		name := r.word()
		if name == "" || r.err != nil {
			break
		}
		kind, size := r.word(), int(int32(r.uint32()))
		switch {
		case size < 0:
			r.err = ErrCutShort
		case size > mostValue: // none that is asked for here
			r.skip(size)
			continue
		}
		if r.err != nil {
			break
		}
		value := r.take(size)
		if r.err != nil {
			break
		}
		if err := p.attribute(name, kind, value); err != nil {
			return p, err
		}
	}
	if r.err != nil {
		return p, r.err
	}
	return p, p.check()
}

func (p *Part) check() error {
	if p.Display.Empty() {
		p.Display = p.Data
	}
	size := p.Data.Size()
	switch {
	case size.X <= 0 || size.Y <= 0:
		return errors.New("its header gives no size")
	case size.X > mostPixels/size.Y:
		return fmt.Errorf("it is %dx%d, and at most %d pixels are read", size.X, size.Y, mostPixels)
	case p.packing < 0 || p.packing >= len(packings):
		return fmt.Errorf("its header gives no compression that is known (%d)", p.packing)
	}
	p.Packing = packings[p.packing]
	for _, c := range p.Channels {
		if c.Kind < 0 || c.Kind > 2 || c.Every.X < 1 || c.Every.Y < 1 {
			return fmt.Errorf("its channel %s is of kind %d, of each %dx%d pixels one: that is not known", c.Name, c.Kind, c.Every.X, c.Every.Y)
		}
	}
	return nil
}

// farthest is how far windows lie from 0 at most, so that sums of their corners are right.
const farthest = 1 << 28

func (p *Part) attribute(name, kind string, value []byte) error {
	number := func(i int) int { return int(int32(binary.LittleEndian.Uint32(value[i:]))) }
	window := func() (image.Rectangle, error) {
		out := image.Rectangle{Min: image.Pt(number(0), number(4)), Max: image.Pt(number(8)+1, number(12)+1)}
		for _, x := range []int{out.Min.X, out.Min.Y, out.Max.X, out.Max.Y} {
			if x < -farthest || x > farthest {
				return out, fmt.Errorf("its %s is %v", name, out)
			}
		}
		return out, nil
	}
	var err error
	switch {
	case name == "dataWindow" && kind == "box2i" && len(value) == 16:
		p.Data, err = window()
	case name == "displayWindow" && kind == "box2i" && len(value) == 16:
		p.Display, err = window()
	case name == "compression" && len(value) == 1:
		p.packing = int(value[0])
	case name == "name" && kind == "string":
		p.Name = string(value)
	case name == "type" && (string(value) == "tiledimage" || string(value) == "deeptile"):
		p.tiled = true
	case name == "chunkCount" && len(value) == 4:
		p.chunks = number(0)
	case name == "tiles" && len(value) == 9:
		p.tile, p.levels = image.Pt(number(0), number(4)), int(value[8]&0xf)
	case name == "channels" && kind == "chlist":
		c := reader{file: bufio.NewReader(bytes.NewReader(value))}
		for c.err == nil && c.peek() != 0 {
			channel := Channel{Name: c.word(), Kind: int(c.uint32())}
			c.take(4) // whether it is perceptually linear
			channel.Every = image.Pt(int(int32(c.uint32())), int(int32(c.uint32())))
			p.Channels = append(p.Channels, channel)
		}
		err = c.err
	}
	return err
}
