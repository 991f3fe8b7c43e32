package agent

import (
	"context"
	"slices"
	"sync"
	"time"
)

// mostMissing is how many files that are not there a heartbeat tells of at most.
const mostMissing = 10_000

// inputs looks for the input files that this host may need, beside the heartbeats: a folder on a network that does not answer
// keeps no lease from being renewed.
type inputs struct {
	mu        sync.Mutex
	files     []string
	sum       string        // of files, as the service names the list
	changed   chan struct{} // has room for one
	missing   []string      // as last looked for
	lookedFor string        // the list of that; "" before the first
}

func newInputs() *inputs { return &inputs{changed: make(chan struct{}, 1)} }

// looked says for which list was looked, and what of it is not there.
func (i *inputs) looked() (sum string, missing []string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.lookedFor, i.missing
}

// want has another list looked for, at once.
func (i *inputs) want(files []string, sum string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.sum == sum {
		return
	}
	i.files, i.sum = files, sum
	select {
	case i.changed <- struct{}{}:
	default: // it is to be looked for anyway
	}
}

// thinly is how many times as long as a look took nobody looks after it.
const thinly = 20

// look looks again and again what is not here, at most so often, until ctx ends; found is called where there is something new to tell.
func (i *inputs) look(ctx context.Context, notHere func(context.Context, []string) []string, every time.Duration, found func()) {
	for ctx.Err() == nil {
		i.mu.Lock()
		files, sum := i.files, i.sum
		i.mu.Unlock()
		began := time.Now()
		if missing := notHere(ctx, files); sum != "" && ctx.Err() == nil { // before the first list is known there is nothing to tell
			missing = missing[:min(len(missing), mostMissing)]
			i.mu.Lock()
			same := i.lookedFor == sum && slices.Equal(i.missing, missing)
			i.missing, i.lookedFor = missing, sum
			i.mu.Unlock()
			if !same {
				found()
			}
		}
		again := time.NewTimer(max(every, 100*time.Millisecond, thinly*time.Since(began)))
		select {
		case <-ctx.Done():
		case <-i.changed:
		case <-again.C:
		}
		again.Stop()
	}
}
