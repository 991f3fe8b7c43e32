// Package packages keeps what a shot needs to be rendered elsewhere: its files by
// content, in chunks. A chunk is stored once, sent once to each source, and only
// where it is missing; so sending can stop at any point and be taken up again.
package packages

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"gocloud.dev/blob"
	"golang.org/x/time/rate"

	"rotanex.example/core/paths"
	"rotanex.example/providers"
	"rotanex.example/service/clock"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
)

// MaxChunk is the largest chunk: files are cut into chunks of this many bytes.
const MaxChunk = 4 << 20

// Packages looks after them.
type Packages struct {
	store   *store.Store
	clock   clock.Clock
	blobs   *blob.Bucket
	sources *sources.Sources

	mu     sync.Mutex
	limits map[string]*rate.Limiter // by source: bytes a second

	claims claims
}

// New makes it.
func New(s *store.Store, c clock.Clock, b *blob.Bucket, src *sources.Sources) *Packages {
	return &Packages{store: s, clock: c, blobs: b, sources: src, limits: map[string]*rate.Limiter{}}
}

// Package is the files of a shot.
type Package struct {
	Shot   string
	Files  []providers.PackageFile
	Sum    string
	Size   int64
	MadeAt time.Time
}

func blobKey(sum string) string { return "chunks/" + sum[:2] + "/" + sum }

