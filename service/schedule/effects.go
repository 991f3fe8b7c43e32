package schedule

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/service/computations"
	"rotanex.example/service/problems"
	"rotanex.example/service/runs"
)

const (
	effectsKind = "effects"
	// fresh is how long it is good to know what a plan does to runs that go on.
	fresh = 2 * time.Minute
)

// effect is what carrying a plan out would do to an open run that is less urgent.
type effect struct {
	Run           uuid.UUID
	Shots         []string
	Priority      dispatch.Priority
	Policy        replan.Policy
	Deadline      time.Time // the last of its shots'
	Wanted        float64
	Before, After replan.Outlook
	Moved, Frames int  // of the frames that are left, those that would go to other crews
	Together      bool // it was planned together with the plan
}

// effectsOf is the question of what a plan does to open runs.
func effectsOf(plan uuid.UUID) computations.Question {
	return computations.Question{
		ID: uuid.NewSHA1(plan, []byte(effectsKind)), Kind: effectsKind, About: "plan " + plan.String()[:8], Valid: fresh,
		Input: func(context.Context) (any, error) { return plan, nil },
	}
}

// effects answers it: runs that are less urgent leave the hosts to the plan for as long as it
// has them, and are planned anew around it if their policy is to be. Runs that are as urgent
// stay as they are: the plan was made around them.
func (s *Schedule) effects(ctx context.Context, question []byte, say questions.Progress) (any, error) {
	var id uuid.UUID
	if err := json.Unmarshal(question, &id); err != nil {
		return nil, err
	}
	problem, plan, err := s.Plans.Opened(ctx, id)
	if err != nil {
		return nil, err
	}
	ask, err := s.Plans.Asked(ctx, id)
	if err != nil {
		return nil, err
	}
	priority, err := dispatch.ParsePriority(ask.Priority)
	if err != nil || ask.KeepOthers {
		return []effect{}, err // it goes around them all
	}
	until := map[string]time.Time{}
	for _, b := range plan.Bookings {
		if end := problem.Start.Add(b.End.Duration()); b.Host != "" && end.After(until[b.Host]) {
			until[b.Host] = end
		}
	}
	notes, err := s.Plans.NotesOf(ctx, id)
	if err != nil {
		return nil, err
	}
	running, err := s.Runs.Running(ctx)
	out := []effect{}
	for i, run := range running {
		say(i, len(running), "looking at what it does to run "+run.ID.String()[:8])
		at := slices.IndexFunc(notes.Together, func(x problems.Together) bool { return x.Run == run.ID })
		if at < 0 && run.Priority >= priority || ask.Run != nil && *ask.Run == run.ID {
			continue
		}
		var e effect
		var failed error
		if at >= 0 {
			e, failed = s.beside(ctx, run, notes.Together[at])
		} else {
			e, failed = s.effect(ctx, run, until)
		}
		if refused(failed) {
			continue // nothing of it waits
		}
		if err = errors.Join(err, failed); e.Frames > 0 {
			out = append(out, e)
		}
	}
	return out, err
}

// untouched is how a run stands as things are.
func (s *Schedule) untouched(ctx context.Context, run runs.Run) (out effect, seen expected, err error) {
	if seen, err = s.expect(ctx, run); err != nil {
		return out, seen, err
	}
	out = effect{Run: run.ID, Priority: run.Priority, Policy: run.Policy, Wanted: seen.Wanted, Before: seen.present, Deadline: seen.Problem.Start}
	for _, x := range seen.Problem.Shots {
		out.Shots, out.Frames = append(out.Shots, x.ID), out.Frames+x.Frames
		if due := seen.Problem.Start.Add(seen.notes.Deadline(x).Duration()); due.After(out.Deadline) {
			out.Deadline = due
		}
	}
	return out, seen, nil
}

// beside is what becomes of a run that was planned together with the plan.
func (s *Schedule) beside(ctx context.Context, run runs.Run, as problems.Together) (effect, error) {
	out, _, err := s.untouched(ctx, run)
	if err != nil {
		return out, err
	}
	cost, err := pricing.ParseMoney(as.Cost)
	out.After, out.Moved, out.Together = replan.Outlook{Chance: as.Chance, Finish: as.Finish, Cost: cost}, as.Moved, true
	return out, err
}

// effect is what becomes of a run that leaves hosts to another one until then.
func (s *Schedule) effect(ctx context.Context, run runs.Run, until map[string]time.Time) (effect, error) {
	out, seen, err := s.untouched(ctx, run)
	if err != nil {
		return out, err
	}
	rest := seen.Leaving(until)
	if out.After, err = rest.Look(ctx); err != nil || run.Policy != replan.Auto {
		return out, err
	}
	next, err := rest.ByItself(ctx)
	if err == nil && next.Verdict.Act == replan.Change {
		out.After, out.Moved = next.Outlook, replan.Moved(rest.Plan, next.Plan)
	}
	return out, err
}
