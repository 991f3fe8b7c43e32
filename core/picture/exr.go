package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
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

// checkEXR reads an OpenEXR file's structure: header, size, channels, and whether
// every chunk of pixels that its table lists is there to the end.
func checkEXR(data []byte) (Info, error) {
	r := exrReader{data: data, at: 4}
	version := r.uint32()
	var parts []exrPart
	for {
		p, err := r.header(version)
		if err != nil {
			return Info{}, err
		}
		parts = append(parts, p)
		if version&exrMultiPart == 0 {
			break
		}
		if b := r.peek(); b == 0 {
			r.at++
			break
		}
	}
	first := parts[0]
	info := Info{Format: "exr", Width: first.width, Height: first.height}
	for _, p := range parts {
		info.Channels = append(info.Channels, p.channels...)
	}
	if len(info.Channels) == 0 {
		return info, errors.New("it has no channel")
	}
	for _, p := range parts {
		if err := r.chunks(p, version); err != nil {
			return info, err
		}
	}
	return info, r.err
}

type exrReader struct {
	data []byte
	at   int
	err  error
}

func (r *exrReader) take(n int) []byte {
	if n < 0 || r.at+n > len(r.data) || r.err != nil {
		r.err = errCutShort
		return make([]byte, max(0, min(n, 64)))
	}
	out := r.data[r.at : r.at+n]
	r.at += n
	return out
}

func (r *exrReader) uint32() uint32 { return binary.LittleEndian.Uint32(r.take(4)) }

func (r *exrReader) peek() byte {
	if r.at >= len(r.data) {
		r.err = errCutShort
		return 0
	}
	return r.data[r.at]
}

// word reads text that ends in a zero byte.
func (r *exrReader) word() string {
	n := bytes.IndexByte(r.data[min(r.at, len(r.data)):], 0)
	if n < 0 || n > 255 {
		r.err = errCutShort
		return ""
	}
	out := string(r.data[r.at : r.at+n])
	r.at += n + 1
	return out
}

// header reads the attributes of a part up to the empty name that ends them.
func (r *exrReader) header(version uint32) (exrPart, error) {
	p := exrPart{tiled: version&exrTiled != 0, compression: -1}
	for {
		name := r.word()
		if name == "" || r.err != nil {
			break
		}
		kind, size := r.word(), int(r.uint32())
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
		c := exrReader{data: value}
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
	up := func(n, by int) int { return (n + by - 1) / by }
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

// chunks reads a part's table of offsets and looks at each chunk.
func (r *exrReader) chunks(p exrPart, version uint32) error {
	n, err := p.count()
	if err != nil {
		return err
	}
	if n > (len(r.data)-r.at)/8 {
		return errCutShort
	}
	for i := range n {
		offset := binary.LittleEndian.Uint64(r.take(8))
		if offset == 0 {
			return fmt.Errorf("%w: part %d of %d was never written", errCutShort, i+1, n)
		}
		if version&exrDeep != 0 {
			continue // deep chunks have a longer head; that each is listed must do
		}
		head := 4 // the row
		if p.tiled {
			head = 16
		}
		if version&exrMultiPart != 0 {
			head += 4
		}
		end := offset + uint64(head) + 4
		if end > uint64(len(r.data)) || end < offset {
			return fmt.Errorf("%w: part %d of %d lies past its end", errCutShort, i+1, n)
		}
		if size := uint64(binary.LittleEndian.Uint32(r.data[end-4:])); end+size > uint64(len(r.data)) {
			return fmt.Errorf("%w: part %d of %d lies past its end", errCutShort, i+1, n)
		}
	}
	return nil
}
