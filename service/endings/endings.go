// Package endings keeps what was forecast of runs that are planned anew by themselves, as they began and
// half-way, beside when their shots ended, so that it can be said of others when they will.
package endings

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/forecast"
	"rotanex.example/core/replan"
	"rotanex.example/service/store"
)

// Endings keeps them.
type Endings struct{ store *store.Store }

// New makes it.
func New(s *store.Store) *Endings { return &Endings{s} }

// Kept is when runs like one end, from now on and as they are planned anew on the way.
type Kept struct {
	P10, P50, P90 time.Time
}

// Of says how shots end as they are planned anew on the way, of a run of which so many frames wait, or, nil, of one that is to
// begin; and in words what that rests on.
func (e *Endings) Of(ctx context.Context, run *uuid.UUID, waiting int) (*forecast.Endings, string, error) {
	db, later := e.store.WithContext(ctx), false
	if run != nil {
		first, found, err := firstOf(db, *run)
		if err != nil {
			return nil, "", err
		}
		later = found && first.halfDone(waiting)
	}
	rows, err := ended(db)
	runs := map[uuid.UUID]bool{}
	var seen []forecast.Ending
	for _, r := range rows {
		runs[r.RunID] = true
		seen = append(seen, r.Told...)
	}
	about := "when it ends, planned anew by itself on the way (policy auto): "
	if len(runs) == 0 {
		return forecast.LearnEndings(seen, later), about + "as made-up runs did, since none of yours has ended", err
	}
	return forecast.LearnEndings(seen, later), about + fmt.Sprintf("as the last %d of yours did, beside what was forecast of them", len(runs)), err
}

// Tell keeps what is forecast of a run's rest at a time, if that is its first, or its deadline has moved, or it is half
// done since, and says when it ends as it is planned anew on the way. Nil: it is not planned anew by itself, or
// most of what was simulated never ends.
func (e *Endings) Tell(ctx context.Context, run uuid.UUID, at time.Time, rest *replan.Rest, moved bool) (*Kept, error) {
	f := rest.Expected()
	if rest.Policy != replan.Auto || f.Kept == nil {
		return nil, nil
	}
	told := forecasted{RunID: run, ToldAt: at}
	for _, x := range rest.Problem.Shots {
		told.Waiting += x.Frames
	}
	err := e.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if moved {
			if err := forget(tx, run); err != nil {
				return err
			}
		}
		first, found, err := firstOf(tx, run)
		if err != nil {
			return err
		}
		told.Later = found && first.halfDone(told.Waiting)
		told.Told = f.Told(told.Later, rest.DueS())
		return keep(tx, told)
	})
	if by := f.Kept.Finish; err == nil && by.P50 >= 0 {
		after := func(s float64) time.Time { return at.Add(time.Duration(s * float64(time.Second))).UTC() }
		return &Kept{after(by.P10), after(by.P50), after(by.P90)}, nil
	}
	return nil, err
}

// Sweep writes down when runs ended that are over now, and forgets those that were cancelled, were not planned
// anew by themselves to the end, or are too many.
func (e *Endings) Sweep(ctx context.Context) error {
	return e.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := drop(tx); err != nil {
			return err
		}
		over, err := overNow(tx)
		for _, o := range over {
			if err != nil {
				return err
			}
			err = end(tx, o)
		}
		return err
	})
}
