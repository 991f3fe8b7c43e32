package packages

import (
	"context"
	"slices"
	"sync"

	"github.com/google/uuid"

	"rotanex.example/service/httpapi"
)

// A host is given the packages of the shots that it renders, or is booked for, and no others.

// shotOf is a shot of a run.
type shotOf struct {
	run  uuid.UUID
	shot string
}

// claims keeps which chunks the packages of runs are made of: they do not change.
type claims struct {
	mu   sync.Mutex
	sums map[shotOf]map[string]bool
}

// mostKept is of how many packages that is kept.
const mostKept = 100

// may refuses a host a package that it has nothing to do with, in the words for one that is not there: what there is elsewhere
// is none of its business.
func (p *Packages) may(ctx context.Context, host string, run uuid.UUID, shot string) error {
	all, err := claimsOf(p.store.WithContext(ctx), host)
	if err != nil {
		return err
	}
	if slices.Contains(all, shotOf{run, shot}) {
		return nil
	}
	return httpapi.NotFound("this host has no frame of such a shot")
}

// mayChunk refuses a host a chunk that is in no package that it may have.
func (p *Packages) mayChunk(ctx context.Context, host, sum string) error {
	all, err := claimsOf(p.store.WithContext(ctx), host)
	if err != nil {
		return err
	}
	for _, c := range all {
		has, err := p.sumsOf(ctx, c)
		if err != nil {
			return err
		}
		if has[sum] {
			return nil
		}
	}
	return httpapi.NotFound("there is no chunk " + sum + " for this host")
}

func (p *Packages) sumsOf(ctx context.Context, c shotOf) (map[string]bool, error) {
	p.claims.mu.Lock()
	defer p.claims.mu.Unlock()
	if has, known := p.claims.sums[c]; known {
		return has, nil
	}
	pack, err := p.inRun(ctx, c.run, c.shot)
	if err != nil {
		return nil, err
	}
	if p.claims.sums == nil || len(p.claims.sums) >= mostKept {
		p.claims.sums = map[shotOf]map[string]bool{}
	}
	has := map[string]bool{}
	for _, sum := range sums(pack.Files) {
		has[sum] = true
	}
	p.claims.sums[c] = has
	return has, nil
}
