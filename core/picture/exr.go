package picture

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
)

// exrMagic begins an OpenEXR file. Its structure is read as "OpenEXR File Layout"
// of the Academy Software Foundation describes it; pixels are not decoded.
var exrMagic = []byte{0x76, 0x2f, 0x31, 0x01}

// exr flags in the version field.
const (
	exrTiled     = 0x200
	exrDeep      = 0x800
	exrMultiPart = 0x1000
)

// exrLines is how many rows a chunk of each compression holds: none, run lengths,
// zip of one, zip, piz, pxr24, b44, b44a, dwaa, dwab.
var exrLines = []int{1, 1, 1, 16, 32, 16, 32, 32, 32, 256}

type exrPart struct {
	channels      []string
	width, height int
	compression   int
	tiled         bool
	tile          [2]int
	levels        int // 0 one, 1 mipmaps, 2 ripmaps
	chunks        int // as declared; 0 is not
}

var errCutShort = errors.New("it is cut short")

// Bounds of what is kept of a file's structure while it is read.
const (
	exrMostValue  = 64 << 10 // bytes of an attribute that is read
	exrMostChunks = 2 << 20
	exrMostParts  = 1000
)

// checkEXR reads an OpenEXR file's structure: header, size, channels, and whether
// every chunk of pixels that its table lists is there to the end. Whether it has the size that is wanted is asked
// before its table is read. It reads from the front to the back, and keeps no more than the table.
func checkEXR(file *bufio.Reader, sized func(Info) error) (Info, error) {
	r := exrReader{file: file}
	r.take(len(exrMagic))
	version := r.uint32()
	var parts []exrPart
	for len(parts) < exrMostParts {
		p, err := r.header(version)
		if err != nil {
			return Info{}, undecodable(err)
		}
		parts = append(parts, p)
		if version&exrMultiPart == 0 {
			break
		}
		if b := r.peek(); b == 0 {
			r.take(1)
			break
		}
	}
	first := parts[0]
	info := Info{Format: "exr", Width: first.width, Height: first.height}
	for _, p := range parts {
		info.Channels = append(info.Channels, p.channels...)
	}
	if len(info.Channels) == 0 {
		return info, undecodable(errors.New("it has no channel"))
	}
	if err := sized(info); err != nil {
		return info, err
	}
	var chunks []exrChunk
	for _, p := range parts {
		listed, err := r.table(p, version)
		if err != nil {
			return info, undecodable(err)
		}
		chunks = append(chunks, listed...)
	}
	return info, undecodable(r.chunks(chunks))
}

func undecodable(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: OpenEXR: %w", ErrUndecodable, err)
}

// exrReader reads a file on and on, and knows where it is.
type exrReader struct {
	file *bufio.Reader
	at   uint64
	err  error
}

func (r *exrReader) take(n int) []byte {
	out := make([]byte, n)
	if r.err == nil {
		if _, err := io.ReadFull(r.file, out); err != nil {
			r.err = errCutShort
		}
		r.at += uint64(n)
	}
	return out
}

func (r *exrReader) skip(n int) {
	if r.err == nil {
		if _, err := r.file.Discard(n); err != nil {
			r.err = errCutShort
		}
		r.at += uint64(n)
	}
}

func (r *exrReader) uint32() uint32 { return binary.LittleEndian.Uint32(r.take(4)) }

func (r *exrReader) peek() byte {
	next, err := r.file.Peek(1)
	if err != nil {
		r.err = errCutShort
		return 0
	}
	return next[0]
}

// word reads text that ends in a zero byte.
func (r *exrReader) word() string {
	var out []byte
	for len(out) < 256 {
		b := r.take(1)[0]
		if r.err != nil || b == 0 {
			return string(out)
		}
		out = append(out, b)
	}
	r.err = errCutShort
	return ""
}

