package farms

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/providers"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/sources"
	"rotanex.example/service/states"
)

// look asks the farm how a job is, and does what follows from it.
func (f *Farms) look(ctx context.Context, farm providers.Farm, j job) error {
	seen, err := farm.Look(ctx, j.id.String())
	if errors.Is(err, providers.ErrGone) {
		return f.giveUp(ctx, j, states.JobRejected, "the farm does not know the job any more")
	}
	if err != nil {
		return err
	}
	if err := noteSeen(f.store.WithContext(ctx), j.id, seen, f.clock.Now()); err != nil {
		return err
	}
	if seen.State == providers.Rejected {
		why := "the analysis found what cannot be rendered there"
		if len(seen.Findings) > 0 {
			why = seen.Findings[0]
		}
		return f.giveUp(ctx, j, states.JobRejected, why)
	}
	// Money first: what comes home may take its time.
	if goes, err := f.keepsTo(ctx, farm, j, &seen); err != nil || !goes {
		return err
	}
	held, err := f.bringHome(ctx, farm, j, seen)
	if err != nil {
		return err
	}
	if len(held) == 0 {
		return f.set(ctx, j, states.JobClosing, "", nil)
	}
	state := map[string]states.Job{
		providers.Analysing: states.JobAnalysing, providers.Queued: states.JobQueued, providers.Proofing: states.JobProofing, providers.Held: states.JobHeld, providers.Rendering: states.JobRendering, providers.Done: states.JobRendering,
	}[seen.State]
	switch {
	case seen.State == providers.Held:
		return f.onProofs(ctx, farm, j)
	case seen.State == providers.Ended:
		return f.giveUp(ctx, j, states.JobClosing, "the farm ended the job")
	case state != "" && state != j.state:
		return f.set(ctx, j, state, "", nil)
	}
	return nil
}

// onProofs releases the rest once somebody has accepted the proof frames, or the run
// accepts those that came home whole.
func (f *Farms) onProofs(ctx context.Context, farm providers.Farm, j job) error {
	said := ""
	switch {
	case j.accepted != nil && !*j.accepted:
		return f.giveUp(ctx, j, states.JobRefused, "the proof frames were refused")
	case j.accepted == nil && j.state == states.JobHeld:
		return nil // a person is asked
	case j.accepted == nil && !j.accepts:
		return f.set(ctx, j, states.JobHeld, "", nil)
	case j.accepted == nil:
		// Home means checked: whole, of the right size, not blank. And it has to look as
		// elsewhere: what a renderer lacks it leaves out without a word.
		found, err := f.compareProofs(ctx, j)
		switch {
		case err != nil:
			return err
		case found.doubt != "":
			return f.set(ctx, j, states.JobHeld, "not accepted by check: "+found.doubt, nil)
		case found.with == 0:
			said = "proof frames accepted unseen: there was no frame of the shot to compare them with"
		}
		if err := accept(f.store.WithContext(ctx), j.id); err != nil {
			return err
		}
	}
	if err := farm.Release(ctx, j.id.String()); err != nil {
		return err
	}
	return f.set(ctx, j, states.JobRendering, said, nil)
}

// bringHome takes in the frames that are done, lets those that failed be rendered
// again, there or elsewhere, and returns the frames that the job still holds. A frame that
// something is wrong with does not hold up those behind it.
func (f *Farms) bringHome(ctx context.Context, farm providers.Farm, j job, seen providers.JobStatus) ([]int, error) {
	held, err := f.holds(ctx, j)
	if err != nil {
		return nil, err
	}
	var again, back []int
	var faults []error
	for _, x := range seen.Frames {
		if !slices.Contains(held, x.Frame) || ctx.Err() != nil || len(faults) > mostFaults {
			continue
		}
		switch {
		case x.State == providers.FrameDone && f.pictures.Rests(): // it waits at the farm
		case x.State == providers.FrameDone:
			faults = append(faults, f.fetch(ctx, farm, j, x))
		case x.State == providers.FrameWithdrawn:
			back = append(back, x.Frame)
		case x.State == providers.FrameFailed && x.Tries < dispatch.FarmTries:
			again = append(again, x.Frame)
		case x.State == providers.FrameFailed:
			faults = append(faults, f.queue.Fail(ctx, j.holder(), x.Frame, "crashed", fmt.Sprintf("%s, %d tries: %s", j.farm, x.Tries, x.Cause), x.Seconds))
		}
		faults = slices.DeleteFunc(faults, func(err error) bool { return err == nil })
	}
	if len(again) > 0 {
		faults = append(faults, farm.Again(ctx, j.id.String(), again))
	}
	if len(back) > 0 {
		faults = append(faults, f.queue.GiveBack(ctx, j.holder(), j.farm+": taken back", back...))
	}
	if err := errors.Join(faults...); err != nil {
		return nil, err
	}
	return f.holds(ctx, j)
}

// mostFaults is after how many frames that could not be taken in the farm is asked again later.
const mostFaults = 3

// fetch takes in a frame that is done. One whose picture is not whole, or not the one that was asked for, has failed: the farm
// would send it again and again.
func (f *Farms) fetch(ctx context.Context, farm providers.Farm, j job, x providers.JobFrame) error {
	file, err := farm.Picture(ctx, j.id.String(), x.Frame)
	if err != nil {
		return fmt.Errorf("frame %d of %s: %w", x.Frame, j.shot, err)
	}
	defer func() { _ = file.Close() }()
	err = f.queue.Deliver(ctx, j.holder(), x.Frame, file, x.SHA256, x.Seconds)
	if bad := (*httpapi.Problem)(nil); errors.As(err, &bad) && bad.Status == http.StatusUnprocessableEntity {
		return f.queue.Fail(ctx, j.holder(), x.Frame, "bad-picture", fmt.Sprintf("%s: %s", j.farm, bad.Detail), x.Seconds)
	}
	return err
}

// close ends a job at its farm and enters what it cost. The farm's minimum charge is
// for all that is ordered with one plan: so the charges are entered when the last of
// the order's jobs there is closed.
func (f *Farms) close(ctx context.Context, farm providers.Farm, j job) error {
	if err := f.queue.GiveBack(ctx, j.holder(), j.farm+": the job was closed"); err != nil {
		return err
	}
	if err := farm.End(ctx, j.id.String()); err != nil && !errors.Is(err, providers.ErrGone) {
		return err
	}
	// What was ended, or is known no more, may have its meter still.
	seen, err := farm.Look(ctx, j.id.String())
	gone := errors.Is(err, providers.ErrGone)
	if err != nil && !gone {
		return err
	}
	others, err := othersOpen(f.store.WithContext(ctx), j)
	if err != nil {
		return err
	}
	if others {
		return f.noteClosed(ctx, j, seen) // looked at again in its turn
	}
	return f.set(ctx, j, states.JobEnded, "", func(tx *gorm.DB) error {
		if err := ended(tx, j.id, f.clock.Now(), seen.NodeSeconds); err != nil || gone {
			return err
		}
		run := j.run.String()
		_, err := f.sources.Enter(tx, sources.Charge{Run: &run, Source: j.source, Place: j.id.String(), Metered: seen.NodeSeconds, Amount: seen.Charge})
		return err
	})
}
