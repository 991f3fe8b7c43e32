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

// halfWay is the part of a run that is forecast half-way.
const halfWay = 0.5

// Of says how shots end as they are planned anew on the way, of a run of which so many frames wait, or, nil, of one that is to
// begin; and in words what that rests on.
func (e *Endings) Of(ctx context.Context, run *uuid.UUID, waiting int) (*forecast.Endings, string, error) {
	db, part := e.store.WithContext(ctx), 0.0
	if run != nil {
		first, found, err := firstOf(db, *run)
		if err != nil {
			return nil, "", err
		}
		if found && first.halfDone(waiting) {
			part = halfWay
		}
	}
	rows, err := ended(db)
	runs := map[uuid.UUID]bool{}
	var seen []forecast.Ending
	for _, r := range rows {
		runs[r.RunID] = true
		for _, s := range r.Shots {
			if s.Part = 0; r.Later {
				s.Part = halfWay
			}
			seen = append(seen, s.Ending)
		}
	}
	about := "when it ends, planned anew by itself on the way (policy auto): "
	if len(runs) == 0 {
		return forecast.LearnEndings(seen, part), about + "as made-up runs did, since none of yours has ended", err
	}
	return forecast.LearnEndings(seen, part), about + fmt.Sprintf("as the last %d of yours did, beside what was forecast of them", len(runs)), err
}

// Tell keeps what is forecast of a run's rest at a time, if that is its first, or its deadline has moved, or it is half
// done since, and says when it ends as it is planned anew on the way. Nil: it is not planned anew by itself, or
// most of what was simulated never ends.
func (e *Endings) Tell(ctx context.Context, run uuid.UUID, at time.Time, rest *replan.Rest, moved bool) (*Kept, error) {
	f := rest.Expected()
	if rest.Policy != replan.Auto || f.Kept == nil {
		return nil, nil
	}
	told, due := forecasted{RunID: run, ToldAt: at}, rest.DueS()
	last := 0.0
	for _, d := range due {
		last = max(last, d)
	}
	told.Shots = append(told.Shots, shot{Ending: forecast.Ending{Whole: true, Finish: f.Finish, Due: last}})
	for _, s := range f.Shots {
		told.Shots = append(told.Shots, shot{ID: s.ID, Ending: forecast.Ending{Finish: s.Finish, Due: due[s.ID]}})
	}
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
