// Package picture decides whether a rendered frame's file is whole, and how far two
// pictures are apart.
package picture

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/jpeg" // the formats that are decoded register themselves
	_ "image/png"
	"io"
	"slices"
	"strconv"
	"strings"

	"rotanex.example/core/picture/exr"
)

// Reasons for refusing a picture; test with errors.Is.
var (
	ErrUndecodable = errors.New("the picture does not decode")
	ErrWrongSize   = errors.New("the picture has the wrong size")
	ErrBlank       = errors.New("the picture is one flat colour")
)

// Info is what a picture's file is.
type Info struct {
	Format        string   // png, jpeg, tiff or exr
	Width, Height int      // pixels
	Channels      []string // of an OpenEXR file
	Layers        []string // of an OpenEXR file, the main one first, which is ""; none of one whose pixels are not read
	// NotFinite is how many values of pixels are no number or infinite, once it was checked: a fault, but a picture.
	NotFinite int
}

// ContentType is the media type of the file.
func (i Info) ContentType() string {
	if i.Format == "exr" {
		return "image/x-exr"
	}
	return "image/" + i.Format
}

// MostPixels is how many a picture has at most that is decoded: as 16384x8192.
const MostPixels = 1 << 27

// File is a picture's file of which only the head was read: what it says of itself.
type File struct {
	Info
	bytes int64
	rest  *bufio.Reader // all of it; of OpenEXR what is behind the header
	color color.Model
	exr   *exr.File // nil: it is of another format
	tiff  *atPlace  // the same
}

// Open reads the head of a file of so many bytes. The error wraps ErrUndecodable.
func Open(r io.Reader, bytes int64) (*File, error) {
	f := &File{rest: bufio.NewReaderSize(r, 64<<10), bytes: bytes}
	start, err := f.rest.Peek(len(exr.Magic))
	if err == nil && string(start) == string(exr.Magic) {
		return f, f.openEXR()
	}
	if slices.Contains(tiffMagics, string(start)) {
		return f, f.openTIFF(r)
	}
	// What is read for the head is given back: it is decoded from the first byte again.
	var head headBuffer
	config, format, err := image.DecodeConfig(io.TeeReader(f.rest, &head))
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUndecodable, err)
	}
	f.rest = bufio.NewReaderSize(io.MultiReader(&head, f.rest), 64<<10)
	f.Format, f.Width, f.Height, f.color = format, config.Width, config.Height, config.ColorModel
	return f, nil
}

func (f *File) openEXR() (err error) {
	if f.exr, err = exr.Open(f.rest); err != nil {
		return fmt.Errorf("%w: OpenEXR: %w", ErrUndecodable, err)
	}
	size := f.exr.Size()
	f.Format, f.Width, f.Height, f.Channels = "exr", size.X, size.Y, f.exr.ChannelNames()
	for _, l := range f.exr.Layers() {
		f.Layers = append(f.Layers, l.Name)
	}
	return nil
}

// headBuffer keeps what is read for a file's head, which may have a profile or a thumbnail in it.
type headBuffer struct{ bytes.Buffer }

const mostHead = 4 << 20

func (h *headBuffer) Write(p []byte) (int, error) {
	if h.Len()+len(p) > mostHead {
		return 0, fmt.Errorf("its head is longer than %d bytes", mostHead)
	}
	return h.Buffer.Write(p)
}

// densest is how many bytes of a picture a byte of its file stands for at most: DEFLATE's 1032.
const densest = 1032

// decodable refuses what is larger than is decoded, or than its file can be.
func (f *File) decodable() error {
	if f.Width <= 0 || f.Height <= 0 || f.Width > MostPixels/f.Height {
		return fmt.Errorf("%w: it is %dx%d, and at most %d pixels are decoded", ErrWrongSize, f.Width, f.Height, MostPixels)
	}
	if (f.Format == "png" || f.Format == "tiff") && int64(f.Width)*int64(f.Height)/8/densest > f.bytes { // one bit a pixel
		return fmt.Errorf("%w: its %d bytes cannot be the %dx%d pixels that it says", ErrUndecodable, f.bytes, f.Width, f.Height)
	}
	return nil
}

// Memory is how many bytes decoding takes at most.
func (f *File) Memory() int64 {
	each := int64(12) // an interlaced one has half of it twice
	switch {
	case f.exr != nil:
		return 8*int64(f.Width)*int64(f.Height) + f.exr.Memory()
	case f.tiff != nil: // with all of it in one strip, which says itself how long it is
		return 24*int64(f.Width)*int64(f.Height) + f.bytes
	case f.Format == "jpeg":
		each = 16 // coefficients of a progressive one
	case f.color == color.GrayModel:
		each = 2
	case f.color == color.RGBAModel, f.color == color.NRGBAModel:
		each = 6
	}
	return each * int64(f.Width) * int64(f.Height)
}

