package demo

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"rotanex.example/api"
	"rotanex.example/cli"
)

// beginsBy is how long after its clock's start a run may begin: the story is of a Friday evening.
const beginsBy = 6 * time.Hour

func (d *Demo) weekendIsOver(ctx context.Context) (bool, error) {
	start, err := time.Parse(time.RFC3339, clockStart)
	if err != nil {
		return false, err
	}
	s, err := asked[api.Session](d, ctx, "whoami")
	return s.Clock.Now.Sub(start) > beginsBy, err
}

// job does the main job, step by step, and leaves out what stands from before.
func (d *Demo) job(ctx context.Context) error {
	run, found, err := d.ownRun(ctx)
	if err != nil {
		return err
	}
	if found {
		d.say("The run of before stands: %s", run.State)
	} else {
		if over, err := d.weekendIsOver(ctx); err != nil {
			return err
		} else if over {
			d.say("A demo was cut off here before its run began, and its weekend is over by its clock: beginning afresh")
			return errOver
		}
		if err := d.time(ctx); err != nil {
			return err
		}
		if err := d.begin(ctx); err != nil {
			return err
		}
		if run, _, err = d.ownRun(ctx); err != nil {
			return err
		}
	}
	id := run.Id.String()[:8]
	if run.State == api.RunStateRunning || run.State == api.RunStatePaused {
		d.say("Watch it in the console as well: %s  (token %s)", d.address, d.token)
		judging, stop := context.WithCancel(ctx)
		var judge sync.WaitGroup
		judge.Go(func() { d.judgeProofs(judging, id) })
		err := d.rotanex(ctx, "watch", id)
		stop()
		judge.Wait()
		if err != nil {
			return fmt.Errorf("the run: %w", err)
		}
		if err := d.settled(ctx); err != nil {
			return err
		}
	}
	frames := filepath.Join(d.State, "frames")
	if err := d.rotanex(ctx, "download", id, "--to", frames); err != nil {
		return fmt.Errorf("collecting: %w", err)
	}
	for _, args := range [][]string{{"runs", "changes", id}, {"ledger", id}, {"farms", "jobs", id}, {"entries", id, "--source", "tern"}, {"sources", "compare", "--run", id}, {"sources", "list"}} {
		if err := d.rotanex(ctx, args...); err != nil {
			return err
		}
	}
	d.say("The notice board was told %d things; rotanex notify sent lists them", d.board.told.Load())
	d.say("Every frame was rendered, checked and downloaded: %s", frames)
	if run, _, err = d.ownRun(ctx); err != nil {
		return err
	}
	spare := run.Deadline.Sub(run.Ended).Round(time.Second)
	if spare < 0 {
		d.late = fmt.Errorf("the run ended %s after its deadline", -spare)
		d.say("Late: %s", d.late)
		return nil
	}
	d.say("In time: %s before the deadline, for %s %s where %s were planned", spare, run.Currency, run.CostSoFar, run.PlannedCost)
	return nil
}

// ownRun finds the demo's own run: the first of its shots. Others may have been
// started since, by whoever tries things out.
func (d *Demo) ownRun(ctx context.Context) (run api.Run, found bool, err error) {
	runs, err := asked[[]api.Run](d, ctx, "runs", "list")
	for _, r := range slices.Backward(runs) {
		if len(r.Shots) == renderedAs && r.Shots[0].Shot == planned[0] && r.State != api.RunStateCancelled {
			return r, true, err
		}
	}
	return run, false, err
}

// time runs the trials that are not there yet, those of all shots side by side:
// so frames are timed under the load that the run will put on this machine.
func (d *Demo) time(ctx context.Context) error {
	done, err := asked[[]api.Trial](d, ctx, "trials", "list")
	if err != nil {
		return err
	}
	stands := map[string]bool{}
	for _, t := range done {
		if t.State == api.RunStateComplete || t.State == api.RunStateRunning {
			stands[t.Shot+" "+t.Host+"/"+t.Crew] = true
		}
	}
	begin := func(shots ...string) error {
		for _, shot := range shots {
			args := []string{"trials", "run", shot, "--frames", trialFrames[shot], "--no-wait"}
			crews := 0
			for _, crew := range trials[shot] {
				if !stands[shot+" "+crew] {
					args = append(args, "--crew", crew)
					crews++
				}
			}
			if crews > 0 {
				if err := d.rotanex(ctx, args...); err != nil {
					return fmt.Errorf("trials: %w", err)
				}
			}
		}
		return nil
	}
	if err := begin("orrery-010", "orrery-020", "storm-050", "stair-030.beauty", "stair-030.occlusion"); err != nil {
		return err
	}
	d.say("Timing test frames; the slowest crew takes about three quarters of a minute")
	if err := d.sweep(ctx); err != nil {
		return err
	}
	if err := d.trialsOver(ctx); err != nil {
		return err
	}
	if err := begin("stair-030.composite"); err != nil { // of the passes that are rendered by now
		return err
	}
	if err := d.trialsOver(ctx); err != nil {
		return err
	}
	if err := d.rotanex(ctx, "trials", "list"); err != nil {
		return err
	}
	return d.understand(ctx)
}

