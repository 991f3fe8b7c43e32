package runs

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/farms"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/licences"
	"rotanex.example/service/planned"
	"rotanex.example/service/rental"
	"rotanex.example/service/states"
)

// ChangeOver lets the rest of a run be carried out by another plan, made for it.
// What crews owe by the old plan is dropped; what they are rendering, and servers
// that are up, stay. Also is done in the same transaction.
func (q *Runs) ChangeOver(ctx context.Context, id, plan uuid.UUID, spend string, also ...func(tx *gorm.DB) error) error {
	next, err := q.planOf(ctx, &plan, uuid.Nil)
	if err != nil {
		return httpapi.NotFound(fmt.Sprintf("there is no plan %s; rotanex plans list shows them", plan))
	}
	err = q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var run Run
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ? AND kind = ?", id, KindRun).Limit(1).Find(&run).Error; err != nil {
			return err
		}
		if run.ID == uuid.Nil {
			return httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", id))
		}
		if !run.State.Open() {
			return httpapi.Conflict(fmt.Sprintf("run %s is %s: nothing of it is left to carry out", id, run.State))
		}
		if err := mayChangeOver(tx, id, plan); err != nil {
			return err
		}
		if spend != "" || run.Cap == nil {
			limit, err := next.Spend(spend)
			if err != nil {
				return err
			}
			if err := setCap(tx, id, limit); err != nil {
				return err
			}
		}
		var changes int64
		if err := tx.Table("run_plans").Where("run_id = ?", id).Count(&changes).Error; err != nil {
			return err
		}
		if err := bookings.OweNothing(tx, id); err != nil {
			return err
		}
		if err := errors.Join(rental.DropPlanned(tx, id), farms.DropPlanned(tx, id)); err != nil {
			return err
		}
		if err := q.book(tx, next, run, plan, int(changes)); err != nil {
			return err
		}
		if err := goesBy(tx, id, plan, q.clock.Now()); err != nil {
			return err
		}
		for _, do := range also {
			if err := do(tx); err != nil {
				return err
			}
		}
		return q.feed.Write(tx, events.Event{Kind: kindOf(KindRun), Run: id.String(), State: string(run.State)})
	})
	if err == nil {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}

// book books what the plan of a run's rest has, after so many changes of its plan.
func (q *Runs) book(tx *gorm.DB, next planned.Plan, run Run, plan uuid.UUID, changes int) error {
	booked := next.Rest(run.ID, plan, changes+1, q.clock.Now())
	for i := range booked.Bookings {
		booked.Bookings[i].Open = run.State == states.RunRunning
	}
	// Servers and jobs are held against the cap when their time comes; seats are hired now.
	seats, err := licences.CostOf(booked.Hired)
	if err != nil {
		return err
	}
	if !seats.IsZero() {
		beyond, err := q.sources.Beyond(tx, run.ID, "", seats, "hiring the plan's extra seats")
		if err != nil {
			return err
		}
		if beyond != "" {
			return httpapi.Conflict(beyond + ": say what the whole run may cost with --spend")
		}
	}
	if err := bookings.Add(tx, booked.Bookings); err != nil {
		return err
	}
	if err := q.standing.Untie(tx, run.ID); err != nil {
		return err
	}
	return errors.Join(rental.Add(tx, booked.Servers), farms.Add(tx, booked.Jobs, booked.Bookings), licences.Hire(tx, booked.Hired))
}

// mayChangeOver says why a run cannot go on by a plan, or nothing if it can.
func mayChangeOver(tx *gorm.DB, id, plan uuid.UUID) error {
	fit, err := suits(tx, id, plan)
	switch {
	case err != nil:
		return err
	case !fit.Its:
		return httpapi.Conflict(fmt.Sprintf("plan %s was not made for the rest of run %s: make one with rotanex replan %s", plan, id, id.String()[:8]))
	case fit.Assumes:
		return httpapi.Conflict("the plan assumes what is not so: it cannot be carried out")
	case fit.Stale:
		return httpapi.Conflict("the run has changed over to another plan since this one was made: plan again")
	}
	return nil
}