// NoLayerError says that a picture has no layer of the name that was asked for, but some others; the main one has an empty name.
type NoLayerError struct {
	Asked string
	Has   []string
}

func (e *NoLayerError) Error() string { return fmt.Sprintf("%q %s", e.Asked, e.Detail()) }

// Detail is what is wrong with the name.
func (e *NoLayerError) Detail() string {
	if len(e.Has) < 2 {
		return "is no layer of it: it has one alone, which is asked for without a layer's name"
	}
	quoted := make([]string, len(e.Has))
	for i, l := range e.Has {
		quoted[i] = strconv.Quote(l)
	}
	return "is no layer of it: it has " + strings.Join(quoted, ", ")
}

// View is how a picture with more light in it than a screen shows is looked at. Those of eight or sixteen bits have but one layer.
type View struct {
	Layer string  // "" for the main one
	Stops float64 // how much brighter: 1 is twice as bright
}

// Decode decodes it as it is looked at: OpenEXR in sRGB, as exr.File.Picture has it. It can be done once.
func (f *File) Decode(v View) (image.Image, error) {
	if err := f.decodable(); err != nil {
		return nil, err
	}
	if f.exr != nil {
		return f.decodeEXR(v)
	}
	if v.Layer != "" {
		return nil, &NoLayerError{v.Layer, nil}
	}
	if f.tiff != nil {
		return f.decodeTIFF()
	}
	img, _, err := image.Decode(f.rest)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUndecodable, err)
	}
	return img, nil
}

func (f *File) decodeEXR(v View) (image.Image, error) {
	layer, ok := f.exr.Layer(v.Layer)
	switch {
	case len(f.Layers) == 0:
		return nil, fmt.Errorf("%w: OpenEXR: pixels that are packed as %s, or deep, are not read", ErrUndecodable, f.exr.Parts[0].Packing)
	case !ok:
		return nil, &NoLayerError{v.Layer, f.Layers}
	}
	img, survey, err := f.exr.Picture(layer, v.Stops)
	if err != nil {
		return nil, fmt.Errorf("%w: OpenEXR: %w", ErrUndecodable, err)
	}
	f.NotFinite = survey.NotFinite
	return img, nil
}

// Fits refuses a file that says of itself that it has another size than width x height pixels (0 accepts any), or
// a size that is not decoded.
func (f *File) Fits(width, height int) error {
	if err := f.sized(width, height); err != nil {
		return err
	}
	return f.decodable()
}

// Check reads a whole picture and says what it is, if it is width x height pixels
// (0 accepts any), decodes to the last row and is not one flat colour. Of OpenEXR that is packed in a way that is not read,
// all chunks that its structure lists must be there. The error wraps one
// of this package's reasons and says what was found. Nothing is decoded that does not fit. It can be done once.
func (f *File) Check(width, height int) (Info, error) {
	if err := f.Fits(width, height); err != nil {
		return f.Info, err
	}
	if f.exr != nil {
		return f.checkEXR()
	}
	img, err := f.Decode(View{})
	if err != nil {
		return f.Info, err
	}
	if flat(img) {
		return f.Info, fmt.Errorf("%w: every pixel is %v", ErrBlank, img.At(img.Bounds().Min.X, img.Bounds().Min.Y))
	}
	return f.Info, nil
}

func (f *File) checkEXR() (Info, error) {
	survey, err := f.exr.Survey()
	switch {
	case err != nil:
		return f.Info, fmt.Errorf("%w: OpenEXR: %w", ErrUndecodable, err)
	case survey.Flat:
		return f.Info, fmt.Errorf("%w: each of %s has one value everywhere", ErrBlank, strings.Join(f.Channels, ", "))
	}
	f.NotFinite = survey.NotFinite
	return f.Info, nil
}

// Check opens a file of so many bytes and checks it: see File.Check.
func Check(r io.Reader, bytes int64, width, height int) (Info, error) {
	f, err := Open(r, bytes)
	if err != nil {
		return Info{}, err
	}
	return f.Check(width, height)
}

func (i Info) sized(width, height int) error {
	if (width > 0 && i.Width != width) || (height > 0 && i.Height != height) {
		return fmt.Errorf("%w: it is %dx%d, the shot is %dx%d", ErrWrongSize, i.Width, i.Height, width, height)
	}
	return nil
}

// flat reports whether all pixels are equal. A real picture differs within a
// few pixels, so this nearly always ends at once.
func flat(img image.Image) bool {
	b := img.Bounds()
	r0, g0, b0, a0 := img.At(b.Min.X, b.Min.Y).RGBA()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			if r, g, bl, a := img.At(x, y).RGBA(); r != r0 || g != g0 || bl != b0 || a != a0 {
				return false
			}
		}
	}
	return true
}
