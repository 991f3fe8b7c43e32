package exr

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"slices"
)

// count is how many chunks a part has.
func (p *Part) count() (int, error) {
	up := func(n, by int) int { return (n-1)/by + 1 }
	w, h := p.Data.Dx(), p.Data.Dy()
	n := 0
	switch {
	case !p.tiled:
		n = up(h, rows[p.packing])
	case p.tile.X <= 0 || p.tile.Y <= 0:
		return 0, errors.New("it is tiled, but its header gives no tile size")
	case p.levels > 0 && p.chunks > 0: // smaller copies may be made in several ways
		return p.chunks, nil
	default:
		for ; ; w, h = max(1, w/2), max(1, h/2) {
			n += up(w, p.tile.X) * up(h, p.tile.Y)
			if p.levels == 0 || (w == 1 && h == 1) {
				break
			}
		}
	}
	if p.chunks > 0 && p.chunks != n {
		return 0, fmt.Errorf("it says that it has %d chunks; its pixels are %d", p.chunks, n)
	}
	return n, nil
}

// chunk is where some pixels of a part begin.
type chunk struct {
	offset uint64
	part   int
}

// table reads a part's table of offsets.
func (f *File) table(part int) ([]chunk, error) {
	n, err := f.Parts[part].count()
	if err != nil {
		return nil, err
	}
	if n < 0 || n > mostChunks {
		return nil, fmt.Errorf("it has %d chunks, and at most %d are read", n, mostChunks)
	}
	var out []chunk
	for i := range n {
		offset := binary.LittleEndian.Uint64(f.r.take(8))
		if f.r.err != nil {
			return nil, f.r.err
		}
		if offset == 0 {
			return nil, fmt.Errorf("%w: part %d of %d was never written", ErrCutShort, i+1, n)
		}
		out = append(out, chunk{offset, part})
	}
	return out, nil
}

// Block is a rectangle of a part's pixels.
type Block struct {
	Part *Part
	At   image.Rectangle // in the data window's coordinates
	rows []byte          // as they are stored unpacked: row by row, channel by channel
}

// Read reads all chunks that the file lists, and tells of those of full size whose pixels are packed in a way that is read. What
// it tells of is gone with the next. Deep files, and parts whose packing is not read, are looked at for whether all is there.
func (f *File) Read(see func(Block) error) error {
	var listed []chunk
	for i := range f.Parts {
		some, err := f.table(i)
		if err != nil {
			return err
		}
		listed = append(listed, some...)
	}
	slices.SortStableFunc(listed, func(a, b chunk) int { return cmp.Compare(a.offset, b.offset) })
	if f.Deep() {
		// Their chunks have a longer head; that each is listed must do.
		f.r.skipTo(listed[len(listed)-1].offset)
		return f.r.err
	}
	u := unpacker{}
	for i, c := range listed {
		if c.offset < f.r.at {
			return fmt.Errorf("part %d of %d lies in the midst of another", i+1, len(listed))
		}
		f.r.skipTo(c.offset)
		if err := f.chunk(&u, c, see); err != nil {
			return fmt.Errorf("part %d of %d: %w", i+1, len(listed), err)
		}
	}
	return nil
}

// chunk reads one.
func (f *File) chunk(u *unpacker, c chunk, see func(Block) error) error {
	p := &f.Parts[c.part]
	if f.version&multiPart != 0 {
		if is := int(f.r.uint32()); f.r.err == nil && is != c.part {
			return fmt.Errorf("it says that it is of picture %d, and is listed for %d", is, c.part)
		}
	}
	at, whole := f.place(p)
	size := uint64(f.r.uint32())
	if f.r.err != nil {
		return fmt.Errorf("%w: it lies past the end", f.r.err)
	}
	if !whole || !readable(p.packing) {
		if f.r.skipTo(f.r.at + size); f.r.err != nil {
			return f.r.err
		}
		return nil
	}
	if at.Empty() || !at.In(p.Data) {
		return fmt.Errorf("its pixels %v lie outside of %v", at, p.Data)
	}
	plain := p.bytes(at)
	if plain > mostChunk {
		return fmt.Errorf("its pixels are %d bytes, and at most %d are read at once", plain, mostChunk)
	}
	if size > uint64(plain) {
		return fmt.Errorf("its %d bytes unpack to more than the %d of its pixels", size, plain)
	}
	packed := sized(&u.packed, int(size))
	if f.r.fill(packed); f.r.err != nil {
		return f.r.err
	}
	data, err := u.unpack(p, at, packed, plain)
	if err != nil {
		return fmt.Errorf("%s: %w", p.Packing, err)
	}
	return see(Block{p, at, data})
}

// place reads where a chunk's pixels are; whole is false for those of a smaller copy.
func (f *File) place(p *Part) (at image.Rectangle, whole bool) {
	number := func() int { return int(int32(f.r.uint32())) }
	if !p.tiled {
		at = p.Data
		at.Min.Y = number()
		at.Max.Y = min(at.Min.Y+rows[p.packing], p.Data.Max.Y)
		return at, true
	}
	x, y, lx, ly := number(), number(), number(), number()
	if x < 0 || y < 0 || x > farthest/max(1, p.tile.X) || y > farthest/max(1, p.tile.Y) {
		return image.Rectangle{}, lx == 0 && ly == 0
	}
	at.Min = p.Data.Min.Add(image.Pt(x*p.tile.X, y*p.tile.Y))
	at.Max = at.Min.Add(p.tile)
	return at.Intersect(p.Data), lx == 0 && ly == 0
}

// values is how many values a channel has in a stretch from an inclusive to an exclusive bound, of each so many one.
func values(from, to, every int) int {
	if every == 1 {
		return to - from
	}
	floor := func(n int) int {
		q := n / every
		if n%every < 0 {
			q--
		}
		return q
	}
	return floor(to-1) - floor(from-1)
}

// bytes is how many a rectangle's pixels have.
func (p *Part) bytes(at image.Rectangle) (n int) {
	for _, c := range p.Channels {
		n += c.bytes() * values(at.Min.X, at.Max.X, c.Every.X) * values(at.Min.Y, at.Max.Y, c.Every.Y)
	}
	return n
}

// Row is the values of one channel in a row.
type Row struct {
	Channel int // of the part's
	Y       int
	Data    []byte
}

// mostChunk is how many bytes a chunk unpacks to at most.
const mostChunk = 1 << 29

// Memory is how many bytes reading takes at most, besides what is done with what is read.
func (f *File) Memory() (most int64) {
	for i := range f.Parts {
		p := &f.Parts[i]
		at := p.Data
		if p.tiled {
			at.Max = at.Min.Add(p.tile)
		} else {
			at.Max.Y = at.Min.Y + rows[p.packing]
		}
		if at = at.Intersect(p.Data); p.Readable() && !at.Empty() {
			most = max(most, 3*int64(min(p.bytes(at), mostChunk))) // packed, unpacked, and put in order
		}
	}
	return most
}

// Rows goes through all rows of a block.
func (b Block) Rows(see func(Row)) {
	data := b.rows
	for y := b.At.Min.Y; y < b.At.Max.Y; y++ {
		for i, c := range b.Part.Channels {
			if values(y, y+1, c.Every.Y) == 0 {
				continue
			}
			n := c.bytes() * values(b.At.Min.X, b.At.Max.X, c.Every.X)
			see(Row{i, y, data[:n]})
			data = data[n:]
		}
	}
}