// trialsOver waits until no trial goes on.
func (d *Demo) trialsOver(ctx context.Context) error {
	return d.until(ctx, "the trials to be over", func() (bool, error) {
		all, err := asked[[]api.Trial](d, ctx, "trials", "list")
		for _, t := range all {
			if t.State == api.RunStateRunning {
				return false, err
			}
		}
		return true, err
	})
}

// sweep finds out how every crew would do on shots that are not rendered in the demo.
func (d *Demo) sweep(ctx context.Context) error {
	for _, s := range swept {
		var known api.Comparison
		known, err := asked[api.Comparison](d, ctx, "compare", s[0])
		if err != nil {
			return err
		}
		if known.Baseline != "" && !strings.Contains(known.Note, "only single devices") {
			continue
		}
		d.say("A sweep of %s: the trials that tell most", s[0])
		if err := d.rotanex(ctx, "trials", "sweep", s[0], "--budget", s[1]); err != nil {
			return fmt.Errorf("sweeping %s: %w", s[0], err)
		}
	}
	return nil
}

// understand shows what the timed frames say: crews side by side, memory, what would
// stop a shot, and settings beside each other.
func (d *Demo) understand(ctx context.Context) error {
	d.say("What the timed frames say")
	if err := d.rotanex(ctx, "compare", "coda-060"); err != nil {
		return err
	}
	d.say("Whether the lamp room fits anywhere")
	if err := d.rotanex(ctx, "memory", "lamp-040"); err != nil {
		return err
	}
	d.say("What would stop the storm")
	var blocked *exec.ExitError // status 5 says that every crew is
	if err := d.rotanex(ctx, "preflight", "storm-050", "--on", "loft"); err != nil && !errors.As(err, &blocked) {
		return err
	}
	studies, err := asked[[]api.Study](d, ctx, "settings", "list")
	if err != nil || len(studies) > 0 {
		return err
	}
	d.say("Settings of one real frame beside each other")
	return d.rotanex(ctx, "settings", "run", "orrery-010", "--crew", "dory/cpu", "--variant", "own", "--variant", "finer edges: antialias=0.05", "--variant", "draft: antialias=0.9,quality=4")
}

// begin plans and starts the run.
func (d *Demo) begin(ctx context.Context) error {
	if err := d.pack(ctx); err != nil {
		return err
	}
	d.say("The same work on each source, and on the best mix")
	if err := d.rotanex(ctx, "sources", "compare", "storm-050", "--by", deadline); err != nil {
		return err
	}
	err := d.rotanex(ctx, append(append([]string{"plan"}, planned...), "--by", deadline, "--not-before", begins, "--confidence", "95%", "--contingency", contingency)...)
	var ended *exec.ExitError
	if errors.As(err, &ended) && ended.ExitCode() == cli.ExitLate {
		d.say("This machine is too slow for the deadline of the demo; the plan that is least late is carried out")
		err = nil
	}
	if err != nil {
		return fmt.Errorf("planning: %w", err)
	}
	return d.rotanex(ctx, "start", "latest", "--yes")
}

// settled waits until all servers are down and all farms' jobs are closed, and holds
// the ledger against the meters.
func (d *Demo) settled(ctx context.Context) error {
	var run api.Run
	err := d.until(ctx, "the meters to be closed", func() (bool, error) {
		var err error
		if run, _, err = d.ownRun(ctx); err != nil {
			return false, err
		}
		for _, v := range run.Servers {
			if v.State != api.RunServerStateStopped && v.State != api.RunServerStateNotStarted {
				return false, nil
			}
		}
		for _, j := range run.FarmJobs {
			if j.State != api.FarmJobStateEnded && j.State != api.FarmJobStateNotStarted {
				return false, nil
			}
		}
		return true, nil
	})
	if err != nil {
		return err
	}
	return d.agree(ctx, run)
}
