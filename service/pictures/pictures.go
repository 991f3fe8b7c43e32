// Package pictures keeps the files of frames in the blob store: takes them in checked,
// and gives them out whole, decoded or scaled down. It knows keys, not frames.
package pictures

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"image"
	_ "image/jpeg" // pictures may be of either kind
	"image/png"
	"io"

	"gocloud.dev/blob"
	"golang.org/x/image/draw"

	"rotanex.example/core/picture"
	"rotanex.example/service/httpapi"
)

// most is the largest file that is taken in.
const most = 2 << 30

// Pictures keeps them.
type Pictures struct{ blobs *blob.Bucket }

// New makes it over a blob store.
func New(blobs *blob.Bucket) *Pictures { return &Pictures{blobs} }

// Keep stores a file under a key: written aside, then checked. It is there only if its
// SHA-256 is the one wanted and it is a whole picture of that size; else the error is a
// problem that says what is wrong, and nothing stays behind.
func (p *Pictures) Keep(ctx context.Context, key string, body io.Reader, want []byte, width, height int) (int64, picture.Info, error) {
	aside, cancel := context.WithCancel(ctx)
	defer cancel() // a writer that is not closed leaves nothing behind
	file, err := p.blobs.NewWriter(aside, key, &blob.WriterOptions{ContentType: "application/octet-stream", DisableContentTypeDetection: true})
	if err != nil {
		return 0, picture.Info{}, err
	}
	sum := sha256.New()
	size, err := io.Copy(io.MultiWriter(file, sum), io.LimitReader(body, most))
	if err == nil && string(sum.Sum(nil)) != string(want) {
		err = httpapi.BadField("Content-Digest", hex.EncodeToString(want), fmt.Sprintf("the %d bytes that arrived have SHA-256 %x", size, sum.Sum(nil)))
	}
	if err != nil {
		cancel()
		_ = file.Close()
		return 0, picture.Info{}, err
	}
	if err := file.Close(); err != nil {
		return 0, picture.Info{}, err
	}
	stored, err := p.Open(ctx, key)
	if err != nil {
		return 0, picture.Info{}, err
	}
	defer func() { _ = stored.Close() }()
	info, err := picture.Check(stored, width, height)
	if err != nil {
		_ = p.blobs.Delete(ctx, key)
		return 0, info, httpapi.BadField("body", "", err.Error())
	}
	return size, info, nil
}

// Open reads a file. The caller closes it.
func (p *Pictures) Open(ctx context.Context, key string) (io.ReadCloser, error) {
	file, err := p.blobs.NewReader(ctx, key, nil)
	if err != nil {
		return nil, fmt.Errorf("the stored picture: %w", err)
	}
	return file, nil
}

// Drop deletes a file that nobody needs.
func (p *Pictures) Drop(ctx context.Context, key string) {
	_ = p.blobs.Delete(context.WithoutCancel(ctx), key)
}

// Decode reads a picture of eight or sixteen bits.
func (p *Pictures) Decode(ctx context.Context, key string) (image.Image, error) {
	file, err := p.Open(ctx, key)
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	img, _, err := image.Decode(file)
	return img, err
}

// Scaled writes a picture as PNG, at most so wide.
func (p *Pictures) Scaled(ctx context.Context, w io.Writer, key string, width int) error {
	whole, err := p.Decode(ctx, key)
	if err != nil {
		return err
	}
	b := whole.Bounds()
	width = min(width, b.Dx())
	small := image.NewNRGBA(image.Rect(0, 0, width, max(1, b.Dy()*width/b.Dx())))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), whole, b, draw.Src, nil)
	return (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, small)
}
