package storage

import (
	"context"
	"errors"
	"io"
	"path"
	"sync"
	"time"

	"gocloud.dev/blob"
	"gorm.io/gorm"

	"rotanex.example/service/packages"
	"rotanex.example/service/pictures"
	"rotanex.example/service/renderlogs"
	"rotanex.example/service/store"
)

// files are those in the blob store that nothing may need any more.
type files struct {
	store *store.Store
	blobs *blob.Bucket

	mu   sync.Mutex
	seen map[string][2]int64 // of each kind, files and bytes, as they were counted last
}

// of is where a kind's files are, how each is called where it may be needed, and which of some are not.
var of = map[string]struct {
	prefix string
	name   func(key string) string
	unused func(tx *gorm.DB, names []string) ([]string, error)
	forget func(tx *gorm.DB, names []string) error
}{
	"package-parts": {"chunks/", path.Base, packages.Unused, packages.ForgetChunks},
	"render-logs":   {renderlogs.Prefix, func(key string) string { return key }, all, none},
	"previews":      {pictures.PreviewPrefix, func(key string) string { return key }, all, none},
	"pictures":      {"runs/", func(key string) string { return key }, unusedPictures, none},
}

// all are those that are kept for their time alone.
func all(_ *gorm.DB, names []string) ([]string, error) { return names, nil }

func none(*gorm.DB, []string) error { return nil }

// counted is how many files there are of a kind, and their bytes; -1 where nobody has counted.
func (f *files) counted(kind string) (number, bytes int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if seen, known := f.seen[kind]; known {
		return seen[0], seen[1]
	}
	return -1, -1
}

// prune looks at all files of a kind, and deletes those of before a time that nothing needs.
func (f *files) prune(ctx context.Context, kind string, before time.Time) (gone int64, err error) {
	var number, bytes int64
	var old []string
	for all := f.blobs.List(&blob.ListOptions{Prefix: of[kind].prefix}); ; {
		x, err := all.Next(ctx)
		end := errors.Is(err, io.EOF)
		if err != nil && !end {
			return gone, err
		}
		if !end {
			number, bytes = number+1, bytes+x.Size
			if x.ModTime.Before(before) {
				old = append(old, x.Key)
			}
		}
		if len(old) >= step || end {
			n, err := f.drop(ctx, kind, old)
			if gone += n; err != nil {
				return gone, err
			}
			old = old[:0]
		}
		if end {
			f.mu.Lock()
			defer f.mu.Unlock()
			if f.seen == nil {
				f.seen = map[string][2]int64{}
			}
			f.seen[kind] = [2]int64{number - gone, bytes}
			return gone, nil
		}
	}
}

// drop deletes those files of some that nothing needs.
func (f *files) drop(ctx context.Context, kind string, keys []string) (gone int64, err error) {
	if len(keys) == 0 {
		return 0, nil
	}
	names, at := make([]string, len(keys)), map[string]string{}
	for i, key := range keys {
		names[i] = of[kind].name(key)
		at[names[i]] = key
	}
	var unused []string
	err = f.store.WithContext(ctx).Transaction(func(tx *gorm.DB) (err error) {
		if unused, err = of[kind].unused(tx, names); err == nil {
			err = of[kind].forget(tx, unused)
		}
		return err
	})
	for _, name := range unused {
		if err == nil {
			err = f.blobs.Delete(ctx, at[name])
			gone++
		}
	}
	return gone, err
}
