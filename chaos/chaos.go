// Package chaos plays runs on two services, a database, four agents, a company that lets servers and a farm, faster than life,
// and lets everything die, stand still and come back in turn, by a seed. After each run it looks whether anything was lost,
// doubled, left behind or paid beyond its cap.
package chaos

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"time"

	"rotanex.example/api"
)

// Config is what is played.
type Config struct {
	Bin    string // folder of the binaries
	State  string // folder of everything; PostgreSQL's user must be able to enter it
	Seed   uint64
	Faults int // how many there are in all, over as many runs as it takes
	Frames int // of a run, of all passes
	Out    io.Writer
}

// Report is what came of it.
type Report struct {
	Runs     int
	Faults   map[string]int // by what happened to whom
	Waits    []time.Duration
	Findings []string
}

// Play plays it. What it started it also ends. The report is of what was played, also where the context ended before all was.
func Play(ctx context.Context, c Config) (r Report, err error) {
	r.Faults = map[string]int{}
	w := &world{Config: c}
	defer func() { err = errors.Join(err, w.close()) }()
	if err := w.setUp(ctx); err != nil {
		return r, err
	}
	draw := rand.New(rand.NewPCG(c.Seed, 0))
	for left := c.Faults; left > 0 && ctx.Err() == nil; {
		began := time.Now()
		run, err := w.begin(ctx)
		if err != nil {
			return r, err
		}
		w.say("run %s: %d frames, EUR %s planned outside, at most %s", run.Id.String()[:8], run.Counts.Waiting+run.Counts.Rendering+run.Counts.Done, run.PlannedCost, run.Cap)
		h := &havoc{world: w, draw: draw, report: &r, left: left}
		if err := h.until(ctx, run); err != nil {
			return r, err
		}
		left = h.left
		found, err := w.check(ctx, run)
		if err != nil {
			return r, err
		}
		r.Runs++
		for _, f := range found {
			r.Findings = append(r.Findings, fmt.Sprintf("run %s: %s", run.Id.String()[:8], f))
			w.say("FOUND %s", f)
		}
		w.say("run %s: over after %s, %d faults to go", run.Id.String()[:8], time.Since(began).Round(time.Second), left)
	}
	return r, ctx.Err()
}

// begin plans a new shot so that own hosts alone do not do, and starts its run with the least that the plan may cost.
func (w *world) begin(ctx context.Context) (run api.Run, err error) {
	w.shots++
	shot := fmt.Sprintf("coda-%03d", w.shots)
	if err := errors.Join(w.putShot(ctx, shot, fmt.Sprintf("1-%d", w.Frames/len(passes)), true), os.WriteFile(w.folder("times.csv"), []byte(w.timesOf(shot)), 0o600)); err != nil {
		return run, err
	}
	if _, err := w.rotanex(ctx, "times", "import", w.folder("times.csv")); err != nil {
		return run, err
	}
	alone, err := asked[api.Plan](ctx, w, "plan", shot, "--by", "+48h", "--owned-only")
	if err != nil {
		return run, err
	}
	var plan api.Plan
	for tenths := time.Duration(4); tenths < 10; tenths++ {
		within := alone.Finish.Sub(alone.Start) * tenths / 10
		_, _ = w.rotanex(ctx, "plan", shot, "--by", "+"+within.Round(time.Second).String()) // that it is late, or unlikely to be in time, is an error there
		if plan, err = asked[api.Plan](ctx, w, "plans", "show", "latest"); err != nil || plan.Status == api.PlanStatusMeets {
			break
		}
	}
	if err != nil {
		return run, err
	}
	return asked[api.Run](ctx, w, "start", plan.Id.String(), "--yes", "--accept-proofs", "--policy", "auto", "--tries", "10")
}
