package farms

import (
	"context"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/pricing"
	"rotanex.example/providers"
	"rotanex.example/service/bookings"
	"rotanex.example/service/states"
)

// looksAhead is for how many looks a farm is taken to render on after it was told to stop.
const looksAhead = 3

// longest is as long as anything is taken to have been rendered, whatever a farm says.
const longest = 30 * 365 * 24 * time.Hour

// length turns seconds that a farm said into a length.
func length(seconds float64) time.Duration {
	return time.Duration(min(max(seconds, 0), longest.Seconds()) * float64(time.Second))
}

// costing is a job's cost before its farm has said anything.
func (f *Farms) costing(tx *gorm.DB, j job) (out pricing.JobCost, err error) {
	out = pricing.JobCost{Prices: j.tier.Work, Cores: j.tier.CPU.Cores, MHz: j.tier.CPU.MHz, Nodes: j.tier.Nodes, Ahead: time.Duration(looksAhead * float64(lookEvery) * f.clock.Factor())}
	if out.Factor, err = f.sources.FactorBy(tx, j.source); err != nil {
		return out, err
	}
	frame, err := bookings.FrameS(tx, j.booking)
	if err != nil {
		return out, err
	}
	out.Planned = length(frame)
	out.Others, err = committedOf(tx, j)
	return out, err
}

// began says since when each frame is in work that a farm says is; not later than it was seen so first.
func (j job) began(seen providers.JobStatus, now time.Time) map[int]time.Time {
	since := now.Add(-lookEvery)
	if j.seenAt != nil {
		since = *j.seenAt
	}
	out := map[int]time.Time{}
	for _, x := range seen.Frames {
		if x.State != providers.FrameRendering {
			continue
		}
		if out[x.Frame] = since; !j.begun[x.Frame].IsZero() {
			out[x.Frame] = j.begun[x.Frame]
		}
	}
	return out
}

// costNow is a job's cost as its farm tells it, and the frames that wait there.
func costNow(of pricing.JobCost, seen providers.JobStatus, begun map[int]time.Time, now time.Time) (pricing.JobCost, []int) {
	of.NodeTime, of.Charge, of.Done = length(seen.NodeSeconds), seen.Charge, seen.ChargedFrames
	var waiting []int
	for _, x := range seen.Frames {
		switch {
		case x.State == providers.FrameWaiting, x.State == providers.FrameFailed && x.Tries < dispatch.FarmTries:
			waiting = append(waiting, x.Frame)
		case x.State == providers.FrameDone, x.State == providers.FrameFailed:
			of.Longest = max(of.Longest, length(x.Seconds))
		}
	}
	for _, since := range begun {
		of.Begun = append(of.Begun, now.Sub(since))
	}
	return of, waiting
}

// keepsTo holds a job to what the caps leave for it, by what its frames really take: it takes frames back that would be too much,
// before they begin, and ends the job where what is in work would be. It reports whether the job goes on.
func (f *Farms) keepsTo(ctx context.Context, farm providers.Farm, j job, seen *providers.JobStatus) (bool, error) {
	stop, why, back := false, "", []int(nil)
	err := f.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		room, err := f.sources.Room(tx, j.run, j.source, j.id.String())
		if err != nil {
			return err
		}
		now := f.clock.Now()
		begun := j.began(*seen, now)
		of, err := f.costing(tx, j)
		if err != nil {
			return err
		}
		of, waiting := costNow(of, *seen, begun, now)
		keep := len(waiting)
		if room != nil {
			keep, stop = of.Keeps(len(waiting), room.Left())
			back, why = j.leastWanted(waiting, len(waiting)-keep), room.String()
		}
		return noteCost(tx, j.id, of.With(keep), begun, now)
	})
	switch {
	case err != nil:
		return false, err
	case stop:
		return false, f.stop(ctx, farm, j, *seen, "it was stopped before it was too much for "+why)
	case len(back) == 0:
		return true, nil
	}
	taken, err := farm.Withdraw(ctx, j.id.String(), back)
	if errors.Is(err, providers.ErrUnable) {
		return false, f.stop(ctx, farm, j, *seen, "it was ended, as the farm takes no frames back, before it was too much for "+why)
	}
	if err != nil {
		return false, err
	}
	for i, x := range seen.Frames {
		if slices.Contains(taken, x.Frame) {
			seen.Frames[i].State = providers.FrameWithdrawn
		}
	}
	return true, noteTrouble(f.store.WithContext(ctx), j.id, fmt.Sprintf("%d frames were taken back before they were too much for %s", len(taken), why))
}

// leastWanted are n of the frames that wait, the last of the shot first, and proof frames at the very last.
func (j job) leastWanted(waiting []int, n int) []int {
	slices.SortFunc(waiting, func(a, b int) int {
		if x, y := slices.Contains(j.proofs, a), slices.Contains(j.proofs, b); x != y {
			if x {
				return 1
			}
			return -1
		}
		return b - a
	})
	return waiting[:n]
}

// stop ends a job at its farm at once, takes in what is done, and lets the rest wait for somebody else.
func (f *Farms) stop(ctx context.Context, farm providers.Farm, j job, seen providers.JobStatus, why string) error {
	if err := farm.End(ctx, j.id.String()); err != nil && !errors.Is(err, providers.ErrGone) {
		return err
	}
	_, fault := f.bringHome(ctx, farm, j, seen)
	return errors.Join(fault, f.giveUp(ctx, j, states.JobClosing, why))
}

// affords is how many of a job's frames may be sent, what they may come to, and why not all.
func (f *Farms) affords(tx *gorm.DB, j job) (n int, cost pricing.Money, why string, err error) {
	room, err := f.sources.Room(tx, j.run, j.source, j.id.String())
	if err != nil {
		return 0, cost, "", err
	}
	of, err := f.costing(tx, j)
	if err != nil {
		return 0, cost, err.Error(), nil // what cannot be priced is not bought
	}
	n = j.frames
	if room != nil {
		if n, _ = of.Keeps(j.frames, room.Left()); n < j.frames {
			why = fmt.Sprintf("%d of %d frames are not sent: all for %s %s would exceed %s", j.frames-n, j.frames, room.Currency, of.With(j.frames), room)
		}
	}
	return n, of.With(n), why, nil
}

// most is what a job's farm may charge at most, in its own currency: it holds the job to that though we are away. Nil without caps.
func (f *Farms) most(ctx context.Context, j job) (most *pricing.Money, err error) {
	return most, f.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		room, err := f.sources.Room(tx, j.run, j.source, j.id.String())
		if err != nil || room == nil {
			return err
		}
		factor, err := f.sources.FactorBy(tx, j.source)
		if err != nil {
			return err
		}
		if factor.Sign() > 0 { // else it costs nothing
			most = new(room.Left().Max(pricing.Money{}).Scaled(new(big.Rat).Inv(factor)))
		}
		return nil
	})
}

// noteClosed notes what a job has come to that is closed and not charged yet, as others of its order are open.
func (f *Farms) noteClosed(ctx context.Context, j job, seen providers.JobStatus) error {
	return f.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		of, err := f.costing(tx, j)
		if err != nil {
			return err
		}
		of, _ = costNow(of, seen, nil, f.clock.Now())
		return noteCost(tx, j.id, of.Stopped(), nil, f.clock.Now())
	})
}