// sums lists the chunks of files, each once.
func sums(files []providers.PackageFile) []string {
	out := []string{}
	for _, f := range files {
		out = append(out, f.Chunks...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// keep stores a chunk, which has to be what its name says.
func (p *Packages) keep(ctx context.Context, sum string, body io.Reader) error {
	data, err := io.ReadAll(io.LimitReader(body, MaxChunk+1))
	if err != nil {
		return err
	}
	if len(data) > MaxChunk {
		return httpapi.BadField("body", "", fmt.Sprintf("a chunk is at most %d bytes", MaxChunk))
	}
	if got := sha256.Sum256(data); hex.EncodeToString(got[:]) != sum {
		return httpapi.BadField("sum", sum, fmt.Sprintf("the %d bytes that arrived have SHA-256 %x", len(data), got))
	}
	if err := p.blobs.WriteAll(ctx, blobKey(sum), data, &blob.WriterOptions{ContentType: "application/octet-stream"}); err != nil {
		return err
	}
	return haveChunk(p.store.WithContext(ctx), sum, len(data))
}

// Put stores the package of a shot, which has to hold the files that the shot needs: all
// its chunks have to be here.
func (p *Packages) Put(ctx context.Context, shot string, files []providers.PackageFile, needed []string) (Package, error) {
	out := Package{Shot: shot, MadeAt: p.clock.Now(), Files: files}
	err := p.put(ctx, &out, needed)
	return out, err
}

func (p *Packages) put(ctx context.Context, out *Package, needed []string) error {
	var files paths.Set
	for _, f := range out.Files {
		if err := files.Add(f.Path); err != nil {
			return httpapi.BadField("/files", f.Path, err.Error())
		}
		out.Size += f.Size
	}
	// What the shot needs has to be in it: found now, not after it was sent.
	var lacks []string
	for _, n := range needed {
		if n = paths.InPackage(n); !files.Has(n) {
			lacks = append(lacks, n)
		}
	}
	if len(lacks) > 0 {
		return httpapi.BadField("/files", strings.Join(lacks, ", "), fmt.Sprintf("shot %s needs it and it is not in the package; nothing was stored", out.Shot))
	}
	missing, err := p.missing(ctx, sums(out.Files))
	if err != nil {
		return err
	}
	if len(missing) > 0 {
		return httpapi.Conflict(fmt.Sprintf("%d chunks of it are not here yet, such as %s: send them first", len(missing), missing[0]))
	}
	listed, err := json.Marshal(out.Files)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(listed)
	out.Sum = hex.EncodeToString(sum[:])
	return putPackage(p.store.WithContext(ctx), *out, listed)
}

// pace waits until so many bytes may go to a source.
func (p *Packages) pace(ctx context.Context, source string, n int) error {
	row, _, err := p.sources.Find(ctx, source)
	if err != nil || row.Spec.UploadMBps == 0 {
		return err
	}
	most := rate.Limit(row.Spec.UploadMBps * 1e6 * p.clock.Factor())
	p.mu.Lock()
	l := p.limits[source]
	if l == nil || l.Limit() != most {
		l = rate.NewLimiter(most, MaxChunk)
		p.limits[source] = l
	}
	p.mu.Unlock()
	return l.WaitN(ctx, n)
}

// Send gives a farm the chunks that it lacks of a package, and notes how long it took.
func (p *Packages) Send(ctx context.Context, to providers.Farm, source, shot string, files []providers.PackageFile) error {
	if len(files) == 0 {
		return nil
	}
	missing, err := to.Missing(ctx, sums(files))
	if err != nil || len(missing) == 0 {
		return err
	}
	began, bytesSent := p.clock.Now(), int64(0)
	for _, sum := range missing {
		data, err := p.blobs.ReadAll(ctx, blobKey(sum))
		if err == nil {
			err = errors.Join(p.pace(ctx, source, len(data)), to.Send(ctx, sum, data))
		}
		if err != nil {
			return fmt.Errorf("sending the package of %s: %w", shot, err)
		}
		bytesSent += int64(len(data))
	}
	return p.Sent(ctx, source, shot, bytesSent, p.clock.Now().Sub(began).Seconds())
}

// latest is over how many transfers a source's speed is taken.
const latest = 20

// Takes predicts how long sending a shot's package to a source takes: nothing where
// there is none, or it was sent before; else by what was measured, or the source's
// limit, or nothing where neither is known.
func (p *Packages) Takes(ctx context.Context, source, shot string) (time.Duration, error) {
	pack, found, err := p.Of(ctx, shot)
	if err != nil || !found {
		return 0, err
	}
	sent, perByte, err := pastTransfers(p.store.WithContext(ctx), source, pack)
	if err != nil || sent {
		return 0, err
	}
	if perByte == 0 {
		row, _, err := p.sources.Find(ctx, source)
		if err != nil || row.Spec.UploadMBps == 0 {
			return 0, err
		}
		perByte = 1 / (row.Spec.UploadMBps * 1e6)
	}
	return time.Duration(perByte * float64(pack.Size) * float64(time.Second)).Round(time.Second), nil
}

// find returns the package of a shot, or a problem that says how to make one.
func (p *Packages) find(ctx context.Context, shot string) (Package, error) {
	out, found, err := p.Of(ctx, shot)
	if err == nil && !found {
		err = httpapi.NotFound(fmt.Sprintf("shot %s has no package: make one with rotanex packages make %s FOLDER", shot, shot))
	}
	return out, err
}

// chunkFor returns a chunk for a host, no faster than the limit of its source.
func (p *Packages) chunkFor(ctx context.Context, host, sum string) ([]byte, error) {
	if err := p.mayChunk(ctx, host, sum); err != nil {
		return nil, err
	}
	source, err := p.sourceOf(ctx, host)
	if err != nil {
		return nil, err
	}
	data, err := p.blobs.ReadAll(ctx, blobKey(sum))
	if err != nil {
		return nil, httpapi.NotFound("there is no chunk " + sum)
	}
	return data, p.pace(ctx, source, len(data))
}

// fetched notes how long a package of a run took to a host.
func (p *Packages) fetched(ctx context.Context, host string, run uuid.UUID, shot string, n int64, seconds float64) error {
	if err := p.may(ctx, host, run, shot); err != nil {
		return err
	}
	pack, err := p.inRun(ctx, run, shot)
	if err != nil {
		return err
	}
	if n > pack.Size {
		return httpapi.BadField("/bytes", fmt.Sprint(n), fmt.Sprintf("is more than the package has: %d", pack.Size))
	}
	source, err := p.sourceOf(ctx, host)
	if err != nil || n == 0 {
		return err
	}
	return p.Sent(ctx, source, shot, n, seconds)
}
