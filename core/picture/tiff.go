package picture

import (
	"fmt"
	"image"
	"io"

	"golang.org/x/image/tiff"
)

// A TIFF file may have its directory behind its pixels, so it is read from a place and not from its start on. Of one with several
// pictures the first is read.

// tiffMagics are how TIFF files begin, of either order of bytes.
var tiffMagics = []string{"II*\x00", "MM\x00*"}

// atPlace reads from a place of what can be sought in, a block at a time: a store behind a URL asks anew for each place.
type atPlace struct {
	io.ReadSeeker
	block []byte
	from  int64
}

const blockBytes = 1 << 20

// ReadAt implements io.ReaderAt, for one reader at a time.
func (a *atPlace) ReadAt(p []byte, off int64) (n int, err error) {
	for n < len(p) {
		at := off + int64(n)
		if at < a.from || at >= a.from+int64(len(a.block)) {
			if err := a.read(at - at%blockBytes); err != nil {
				return n, err
			}
			if at >= a.from+int64(len(a.block)) {
				return n, io.EOF
			}
		}
		n += copy(p[n:], a.block[at-a.from:])
	}
	return n, nil
}

func (a *atPlace) read(from int64) error {
	a.block, a.from = a.block[:0], from
	if _, err := a.Seek(from, io.SeekStart); err != nil {
		return err
	}
	if cap(a.block) == 0 {
		a.block = make([]byte, 0, blockBytes)
	}
	n, err := io.ReadFull(a.ReadSeeker, a.block[:blockBytes])
	a.block = a.block[:n]
	if err == io.ErrUnexpectedEOF || err == io.EOF {
		err = nil
	}
	return err
}

// Read is not to be used: what is read has a place.
func (a *atPlace) Read(p []byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// openTIFF reads what a file says of itself.
func (f *File) openTIFF(r io.Reader) error {
	seeker, is := r.(io.ReadSeeker)
	if !is {
		return fmt.Errorf("%w: TIFF can only be read where any place of it can be", ErrUndecodable)
	}
	f.tiff = &atPlace{ReadSeeker: seeker}
	config, err := tiff.DecodeConfig(f.tiff)
	if err != nil {
		return fmt.Errorf("%w: TIFF: %v", ErrUndecodable, err)
	}
	f.Format, f.Width, f.Height, f.color = "tiff", config.Width, config.Height, config.ColorModel
	return nil
}

func (f *File) decodeTIFF() (image.Image, error) {
	img, err := tiff.Decode(f.tiff)
	if err != nil {
		return nil, fmt.Errorf("%w: TIFF: %v", ErrUndecodable, err)
	}
	return img, nil
}
