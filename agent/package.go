package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/paths"
	"rotanex.example/core/stock"
)

// packages are the shots' files that this host has fetched onto its own disk.
type packages struct {
	mu   sync.Mutex
	here map[string]*fetching // by run and shot
}

type fetching struct {
	done chan struct{}
	root string
	err  error
}

// scenes returns the folder below which the files of a lease lie: the scene folder of
// the host, or the package, which is fetched first where it is not here yet.
func (a *Agent) scenes(ctx context.Context, l api.Lease) (string, error) {
	if !l.Package {
		return a.Scenes, nil
	}
	// A service is not trusted with a path of this machine.
	if err := stock.ValidName("shot", l.Shot); err != nil {
		return "", err
	}
	key := l.Run.String() + "-" + l.Shot
	a.packages.mu.Lock()
	f := a.packages.here[key]
	if f == nil {
		f = &fetching{done: make(chan struct{}), root: filepath.Join(a.StateDir, "packages", key)}
		if a.packages.here == nil {
			a.packages.here = map[string]*fetching{}
		}
		a.packages.here[key] = f
		// It goes on should this lease be taken away: others will need it.
		a.work.Go(func() {
			defer close(f.done)
			if f.err = a.fetch(context.WithoutCancel(ctx), l.Run, l.Shot, f.root); f.err != nil {
				a.packages.mu.Lock()
				delete(a.packages.here, key)
				a.packages.mu.Unlock()
			}
		})
	}
	a.packages.mu.Unlock()
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case <-f.done:
		return f.root, f.err
	}
}

// fetchPatience bounds the fetching of a whole package.
const fetchPatience = 6 * time.Hour

// fetch brings a package onto the host's disk. Chunks that are here already, whole,
// are not fetched again.
func (a *Agent) fetch(ctx context.Context, run uuid.UUID, shot, root string) error {
	ctx, cancel := context.WithTimeout(ctx, fetchPatience)
	defer cancel()
	p, err := retried(ctx, a, func(ctx context.Context) (api.Package, error) {
		return client.Decode[api.Package](a.client.GetAgentPackage(ctx, run, shot))
	})
	if err != nil {
		return fmt.Errorf("package of %s: %w", shot, err)
	}
	began, fetched := time.Now(), int64(0)
	for _, f := range p.Files {
		n, err := a.assemble(ctx, root, f)
		if err != nil {
			return fmt.Errorf("package of %s, %s: %w", shot, f.Path, err)
		}
		fetched += n
	}
	took := time.Since(began).Seconds() * a.factor
	a.Log.Info("package is here", "shot", shot, "bytes", p.Size, "fetched", fetched)
	_, err = client.Decode[struct{}](a.client.FetchedPackage(ctx, run, shot, api.FetchedPackageJSONRequestBody{Bytes: fetched, Seconds: took}))
	if err != nil {
		a.Log.Warn("telling how long a package took", "error", err)
	}
	return nil
}

// assemble makes a file of its chunks and returns how many bytes were fetched.
func (a *Agent) assemble(ctx context.Context, folder string, f api.PackageFile) (fetched int64, err error) {
	if err := paths.Below(f.Path); err != nil {
		return 0, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return 0, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return 0, err
	}
	defer func() { _ = root.Close() }()
	path := filepath.FromSlash(f.Path)
	if err := root.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return 0, err
	}
	out, err := root.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() { _ = out.Close() }()
	for _, sum := range f.Chunks {
		data, was, err := a.chunk(ctx, sum)
		if err != nil {
			return fetched, err
		}
		if !was {
			fetched += int64(len(data))
		}
		if _, err := out.Write(data); err != nil {
			return fetched, err
		}
	}
	if err := out.Close(); err != nil {
		return fetched, err
	}
	return fetched, root.Rename(path+".part", path)
}

// chunk returns a chunk, and whether it was here.
func (a *Agent) chunk(ctx context.Context, sum string) (data []byte, was bool, err error) {
	if raw, err := hex.DecodeString(sum); err != nil || len(raw) != sha256.Size {
		return nil, false, fmt.Errorf("chunk %q is no SHA-256 sum", sum)
	}
	path := filepath.Join(a.StateDir, "chunks", sum)
	if data, err := os.ReadFile(path); err == nil && hash(data) == sum {
		return data, true, nil
	}
	data, err = retried(ctx, a, func(ctx context.Context) ([]byte, error) {
		answer, err := a.client.GetAgentChunk(ctx, sum)
		if err != nil {
			return nil, err
		}
		defer func() { _ = answer.Body.Close() }()
		if answer.StatusCode != http.StatusOK {
			return nil, client.Check(answer, nil)
		}
		return io.ReadAll(io.LimitReader(answer.Body, 64<<20))
	})
	if err != nil {
		return nil, false, err
	}
	if a.LinkMBps > 0 {
		select {
		case <-ctx.Done():
			return nil, false, ctx.Err()
		case <-time.After(time.Duration(float64(len(data)) / a.LinkMBps / a.factor * float64(time.Second) / 1e6)):
		}
	}
	if hash(data) != sum {
		return nil, false, fmt.Errorf("chunk %s arrived as another", sum)
	}
	err = errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, data, 0o600))
	return data, false, err
}

func hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
