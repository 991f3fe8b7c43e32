package farms

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/pricing"
	"rotanex.example/providers"
	"rotanex.example/service/bookings"
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
// again, there or elsewhere, and returns the frames that the job still holds.
func (f *Farms) bringHome(ctx context.Context, farm providers.Farm, j job, seen providers.JobStatus) ([]int, error) {
	held, err := f.queue.Holds(ctx, j.holder())
	if err != nil {
		return nil, err
	}
	var again []int
	for _, x := range seen.Frames {
		if !slices.Contains(held, x.Frame) {
			continue
		}
		switch {
		case x.State == providers.FrameDone:
			if err := f.fetch(ctx, farm, j, x); err != nil {
				return nil, err
			}
		case x.State == providers.FrameFailed && x.Tries < dispatch.FarmTries:
			again = append(again, x.Frame)
		case x.State == providers.FrameFailed:
			if err := f.queue.Fail(ctx, j.holder(), x.Frame, "crashed", fmt.Sprintf("%s, %d tries: %s", j.farm, x.Tries, x.Cause), x.Seconds); err != nil {
				return nil, err
			}
		}
	}
	if len(again) > 0 {
		if err := farm.Again(ctx, j.id.String(), again); err != nil {
			return nil, err
		}
	}
	return f.queue.Holds(ctx, j.holder())
}

func (f *Farms) fetch(ctx context.Context, farm providers.Farm, j job, x providers.JobFrame) error {
	file, err := farm.Picture(ctx, j.id.String(), x.Frame)
	if err != nil {
		return fmt.Errorf("frame %d of %s: %w", x.Frame, j.shot, err)
	}
	defer func() { _ = file.Close() }()
	return f.queue.Deliver(ctx, j.holder(), x.Frame, file, x.SHA256, x.Seconds)
}

// cost is what a job is expected to come to.
func (f *Farms) cost(ctx context.Context, j job) (pricing.Money, error) {
	factor, err := f.sources.Factor(ctx, j.source)
	if err != nil {
		return pricing.Money{}, err
	}
	frame, err := bookings.FrameS(f.store.WithContext(ctx), j.booking)
	if err != nil {
		return pricing.Money{}, err
	}
	// The minimum charge is for all jobs of the order: what others are expected to come to
	// counts towards it.
	committed, err := committedOf(f.store.WithContext(ctx), j)
	if err != nil {
		return pricing.Money{}, err
	}
	card := j.tier.Work
	least := card.MinimumCharge.Scaled(factor)
	card.MinimumCharge = pricing.Money{}
	work := time.Duration(frame * float64(j.frames) * float64(time.Second))
	return card.Charge(j.tier.CPU.Cores, j.tier.CPU.MHz, work, j.frames).Scaled(factor).Max(least.Minus(committed)), nil
}

// close ends a job at its farm and enters what it cost. The farm's minimum charge is
// for all that is ordered with one plan: so the charges are entered when the last of
// the order's jobs there is closed.
func (f *Farms) close(ctx context.Context, farm providers.Farm, j job) error {
	if err := f.queue.GiveBack(ctx, j.holder(), j.farm+": the job was closed"); err != nil {
		return err
	}
	err := farm.End(ctx, j.id.String())
	gone := errors.Is(err, providers.ErrGone)
	if err != nil && !gone {
		return err
	}
	others, err := othersOpen(f.store.WithContext(ctx), j)
	if err != nil || others {
		return err // looked at again in its turn
	}
	var seen providers.JobStatus
	if !gone {
		if seen, err = farm.Look(ctx, j.id.String()); err != nil && !errors.Is(err, providers.ErrGone) {
			return err
		}
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
