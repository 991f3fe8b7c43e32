package pictures

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"slices"

	"gocloud.dev/blob"
	"gocloud.dev/gcerrors"
	"golang.org/x/image/draw"

	"rotanex.example/core/picture"
)

// PreviewPrefix is where previews lie in the blob store.
const PreviewPrefix = "previews/"

// Widths are those in which a picture has previews that are kept: for lists, and to look at.
var Widths = []int{240, 640}

// quality is that of a preview's JPEG.
const quality = 88

func previewKey(key string, width int) string {
	return fmt.Sprintf("%s%d/%s.jpg", PreviewPrefix, width, key)
}

// Preview writes a picture as JPEG, as wide as one of Widths at most: as it was kept, else it is made now.
func (p *Pictures) Preview(ctx context.Context, w io.Writer, key string, width int) error {
	kept, err := p.blobs.ReadAll(ctx, previewKey(key, width))
	if gcerrors.Code(err) == gcerrors.NotFound {
		made, failed := p.makePreviews(ctx, key)
		kept, err = made[width], failed
	}
	if err == nil {
		_, err = w.Write(kept)
	}
	return err
}

// HasPreviews reports whether a picture's previews are kept.
func (p *Pictures) HasPreviews(ctx context.Context, key string) (bool, error) {
	return p.blobs.Exists(ctx, previewKey(key, slices.Max(Widths)))
}

// MakePreviews makes and keeps the previews of a picture. The error is ErrNoPicture where there is none that decodes.
func (p *Pictures) MakePreviews(ctx context.Context, key string) error {
	_, err := p.makePreviews(ctx, key)
	return noPicture(err)
}

// makePreviews keeps the widest last, which says that all are there.
func (p *Pictures) makePreviews(ctx context.Context, key string) (map[int][]byte, error) {
	out := map[int][]byte{}
	err := p.decoded(ctx, []string{key}, picture.View{}, func(one []image.Image) error {
		for _, width := range Widths {
			var file bytes.Buffer
			if err := jpeg.Encode(&file, scaled(one[0], width), &jpeg.Options{Quality: quality}); err != nil {
				return err
			}
			out[width] = file.Bytes()
		}
		return nil
	})
	for _, width := range slices.Sorted(slices.Values(Widths)) {
		if err == nil {
			err = p.blobs.WriteAll(ctx, previewKey(key, width), out[width], &blob.WriterOptions{ContentType: "image/jpeg"})
		}
	}
	return out, err
}

// scaled is a picture that is so wide at most; 0: as wide as it is.
func scaled(img image.Image, width int) *image.NRGBA {
	b := img.Bounds()
	if width = min(width, b.Dx()); width == 0 {
		width = b.Dx()
	}
	small := image.NewNRGBA(image.Rect(0, 0, width, max(1, b.Dy()*width/b.Dx())))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), img, b, draw.Src, nil)
	return small
}
