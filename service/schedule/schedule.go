// Package schedule keeps what runs go by true while they run. It looks at each run every few
// minutes of life, and as soon as something has changed that bears on it; says how sure it
// still is to be in time; and where it falls short of what was asked for, plans what is left
// anew, by the run's policy and within its cap. What it does and what it proposes is kept as
// a change, with why, and with what was expected before and after.
//
// A look is a job: any number of services may sweep, one of them looks at a run at a time,
// and a look that was cut off is begun again. A change is made in one transaction with its
// record. docs/schedule.md has the policy and its thresholds; the rule is core/replan's.
package schedule

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/forecast"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/service/clock"
	"rotanex.example/service/computations"
	"rotanex.example/service/endings"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/jobs"
	"rotanex.example/service/plans"
	"rotanex.example/service/problems"
	"rotanex.example/service/runs"
	"rotanex.example/service/sources"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Times by the service's clock.
const (
	// atOnce is how soon after a look the next one follows when something has happened; else see
	// forecast.LookAfter.
	atOnce = time.Minute
	// declined is for how long a schedule is left alone after a person said no, unless something has
	// happened since. For how long after a change, replan.Rest.Settles says.
	declined = time.Hour

	// pause is the least, in real time, between two looks: a demo's clock that runs sixty times
	// as fast as life would have them take what renders.
	pause = 10 * time.Second

	look = "schedule" // kind of job
)

// Config is what keeping schedules needs of the service. All of it is wanted.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Feed     *events.Feed
	Jobs     *jobs.Jobs
	Asked    *computations.Computations
	Runs     *runs.Runs
	Plans    *plans.Plans
	Problems *problems.Problems
	Sources  *sources.Sources
	Endings  *endings.Endings
	Currency string
	Log      *slog.Logger
}

// Schedule keeps the schedules of all runs.
type Schedule struct{ Config }

// New makes it.
func New(c Config) *Schedule {
	s := &Schedule{c}
	c.Jobs.OnLong(look, s.look)
	c.Asked.On(effectsKind, s.effects)
	c.Plans.Together = s.together
	return s
}

// Sweep has the runs looked at that are due for it.
func (s *Schedule) Sweep(ctx context.Context) error {
	running, err := s.Runs.Running(ctx)
	for _, run := range running {
		due, failed := s.due(ctx, run)
		if err = errors.Join(err, failed); !due {
			continue
		}
		err = errors.Join(err, s.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			return s.Jobs.Send(ctx, tx, look, run.ID.String())
		}))
	}
	return err
}

// due reports whether a run is to be looked at now.
func (s *Schedule) due(ctx context.Context, run runs.Run) (bool, error) {
	db, now := s.Store.WithContext(ctx), s.Clock.Now()
	last, found, err := looked(db, run.ID)
	if err != nil {
		return false, err
	}
	world, err := s.world(db, run)
	switch {
	case err != nil:
		return false, err
	case !found:
		// What is there as a run begins is what its plan was made for, and those with it.
		if err := s.joined(ctx, run); err != nil {
			return false, err
		}
		return false, note(db, Looked{RunID: run.ID, LookedAt: now, Seen: world})
	case run.Policy == replan.Off:
		return false, nil
	}
	since := now.Sub(last.LookedAt)
	if s.Clock.Real(since) < pause {
		return false, nil
	}
	return since >= forecast.LookAfter(last.left()) || since >= atOnce && len(happened(last.Seen, world)) > 0, nil
}

// look is the job: it looks at a run, and does what follows from it.
func (s *Schedule) look(ctx context.Context, id string) error {
	of, err := uuid.Parse(id)
	if err != nil {
		return err
	}
	run, err := s.Runs.Find(ctx, of)
	if refused(err) || err == nil && (run.State != states.RunRunning || run.Policy == replan.Off || run.PlanID == nil) {
		return nil // it is gone, or not to be looked at any more
	}
	if err != nil {
		return err
	}
	db := s.Store.WithContext(ctx)
	last, _, err := looked(db, of)
	if err != nil {
		return err
	}
	world, err := s.world(db, run)
	if err != nil {
		return err
	}
	causes := happened(last.Seen, world)
	before := last.LookedAt
	last.RunID, last.LookedAt = of, s.Clock.Now()
	seen, err := s.expect(ctx, run)
	switch {
	case refused(err): // nothing of it waits, or it cannot be planned for want of something
		last.Chance, last.Finish, last.Kept, last.Seen = nil, nil, nil, world
		return note(db, last)
	case err != nil:
		s.Log.Warn("looking at the schedule", "run", of, "error", err)
		return err
	}
	last.Chance, last.Finish, last.Wanted, last.MayLet = &seen.present.Chance, known(seen.present.Finish), &seen.Wanted, nil
	if may := seen.MayLet(); !may.IsZero() {
		last.MayLet = new(text(may))
	}
	if last.Kept = nil; run.Priority != dispatch.Backlog { // which has no deadline
		if last.Kept, err = s.Endings.Tell(ctx, run.ID, last.LookedAt, &seen.Rest, last.Seen["deadline"] != world["deadline"]); err != nil {
			return err
		}
	}
	if err := note(db, last); err != nil {
		return err
	}
	s.Feed.Wake(events.Changes)
	change, err := latest(db, of)
	if err != nil {
		return err
	}
	short := seen.Due() || seen.MaySave() && replan.TimeToSave(before, last.LookedAt, last.left())
	if len(causes) > 0 || short && !change.rests(last.LookedAt, seen.Settles()) {
		now, err := s.replan(ctx, run, seen, why(causes, seen))
		if err != nil {
			return err
		}
		last.Chance, last.Finish = &now.Chance, known(now.Finish)
	}
	// What has happened is settled only now: a look that is cut off before finds it again.
	last.Seen = world
	return note(db, last)
}

