package bench

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// viewers is how many people look at one run at once.
const viewers = 100

// viewed measures what it costs that a hundred look at the large run while about 33 frames a second are handed in: each holds a stream
// of all that happens, as the console does, and asks twice a minute for what its page shows.
func (h *house) viewed(ctx context.Context, big string) (_ []Line, err error) {
	crowd, err := h.gather(ctx, 1, h.Agents, time.Duration(h.Agents)*time.Second/33)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, crowd.end()) }()
	rest(ctx, 3*time.Second)
	var cost, told []float64
	for n := range h.Rounds {
		load, _, err := h.load(ctx)
		if err != nil {
			return nil, err
		}
		people := h.look(ctx, big)
		rest(ctx, 3*time.Second)
		heard, frames := people.heard.Load(), crowd.frames.Load()
		more, database, err := h.load(ctx)
		heard, frames = people.heard.Load()-heard, crowd.frames.Load()-frames
		if err := errors.Join(err, people.leave()); err != nil {
			return nil, err
		}
		h.say("  round %d: %.2f cores of the service, %.2f with %d who look; %d frames, each of them heard of %.1f events, %.2f cores of PostgreSQL", n+1, load, more, viewers, frames, float64(heard)/viewers, database)
		cost, told = append(cost, more-load), append(told, float64(heard)/viewers/float64(frames))
	}
	return []Line{
		atMost(fmt.Sprintf("%d who look at one run cost the service", viewers), "cores", 0.25, cost),
		atLeast("events each heard of for each frame", 0.95, told),
	}, nil
}

// load is how many cores the service and PostgreSQL take for a while.
func (h *house) load(ctx context.Context) (service, database float64, err error) {
	began := time.Now()
	s, d := h.used()
	rest(ctx, max(10*time.Second, h.For))
	after, afterD := h.used()
	took := time.Since(began).Seconds()
	return (after - s) / took, (afterD - d) / took, ctx.Err()
}

// audience is people who look.
type audience struct {
	stop  context.CancelFunc
	all   sync.WaitGroup
	heard atomic.Int64 // events of frames
	mu    sync.Mutex
	fault error
}

func (a *audience) leave() error {
	a.stop()
	a.all.Wait()
	return a.fault
}

func (a *audience) note(ctx context.Context, err error) {
	if err == nil || ctx.Err() != nil {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.fault = errors.Join(a.fault, err)
}

// look has people look at a run.
func (h *house) look(ctx context.Context, run string) *audience {
	ctx, stop := context.WithCancel(ctx)
	a := &audience{stop: stop}
	for n := range viewers {
		a.all.Go(func() { a.note(ctx, h.hear(ctx, &a.heard)) })
		a.all.Go(func() {
			const every = 30 * time.Second
			rest(ctx, every*time.Duration(n)/viewers)
			for ctx.Err() == nil {
				for _, path := range []string{"", "/ledger", "/frame-map"} {
					_, _, err := h.get(ctx, "/runs/"+run+path)
					a.note(ctx, err)
				}
				rest(ctx, every)
			}
		})
	}
	return a
}

// hear holds a stream, and counts the events of frames that are done.
func (h *house) hear(ctx context.Context, heard *atomic.Int64) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, h.address+"/api/v1/events", nil)
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+h.token)
	answer, err := (&http.Client{Transport: &http.Transport{}}).Do(request)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	lines := bufio.NewScanner(answer.Body)
	for lines.Scan() {
		if l := lines.Text(); strings.HasPrefix(l, "data: ") && strings.Contains(l, `"done"`) {
			heard.Add(1)
		}
	}
	return errors.Join(lines.Err(), fmt.Errorf("the stream ended with %s", answer.Status))
}
