package chaos

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"syscall"
	"time"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/processes"
)

// havoc is what happens during a run.
type havoc struct {
	*world
	draw   *rand.Rand
	report *Report
	left   int // faults that are still to come

	under  sync.WaitGroup // faults that are not over
	mu     sync.Mutex
	busy   map[*processes.Process]bool // that something happens to
	faults []error
	done   int         // frames, as was seen last
	since  []time.Time // of faults after which no frame was done yet
}

// how long after one fault the next comes.
const soonest, latest = 300 * time.Millisecond, 1700 * time.Millisecond

// until lets things happen to everything until the run is over, and waits until all is well again.
func (h *havoc) until(ctx context.Context, run api.Run) error {
	h.busy = map[*processes.Process]bool{}
	over, cancel := context.WithCancel(ctx)
	defer cancel()
	var watching sync.WaitGroup
	var fault error
	watching.Go(func() {
		defer cancel()
		fault = h.watch(over, run)
	})
	for h.left > 0 && pause(over, soonest+time.Duration(h.draw.Int64N(int64(latest-soonest)))) {
		h.happens(ctx)
	}
	h.under.Wait()
	watching.Wait()
	return errors.Join(append(h.faults, fault)...)
}

// watch looks how the run is until it is over. One that is incomplete is resumed: frames may have been lost too often.
func (h *havoc) watch(ctx context.Context, run api.Run) error {
	heard := time.Now()
	for resumed := 0; pause(ctx, 250*time.Millisecond); {
		r, err := client.Decode[api.Run](h.client.GetRun(ctx, run.Id))
		switch {
		case err != nil && time.Since(heard) > patience:
			return fmt.Errorf("no service answered for %s: %w", patience, err)
		case err != nil:
			continue
		case r.State == api.RunStateIncomplete && resumed < 5:
			resumed++
			_, _ = h.rotanex(ctx, "resume", run.Id.String())
		case r.State != api.RunStateRunning:
			return nil
		case r.Counts.Done > h.done || resumed > 0 && r.Counts.Done != h.done:
			heard = time.Now()
			h.goesOn(r.Counts.Done)
		case time.Since(heard) > patience:
			return fmt.Errorf("no frame of run %s was done for %s: %+v, stranded %+v", run.Id, patience, r.Counts, r.Stranded)
		}
	}
	return ctx.Err()
}

// goesOn notes how long it took after each fault until a frame was done.
func (h *havoc) goesOn(done int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.done = done
	for _, at := range h.since {
		h.report.Waits = append(h.report.Waits, time.Since(at))
	}
	h.since = nil
}

// happens lets one thing happen to somebody to whom nothing happens already.
func (h *havoc) happens(ctx context.Context) {
	all := append(append([]*processes.Process{h.hire, h.farm, nil, nil}, h.services...), h.agents...)
	who := all[h.draw.IntN(len(all))]
	what, lasts := "killed", time.Duration(h.draw.Int64N(int64(3*time.Second)))
	switch kind := h.draw.IntN(4); {
	case who == nil && kind == 0:
		what = "power cut"
	case who == nil:
	case who == h.hire || who == h.farm: // they remember nothing that they do not do
		what, lasts = "stopped", lasts*3
	case kind == 0:
		what, lasts = "stopped for long", 16*time.Second+2*lasts // longer than a lease lives
	case kind == 1:
		what = "stopped"
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.busy[who] || what == "power cut" && len(h.busy) > 0 {
		return
	}
	name := "database"
	if who != nil {
		name = who.Name
	}
	h.left--
	h.report.Faults[what+" "+name]++
	h.since = append(h.since, time.Now())
	h.busy[who] = true
	h.under.Go(func() {
		err := h.befalls(ctx, who, what, lasts)
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.busy, who)
		if err != nil {
			h.faults = append(h.faults, fmt.Errorf("%s %s: %w", what, name, err))
		}
	})
}

// befalls lets it happen, and sets it right again.
func (h *havoc) befalls(ctx context.Context, who *processes.Process, what string, lasts time.Duration) error {
	switch {
	case what == "power cut":
		return h.powerCut(ctx, lasts)
	case who == nil:
		if err := syscall.Kill(h.db.Pid(), syscall.SIGKILL); err != nil {
			return err
		}
		pause(ctx, lasts)
		return h.revive(ctx)
	case what == "killed":
		if err := who.Kill(); err != nil {
			return err
		}
		pause(ctx, lasts)
		return who.Again()
	}
	err := who.Signal(syscall.SIGSTOP)
	pause(ctx, lasts)
	return errors.Join(err, who.Signal(syscall.SIGCONT))
}

// revive starts the database again: what it was may take a moment to be gone.
func (h *havoc) revive(ctx context.Context) error {
	return h.world.until(context.WithoutCancel(ctx), "the database to start again", func() (bool, error) { return h.db.Restart(context.WithoutCancel(ctx)) == nil, nil })
}

// powerCut takes the house's power: services, agents and database are gone at once, and come back.
func (h *havoc) powerCut(ctx context.Context, lasts time.Duration) error {
	all := append(append([]*processes.Process{}, h.services...), h.agents...)
	h.mu.Lock()
	for _, p := range all {
		h.busy[p] = true
	}
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		for _, p := range all {
			delete(h.busy, p)
		}
	}()
	faults := []error{syscall.Kill(h.db.Pid(), syscall.SIGKILL)}
	for _, p := range all {
		faults = append(faults, p.Signal(syscall.SIGKILL))
	}
	for _, p := range all {
		<-p.Ended()
	}
	pause(ctx, lasts)
	faults = append(faults, h.revive(ctx))
	for _, p := range all {
		faults = append(faults, p.Again())
	}
	return errors.Join(faults...)
}