// why says in words why a run is planned anew.
func why(causes []string, seen expected) string {
	if len(causes) == 0 && !seen.Due() {
		return fmt.Sprintf("it is ahead: %s to be in time, and %s %s still to be spent on servers, farms and seats", forecast.Percent(seen.present.Chance), seen.Problem.Currency, seen.present.Outside)
	}
	if len(causes) == 0 && seen.present.Chance >= seen.Wanted {
		causes = append(slow(seen.notes.Lately), "it falls behind: as things stand it is late unless something is done now")
	} else if len(causes) == 0 {
		behind := fmt.Sprintf("it falls behind: %s to be in time, where %s are asked for", forecast.Percent(seen.present.Chance), forecast.Percent(seen.Wanted))
		causes = append(slow(seen.notes.Lately), behind)
	}
	return strings.Join(causes, "; ")
}

// refused reports whether what was asked cannot be, rather than that it went wrong.
func refused(err error) bool {
	p := (*httpapi.Problem)(nil)
	return errors.As(err, &p) && p.Status < http.StatusInternalServerError
}

// expected is the schedule of a run's rest, and what is expected of it.
type expected struct {
	replan.Rest
	notes   problems.Notes
	present replan.Outlook
}

// expect says how the schedule stands that a run goes by.
func (s *Schedule) expect(ctx context.Context, run runs.Run) (out expected, err error) {
	if out, err = s.rest(ctx, run, nil); err == nil {
		out.present, err = out.Look(ctx)
	}
	return out, err
}

// rest is what is left of a run, and the schedule that it goes by, where other runs are planned
// together with it.
func (s *Schedule) rest(ctx context.Context, run runs.Run, with []uuid.UUID) (out expected, err error) {
	by, err := s.Runs.GoesBy(ctx, run)
	if err != nil {
		return out, err
	}
	ask, err := s.Plans.Asked(ctx, by)
	if err != nil {
		return out, err
	}
	ask.Run, ask.Shots, ask.Assume, ask.With = &run.ID, nil, nil, with
	if run.Deadline != nil {
		ask.By = *run.Deadline
	}
	out.Policy, out.AcceptProofs, out.Slack, out.Options.TimeLimit = run.Policy, run.AcceptProofs, ask.Slack, ask.TimeLimit
	out.Wanted = replan.Usual
	if ask.Confidence > 0 {
		out.Wanted = ask.Confidence
	}
	if out.Problem, out.notes, out.Plan, err = s.Problems.Present(ctx, ask); err != nil {
		return out, err
	}
	out.Deadlines = out.notes.Deadlines
	if out.Spare, err = s.Sources.Spare(ctx, run.ID); err != nil {
		return out, err
	}
	if out.Planned, err = s.Plans.CostOf(ctx, *run.PlanID); err != nil {
		return out, err
	}
	out.Uncertainty, _, err = s.Plans.Uncertainty.Of(ctx, out.Problem, out.notes)
	return out, err
}

func silent(int, int, string) {}

// carryOut stores the next plan with the record of the change, and lets the run go by it if
// that is the verdict.
func (s *Schedule) carryOut(ctx context.Context, run runs.Run, seen expected, next replan.Next, cause string) error {
	v, outlook := next.Verdict, next.Outlook
	record, err := s.planOf(ctx, seen, next)
	if err != nil {
		return err
	}
	if err := s.Plans.Keep(ctx, record); err != nil {
		return err
	}
	left := 0
	for _, x := range seen.Problem.Shots {
		left += x.Frames
	}
	c := Change{
		ID: uuid.New(), RunID: run.ID, At: s.Clock.Now(), State: Proposed, Cause: cause, Gain: v.Gain, DecidedBy: "Rotanex", PlanID: record.ID,
		ChanceBefore: seen.present.Chance, ChanceAfter: outlook.Chance, FinishBefore: known(seen.present.Finish), FinishAfter: known(outlook.Finish),
		CostBefore: text(seen.present.Cost), CostAfter: text(outlook.Cost), More: text(v.More), Moved: replan.Moved(seen.Plan, next.Plan), Moves: replan.Moves(seen.Plan, next.Plan), Frames: left, Before: Earlier{seen.Problem.Start, seen.Plan},
	}
	if v.Act == replan.Propose {
		return s.tell(ctx, run.ID, c)
	}
	c.State = Made
	err = s.Runs.ChangeOver(ctx, run.ID, c.PlanID, "", func(tx *gorm.DB) error {
		return errors.Join(supersede(tx, run.ID), add(tx, c))
	})
	if refused(err) {
		s.Log.Warn("schedule", "run", run.ID, "not changed", err)
		return nil // the run has gone on meanwhile: the next look sees how it stands
	}
	return err
}

// tell stores a proposal in the place of those that were made before.
func (s *Schedule) tell(ctx context.Context, run uuid.UUID, c Change) error {
	err := s.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		return errors.Join(supersede(tx, run), add(tx, c), s.Feed.Write(tx, events.Event{Kind: events.Run, Run: run.String(), State: string(Proposed), Cause: c.Gain}))
	})
	s.Feed.Wake(events.Changes)
	return err
}

func known(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func text(m pricing.Money) string { return m.String() }
