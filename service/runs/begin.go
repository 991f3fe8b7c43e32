package runs

import (
	"context"
	"fmt"
	"slices"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"rotanex.example/core/frames"
	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/farms"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/licences"
	"rotanex.example/service/planned"
	"rotanex.example/service/queue"
	"rotanex.example/service/rental"
	"rotanex.example/service/states"
)

// Beginning is everything that a new run consists of.
type Beginning struct {
	Run    Run
	Shots  []Shot
	Frames []queue.Asked
	planned.Booked
	Kept []Kept
	Also func(tx *gorm.DB) error // what belongs into the same transaction
}

// Kept is frames of a shot that another run has done, and that a new one takes over.
type Kept struct {
	From   uuid.UUID
	Shot   string
	Frames frames.Set
}

func (k Kept) add(tx *gorm.DB, run uuid.UUID) error {
	n, err := queue.TakeOver(tx, run, k.From, k.Shot, slices.Collect(k.Frames.All()))
	if err == nil && n != k.Frames.Len() {
		err = httpapi.Conflict(fmt.Sprintf("of the frames of %s that run %s had done, %d are not there any more: plan again", k.Shot, k.From.String()[:8], k.Frames.Len()-n))
	}
	return err
}

// atOnce is how many frames a transaction has wait. While one goes on, nobody hears of what others have written meanwhile.
const (
	atOnce   = 25_000
	atOnceBy = 3 // so many transactions
)

// Begin stores a new run and opens it for work. A run of that id that stands
// already is left as it is, if it was asked for in the same words.
func (q *Runs) Begin(ctx context.Context, b Beginning) error {
	b.Run.Chained = slices.ContainsFunc(b.Shots, func(s Shot) bool { return len(s.Spec.After) > 0 })
	if err := q.lay(ctx, &b); err != nil {
		return err
	}
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		isNew, err := addRun(tx, b.Run)
		if err != nil {
			return err
		}
		if !isNew {
			var old Run
			if err := tx.Take(&old, "id = ?", b.Run.ID).Error; err != nil {
				return err
			}
			return httpapi.SameRequest(old.Request, b.Run.Request)
		}
		const rows = 2000
		for i := range b.Bookings {
			b.Bookings[i].Open = true
		}
		for _, insert := range []func() error{
			func() error { return tx.CreateInBatches(b.Shots, rows).Error },
			func() error { return queue.Add(tx, b.Run.ID, b.Frames...) },
			func() error { return bookings.Add(tx, b.Bookings) },
			func() error { return rental.Add(tx, b.Servers) },
			func() error { return farms.Add(tx, b.Jobs, b.Bookings) },
			func() error { return licences.Hire(tx, b.Hired) },
		} {
			if err := insert(); err != nil {
				return err
			}
		}
		for _, k := range b.Kept {
			if err := k.add(tx, b.Run.ID); err != nil {
				return err
			}
		}
		if b.Run.Chained {
			if err := queue.Block(tx, b.Run.ID); err != nil {
				return err
			}
		}
		if b.Also != nil {
			if err := b.Also(tx); err != nil {
				return err
			}
		}
		return q.feed.Write(tx, events.Event{Kind: kindOf(b.Run.Kind), Run: b.Run.ID.String(), State: string(states.RunRunning)})
	})
	if err == nil {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}

// lay has the frames of a large run wait before it is begun, some at a time. Until then it is no run: what is left if it does not come
// to that, Abandoned finds. What was laid before, for the same run, is gone on from.
func (q *Runs) lay(ctx context.Context, b *Beginning) error {
	frames := 0
	for _, a := range b.Frames {
		frames += a.Count()
	}
	if frames <= atOnce {
		return nil
	}
	is, err := layRun(q.store.WithContext(ctx), b.Run)
	if err != nil || !is {
		return err
	}
	laying, ctx := errgroup.WithContext(ctx)
	laying.SetLimit(atOnceBy)
	for _, a := range b.Frames {
		for from := 0; from < a.Frames.Len(); from += atOnce {
			some := a
			some.Frames = a.Frames.Part(from, min(from+atOnce, a.Frames.Len()))
			laying.Go(func() error { return queue.Add(q.store.WithContext(ctx), b.Run.ID, some) })
		}
	}
	if err := laying.Wait(); err != nil {
		return err
	}
	b.Frames = nil
	return nil
}
