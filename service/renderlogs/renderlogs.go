// Package renderlogs keeps all that renderers said of each try of a frame, compressed, until it is pruned. A frame does not depend on
// it: it is handed in behind the result, and may be missing.
package renderlogs

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"gocloud.dev/blob"
	"gocloud.dev/gcerrors"

	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Prefix is where they lie in the blob store.
const Prefix = "logs/"

const (
	// mostPacked and mostPlain are how many bytes one has at most, as it is sent and as it is read.
	mostPacked, mostPlain = 16 << 20, 64 << 20
)

// Logs keeps them.
type Logs struct {
	store *store.Store
	blobs *blob.Bucket
}

// New makes it over a blob store.
func New(s *store.Store, b *blob.Bucket) *Logs { return &Logs{s, b} }

// of is where those of a frame lie.
func of(run uuid.UUID, shot string, frame int) string {
	return fmt.Sprintf("%s%s/%s/%06d-", Prefix, run, shot, frame)
}

func key(run uuid.UUID, shot string, frame int, fence int64) string {
	return fmt.Sprintf("%s%d.gz", of(run, shot, frame), fence)
}

// Keep takes in the log of a try that has ended: gzip (RFC 1952) of text. The same again takes the place of the one before.
func (l *Logs) Keep(ctx context.Context, host string, frame, fence int64, body io.Reader) error {
	t, err := tryOf(l.store.WithContext(ctx), host, frame, fence)
	if store.Missing(err) {
		return httpapi.Conflict(fmt.Sprintf("host %s has no try with lease %d and fence %d; nothing was kept", host, frame, fence))
	}
	if err != nil {
		return err
	}
	packed, err := io.ReadAll(io.LimitReader(body, mostPacked+1))
	if err != nil {
		return err
	}
	if len(packed) > mostPacked {
		return httpapi.BadField("body", "", fmt.Sprintf("is longer than %d bytes", mostPacked))
	}
	if err := readable(packed); err != nil {
		return httpapi.BadField("body", "", err.Error())
	}
	return l.blobs.WriteAll(ctx, key(t.run, t.shot, t.frame, fence), packed, &blob.WriterOptions{ContentType: "application/gzip"})
}

// readable says what is wrong with a log; nil if it can be read to its end.
func readable(packed []byte) error {
	plain, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return fmt.Errorf("is no gzip: %w", err)
	}
	n, err := io.Copy(io.Discard, io.LimitReader(plain, mostPlain+1))
	switch {
	case err != nil:
		return fmt.Errorf("does not unpack: %w", err)
	case n > mostPlain:
		return fmt.Errorf("unpacks to more than %d bytes", mostPlain)
	}
	return nil
}

// Sizes are how many bytes the logs of a frame's tries have, as they are kept, by fence.
func (l *Logs) Sizes(ctx context.Context, run uuid.UUID, shot string, frame int) (map[int64]int64, error) {
	out := map[int64]int64{}
	prefix := of(run, shot, frame)
	for all := l.blobs.List(&blob.ListOptions{Prefix: prefix}); ; {
		x, err := all.Next(ctx)
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if fence, err := strconv.ParseInt(strings.TrimSuffix(strings.TrimPrefix(x.Key, prefix), ".gz"), 10, 64); err == nil {
			out[fence] = x.Size
		}
	}
}

// Open reads the log of a try. The caller closes it.
func (l *Logs) Open(ctx context.Context, run uuid.UUID, shot string, frame int, fence int64) (io.ReadCloser, error) {
	stored, err := l.blobs.NewReader(ctx, key(run, shot, frame, fence), nil)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil, httpapi.NotFound(fmt.Sprintf("there is no render log of frame %d of %s, try %d: it was pruned, never sent, or there is no such try", frame, shot, fence))
	}
	if err != nil {
		return nil, err
	}
	plain, err := gzip.NewReader(stored)
	if err != nil {
		return nil, errors.Join(err, stored.Close())
	}
	return &log{plain, stored}, nil
}

type log struct {
	*gzip.Reader
	stored io.Closer
}

func (l *log) Close() error { return errors.Join(l.Reader.Close(), l.stored.Close()) }
