// Package pictures keeps the files of frames in the blob store: takes them in checked,
// and gives them out whole, decoded or scaled down. It knows keys, not frames.
package pictures

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"gocloud.dev/blob"
	"gocloud.dev/gcerrors"
	"golang.org/x/sync/semaphore"

	"rotanex.example/core/framefiles"
	"rotanex.example/core/picture"
	"rotanex.example/service/httpapi"
)

// most is the largest file that is taken in.
const most = 2 << 30

// memory is how many bytes pictures take that are decoded at once, all requests and background work together. One
// that takes more by itself is decoded alone: picture.MostPixels bounds that.
const memory = 1 << 30

// Pictures keeps them.
type Pictures struct {
	blobs    *blob.Bucket
	decoding *semaphore.Weighted
	trouble  trouble
	settled  folders
}

// folders are those whose own names are known to be on the disk.
type folders struct {
	mu    sync.Mutex
	known map[string]bool
}

// settle waits until a folder's entries are on the disk, and the folder's own name with those above it, which may be new: a
// shot's, a run's, all runs'.
func (f *folders) settle(folder string) error {
	if err := syncFolder(folder); err != nil {
		return err
	}
	f.mu.Lock()
	known := f.known[folder]
	f.mu.Unlock()
	if known {
		return nil
	}
	for above, level := filepath.Dir(folder), 0; level < 3; above, level = filepath.Dir(above), level+1 {
		if err := syncFolder(above); err != nil {
			return err
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known == nil || len(f.known) >= 10_000 { // of runs that are long over
		f.known = map[string]bool{}
	}
	f.known[folder] = true
	return nil
}

// New makes it over a blob store.
func New(blobs *blob.Bucket) *Pictures {
	return &Pictures{blobs: blobs, decoding: semaphore.NewWeighted(memory), trouble: trouble{now: time.Now}}
}

// Keep stores a file under a key: written aside, then checked. It is there only if its
// SHA-256 is the one wanted and it is a whole picture of that size; else the error is a
// problem that says what is wrong, and nothing stays behind.
func (p *Pictures) Keep(ctx context.Context, key string, body io.Reader, want []byte, width, height int) (size int64, info picture.Info, err error) {
	size, err = p.keep(ctx, key, body, want, func() error {
		info, err = p.check(ctx, key, width, height)
		return err
	})
	return size, info, err
}

// KeepFile stores a file of a kind of core/framefiles, of a frame of that size, as Keep does.
func (p *Pictures) KeepFile(ctx context.Context, key string, body io.Reader, want []byte, kind string, width, height int) (int64, error) {
	return p.keep(ctx, key, body, want, func() error {
		if kind == framefiles.Picture {
			return framefiles.Seen(p.check(ctx, key, width, height))
		}
		stored, err := p.blobs.NewReader(ctx, key, nil)
		if err != nil {
			return fmt.Errorf("the stored file: %w", err)
		}
		defer func() { _ = stored.Close() }()
		return framefiles.Check(kind, stored, stored.Size(), width, height)
	})
}

// keep stores a file, unless it is not the one wanted or its check says that it is unfit.
func (p *Pictures) keep(ctx context.Context, key string, body io.Reader, want []byte, check func() error) (int64, error) {
	aside, cancel := context.WithCancel(ctx)
	defer cancel() // a writer that is not closed leaves nothing behind
	file, err := p.blobs.NewWriter(aside, key, &blob.WriterOptions{ContentType: "application/octet-stream", DisableContentTypeDetection: true})
	if err != nil {
		return 0, p.wrote(ctx, err)
	}
	sum, read := sha256.New(), &sent{Reader: io.LimitReader(body, most)}
	size, err := io.Copy(io.MultiWriter(file, sum), read)
	if err != nil && read.err == nil {
		err = p.wrote(ctx, err)
	}
	if err == nil && string(sum.Sum(nil)) != string(want) {
		err = httpapi.BadField("Content-Digest", hex.EncodeToString(want), fmt.Sprintf("the %d bytes that arrived have SHA-256 %x", size, sum.Sum(nil)))
	}
	if err != nil {
		cancel()
		_ = file.Close()
		return 0, err
	}
	if err = file.Close(); err == nil {
		err = p.settle(ctx, key)
	}
	if err = p.wrote(ctx, err); err != nil {
		return 0, err
	}
	if err = check(); unfit(err) {
		_ = p.blobs.Delete(ctx, key)
		return 0, httpapi.BadField("body", "", err.Error())
	}
	return size, err
}

// settle waits until a file that lies in a folder is on its disk, with its name: a frame must not be done whose picture a power
// cut takes away. A store behind a URL sees to that itself.
func (p *Pictures) settle(ctx context.Context, key string) error {
	stored, err := p.blobs.NewReader(ctx, key, nil)
	if err != nil {
		return fmt.Errorf("the stored picture: %w", err)
	}
	defer func() { _ = stored.Close() }()
	var inner io.Reader
	if !stored.As(&inner) {
		return nil
	}
	file, is := inner.(*os.File)
	if !is {
		return nil
	}
	if err := file.Sync(); err != nil {
		return err
	}
	return p.settled.settle(filepath.Dir(file.Name()))
}

func syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}

// unfit reports whether it is the file that is wrong.
func unfit(err error) bool {
	return errors.Is(err, framefiles.ErrUnfit) || errors.Is(err, picture.ErrUndecodable) || errors.Is(err, picture.ErrWrongSize) || errors.Is(err, picture.ErrBlank)
}

func (p *Pictures) check(ctx context.Context, key string, width, height int) (info picture.Info, err error) {
	err = p.with(ctx, []string{key}, width, height, func(files []*picture.File) error {
		info, err = files[0].Check(width, height)
		return err
	})
	return info, err
}

// with opens files, and does something with them as soon as there is memory to decode them all, unless one says of itself that
// it is not width x height pixels (0: any), or too large.
func (p *Pictures) with(ctx context.Context, keys []string, width, height int, do func([]*picture.File) error) error {
	var files []*picture.File
	var takes int64
	for _, key := range keys {
		stored, err := p.blobs.NewReader(ctx, key, nil)
		if err != nil {
			return fmt.Errorf("the stored picture: %w", err)
		}
		defer func() { _ = stored.Close() }()
		file, err := picture.Open(stored, stored.Size())
		if err == nil {
			err = file.Fits(width, height)
		}
		if err != nil {
			return err
		}
		files, takes = append(files, file), takes+file.Memory()
	}
	takes = min(takes, memory)
	if err := p.decoding.Acquire(ctx, takes); err != nil {
		return err
	}
	defer p.decoding.Release(takes)
	return do(files)
}

// decoded does something with pictures as they are looked at.
func (p *Pictures) decoded(ctx context.Context, keys []string, view picture.View, do func([]image.Image) error) error {
	return p.with(ctx, keys, 0, 0, func(files []*picture.File) error {
		images := make([]image.Image, len(files))
		for i, f := range files {
			var err error
			if images[i], err = f.Decode(view); err != nil {
				return err
			}
		}
		return do(images)
	})
}

// Open reads a file. The caller closes it.
func (p *Pictures) Open(ctx context.Context, key string) (io.ReadCloser, error) {
	file, err := p.blobs.NewReader(ctx, key, nil)
	switch {
	case gcerrors.Code(err) == gcerrors.NotFound:
		return nil, httpapi.NotFound("its file is not in the blob store: bring it back from a backup, or render the frame again")
	case err != nil:
		return nil, fmt.Errorf("the stored picture: %w", err)
	}
	return file, nil
}

// Drop deletes a file that nobody needs.
func (p *Pictures) Drop(ctx context.Context, key string) {
	_ = p.blobs.Delete(context.WithoutCancel(ctx), key)
}

// ErrNoPicture says that a frame has no picture that could be looked at.
var ErrNoPicture = errors.New("there is no picture of the frame that decodes")

// Compare says how far two pictures are apart, with a picture of the difference. The error is ErrNoPicture where
// one of them does not decode.
func (p *Pictures) Compare(ctx context.Context, a, b string) (d picture.Distance, diff image.Image, err error) {
	err = p.decoded(ctx, []string{a, b}, picture.View{}, func(both []image.Image) error {
		d, diff, err = picture.Compare(both[0], both[1])
		return err
	})
	return d, diff, noPicture(err)
}

// LookOf says how a picture looks from afar.
func (p *Pictures) LookOf(ctx context.Context, key string) (look picture.Look, err error) {
	err = p.decoded(ctx, []string{key}, picture.View{}, func(one []image.Image) error {
		look = picture.LookOf(one[0])
		return nil
	})
	return look, noPicture(err)
}

func noPicture(err error) error {
	if errors.Is(err, picture.ErrUndecodable) || gcerrors.Code(err) == gcerrors.NotFound {
		return ErrNoPicture
	}
	return err
}

// Look writes a picture as it is looked at as PNG, at most so wide; 0: as wide as it is.
func (p *Pictures) Look(ctx context.Context, w io.Writer, key string, view picture.View, width int) error {
	return p.decoded(ctx, []string{key}, view, func(one []image.Image) error {
		return (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, scaled(one[0], width))
	})
}
