package backup

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"gocloud.dev/blob"
	"gocloud.dev/gcerrors"
)

// every is after how many files it is said how far it is.
const every = 1000

// keepPictures copies, or lists, all files of a blob store.
func keepPictures(ctx context.Context, from *blob.Bucket, to string, o Options) (files int, bytes int64, err error) {
	list := io.Discard
	if o.List {
		file, err := os.Create(filepath.Join(to, listFile))
		if err != nil {
			return 0, 0, err
		}
		defer func() { err = errors.Join(err, file.Close()) }()
		list = file
	}
	for all := from.List(nil); ; {
		x, err := all.Next(ctx)
		if errors.Is(err, io.EOF) {
			return files, bytes, nil
		}
		if err != nil {
			return files, bytes, err
		}
		if o.List {
			_, err = fmt.Fprintf(list, "%d %s\n", x.Size, x.Key)
		} else {
			err = keepOne(ctx, from, x, to)
		}
		if errors.Is(err, errGone) {
			continue
		}
		if err != nil {
			return files, bytes, fmt.Errorf("%s: %w", x.Key, err)
		}
		if files, bytes = files+1, bytes+x.Size; files%every == 0 {
			o.Say(fmt.Sprintf("%d pictures and parts of packages", files))
		}
	}
}

// place is a file's path in a backup: a key may have what a path may not.
func place(folder, key string) string {
	parts := strings.Split(key, "/")
	for i, p := range parts {
		if parts[i] = url.PathEscape(p); p == "." || p == ".." || p == "" {
			parts[i] = "%2E" + p
		}
	}
	return filepath.Join(append([]string{folder, picturesDir}, parts...)...)
}

// keyAt is the key of a file at a path below a backup's pictures.
func keyAt(path string) (string, error) {
	parts := strings.Split(filepath.ToSlash(path), "/")
	for i, p := range parts {
		p, err := url.PathUnescape(strings.TrimPrefix(p, "%2E"))
		if err != nil {
			return "", err
		}
		parts[i] = p
	}
	return strings.Join(parts, "/"), nil
}

// errGone is said of a file that was listed and is not there any more: it was pruned, or it was a picture that is being written,
// which has another name until it is whole. What the database wants and is not there is found afterwards.
var errGone = errors.New("it is gone")

// keepOne copies a file, unless it is there: what has a key never changes.
func keepOne(ctx context.Context, from *blob.Bucket, x *blob.ListObject, to string) error {
	at := place(to, x.Key)
	if had, err := os.Stat(at); err == nil && had.Size() == x.Size {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	file, err := os.Create(at + ".part")
	if err != nil {
		return err
	}
	err = from.Download(ctx, x.Key, file, nil)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return errors.Join(errGone, file.Close(), os.Remove(at+".part"))
	}
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return err
	}
	return os.Rename(at+".part", at)
}

// kept says which keys a backup has.
func kept(_ context.Context, in string, listed bool) (func(string) (bool, error), error) {
	if !listed {
		return func(key string) (bool, error) {
			_, err := os.Stat(place(in, key))
			return err == nil, nil
		}, nil
	}
	file, err := os.Open(filepath.Join(in, listFile))
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	there := map[string]bool{}
	for lines := bufio.NewScanner(file); lines.Scan(); {
		_, key, _ := strings.Cut(lines.Text(), " ")
		there[key] = true
	}
	return func(key string) (bool, error) { return there[key], nil }, nil
}

// bringPictures copies a backup's files into a blob store, those that it does not have.
func bringPictures(ctx context.Context, from string, to *blob.Bucket, say func(string)) error {
	folder, files := filepath.Join(from, picturesDir), 0
	err := filepath.WalkDir(folder, func(path string, x os.DirEntry, err error) error {
		if err != nil || x.IsDir() || strings.HasSuffix(path, ".part") {
			return err
		}
		below, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		key, err := keyAt(below)
		if err != nil {
			return err
		}
		if files++; files%every == 0 {
			say(fmt.Sprintf("%d pictures and parts of packages", files))
		}
		return bringOne(ctx, path, key, to)
	})
	if errors.Is(err, os.ErrNotExist) {
		return nil // there was none
	}
	return err
}

func bringOne(ctx context.Context, path, key string, to *blob.Bucket) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	size, err := file.Stat()
	if err != nil {
		return err
	}
	if had, err := to.Attributes(ctx, key); err == nil && had.Size == size.Size() {
		return nil
	}
	return to.Upload(ctx, key, file, &blob.WriterOptions{ContentType: "application/octet-stream", DisableContentTypeDetection: true})
}

// mostNamed is how many missing pictures are named.
const mostNamed = 5

// complete says which pictures of done frames are not there.
func complete(wanted []picture, there func(key string) (bool, error)) error {
	var missing []string
	for _, p := range wanted {
		found, err := there(p.Key)
		if err != nil {
			return err
		}
		if !found {
			missing = append(missing, fmt.Sprintf("frame %d of %s", p.Frame, p.Shot))
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("%d pictures of done frames are not there: %s", len(missing), strings.Join(missing[:min(len(missing), mostNamed)], ", "))
	}
	return nil
}