// header reads the attributes of a part up to the empty name that ends them.
func (r *exrReader) header(version uint32) (exrPart, error) {
	p := exrPart{tiled: version&exrTiled != 0, compression: -1}
	for {
		name := r.word()
		if name == "" || r.err != nil {
			break
		}
		kind, size := r.word(), int(int32(r.uint32()))
		switch {
		case size < 0:
			r.err = errCutShort
		case size > exrMostValue: // none that is asked for here
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
	switch {
	case r.err != nil:
		return p, r.err
	case p.width <= 0 || p.height <= 0:
		return p, errors.New("its header gives no size")
	case p.compression < 0 || p.compression >= len(exrLines):
		return p, fmt.Errorf("its header gives no compression that is known (%d)", p.compression)
	}
	return p, nil
}

func (p *exrPart) attribute(name, kind string, value []byte) error {
	number := func(i int) int { return int(int32(binary.LittleEndian.Uint32(value[i:]))) }
	switch {
	case name == "dataWindow" && kind == "box2i" && len(value) == 16:
		p.width, p.height = number(8)-number(0)+1, number(12)-number(4)+1
	case name == "compression" && len(value) == 1:
		p.compression = int(value[0])
	case name == "type" && (string(value) == "tiledimage" || string(value) == "deeptile"):
		p.tiled = true
	case name == "chunkCount" && len(value) == 4:
		p.chunks = number(0)
	case name == "tiles" && len(value) == 9:
		p.tile, p.levels = [2]int{number(0), number(4)}, int(value[8]&0xf)
	case name == "channels" && kind == "chlist":
		c := exrReader{file: bufio.NewReader(bytes.NewReader(value))}
		for c.peek() != 0 {
			p.channels = append(p.channels, c.word())
			c.take(16)
			if c.err != nil {
				return c.err
			}
		}
	}
	return nil
}

// count is how many chunks a part has.
func (p exrPart) count() (int, error) {
	up := func(n, by int) int { return (n-1)/by + 1 }
	switch {
	case p.chunks > 0:
		return p.chunks, nil
	case !p.tiled:
		return up(p.height, exrLines[p.compression]), nil
	case p.tile[0] <= 0 || p.tile[1] <= 0:
		return 0, errors.New("it is tiled, but its header gives no tile size")
	}
	n := 0
	for w, h := p.width, p.height; ; w, h = max(1, w/2), max(1, h/2) {
		n += up(w, p.tile[0]) * up(h, p.tile[1])
		if p.levels == 0 || (w == 1 && h == 1) {
			return n, nil
		}
	}
}

// exrChunk is where a chunk of pixels begins, and how long its head is; 0: it is not looked at.
type exrChunk struct {
	offset uint64
	head   int
}

// table reads a part's table of offsets.
func (r *exrReader) table(p exrPart, version uint32) ([]exrChunk, error) {
	n, err := p.count()
	if err != nil {
		return nil, err
	}
	if n < 0 || n > exrMostChunks {
		return nil, fmt.Errorf("it has %d chunks, and at most %d are read", n, exrMostChunks)
	}
	head := 4 // the row
	if p.tiled {
		head = 16
	}
	if version&exrMultiPart != 0 {
		head += 4
	}
	if version&exrDeep != 0 {
		head = 0 // deep chunks have a longer head; that each is listed must do
	}
	var out []exrChunk
	for i := range n {
		offset := binary.LittleEndian.Uint64(r.take(8))
		if r.err != nil {
			return nil, r.err
		}
		if offset == 0 {
			return nil, fmt.Errorf("%w: part %d of %d was never written", errCutShort, i+1, n)
		}
		out = append(out, exrChunk{offset, head})
	}
	return out, nil
}

// chunks looks at each chunk that was listed, in the order in which they stand in the file.
func (r *exrReader) chunks(listed []exrChunk) error {
	slices.SortFunc(listed, func(a, b exrChunk) int { return cmp.Compare(a.offset, b.offset) })
	var end uint64
	for i, c := range listed {
		if c.head == 0 {
			end = max(end, c.offset)
			continue
		}
		if c.offset < r.at {
			return fmt.Errorf("part %d of %d lies in the midst of another", i+1, len(listed))
		}
		r.skipTo(c.offset)
		r.take(c.head)
		size := uint64(r.uint32())
		if r.err != nil {
			return fmt.Errorf("%w: part %d of %d lies past its end", r.err, i+1, len(listed))
		}
		end = max(end, r.at+size)
	}
	if r.skipTo(end); r.err != nil {
		return fmt.Errorf("%w: its last part lies past its end", r.err)
	}
	return nil
}

// skipTo reads on to a place further back.
func (r *exrReader) skipTo(offset uint64) {
	for r.err == nil && r.at < offset {
		r.skip(int(min(offset-r.at, 1<<30)))
	}
}
