package schedule

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/service/plans"
	"rotanex.example/service/problems"
	"rotanex.example/service/runs"
	"rotanex.example/service/states"
)

// mostTogether is how many open runs are planned together with a new one at most; what the
// others have booked stays as it is.
const mostTogether = 8

// mates are the open runs that may be planned together with what is asked for: none that is
// more urgent, and none whose policy is to be left alone or asked about.
func (s *Schedule) mates(ctx context.Context, ask *problems.Ask) ([]runs.Run, error) {
	if ask == nil || ask.Run != nil || ask.KeepOthers || ask.Goal == planning.Fastest || ask.Budget != "" || len(ask.Assume) > 0 || ask.Backlog() {
		return nil, nil // it is for itself
	}
	priority, err := dispatch.ParsePriority(ask.Priority)
	if err != nil {
		return nil, err
	}
	running, err := s.Runs.Running(ctx)
	var out []runs.Run
	for _, run := range running {
		if run.Policy == replan.Auto && run.Priority > dispatch.Backlog && run.Priority <= priority && run.PlanID != nil && len(out) < mostTogether {
			out = append(out, run)
		}
	}
	return out, err
}

// joint is runs that are planned together, the one that is to begin first.
type joint struct {
	rests  []replan.Rest // what the problem is for each
	notes  []problems.Notes
	runs   []runs.Run // from the second on
	stands []replan.Standing
	parts  []replan.Next // as they are planned
}

// together plans what a run that is to begin was planned for alone once more, together with
// the open runs, where that is worth it: it returns its plan, and theirs.
func (s *Schedule) together(ctx context.Context, alone plans.Solved, notes problems.Notes, say questions.Progress) (plans.Solved, []plans.Plan, error) {
	mates, err := s.mates(ctx, notes.Ask)
	if err != nil || len(mates) == 0 || len(alone.Plan.Bookings) == 0 && alone.Plan.Status != planning.Impossible {
		return alone, nil, err
	}
	say(0, 0, "planning it together with what is open")
	j, bound, err := s.gather(ctx, alone, notes, mates)
	if err != nil || j == nil {
		return alone, nil, err
	}
	gain, err := j.plan(ctx, s.Currency)
	if err != nil || gain == "" {
		return alone, nil, err
	}
	return s.records(ctx, j, gain, bound)
}

// gather reads what is to be planned together, and how it stands apart; nil: nothing of the
// open runs waits, or nothing can be gained. The bound is what the new run costs at least, were
// all free for it.
func (s *Schedule) gather(ctx context.Context, alone plans.Solved, notes problems.Notes, mates []runs.Run) (j *joint, bound pricing.Money, err error) {
	j = &joint{}
	ask := *notes.Ask
	for _, run := range mates {
		ask.With = append(ask.With, run.ID)
	}
	first := replan.Rest{Wanted: replan.Usual, Slack: ask.Slack, Contingency: ask.MayLet()}
	if ask.Confidence > 0 {
		first.Wanted = ask.Confidence
	}
	var its problems.Notes
	if first.Problem, its, err = s.Problems.Build(ctx, ask); err != nil {
		return nil, bound, err
	}
	first.Deadlines = its.Deadlines
	if first.Uncertainty, _, err = s.Plans.Uncertainty.Of(ctx, first.Problem, its); err != nil {
		return nil, bound, err
	}
	free, err := planning.Solve(ctx, first.Problem, planning.Options{})
	if err != nil {
		return nil, bound, err
	}
	apart, err := first.Of(ctx, alone.Problem, alone.Plan, 0)
	if err != nil || !replan.MayGain(apart.Outlook, first.Wanted, free.CostBound) {
		return nil, bound, err
	}
	j.add(first, its, replan.Standing{Apart: apart.Outlook, Wanted: first.Wanted})
	priority, _ := dispatch.ParsePriority(ask.Priority)
	for _, run := range mates {
		present, err := s.expect(ctx, run)
		if refused(err) {
			continue // nothing of it waits
		}
		if err != nil {
			return nil, bound, err
		}
		seen, err := s.rest(ctx, run, ask.With)
		if err != nil {
			return nil, bound, err
		}
		j.runs = append(j.runs, run)
		j.add(seen.Rest, seen.notes, replan.Standing{Apart: present.present, Wanted: present.Wanted, LessUrgent: run.Priority < priority, Spare: present.Spare})
	}
	if len(j.runs) == 0 {
		return nil, bound, nil
	}
	return j, free.CostBound, nil
}

func (j *joint) add(rest replan.Rest, notes problems.Notes, stands replan.Standing) {
	j.rests, j.notes, j.stands = append(j.rests, rest), append(j.notes, notes), append(j.stands, stands)
}

// plan plans all of them as one problem, with ever more to spare until each is as sure as it
// should be, and says what that is better in; "" where it is not worth it.
func (j *joint) plan(ctx context.Context, currency string) (gain string, err error) {
	for _, spare := range replan.Spares {
		parts := make([]replan.Part, len(j.rests))
		slacks := make([]float64, len(j.rests))
		for i, r := range j.rests {
			slacks[i] = max(spare, r.Slack)
			parts[i] = replan.Part{Problem: questions.WithSlack(r.Problem, slacks[i]), Plan: r.Plan, Priority: j.priority(i)}
		}
		all := replan.Together(parts)
		plan, err := planning.Solve(ctx, all, planning.Options{})
		if err = errors.Join(err, ctx.Err()); err != nil || plan.Status == planning.Impossible {
			return "", err
		}
		j.parts = j.parts[:0]
		sure := true
		for i, one := range replan.Apart(parts, all, plan) {
			next, err := j.rests[i].Of(ctx, parts[i].Problem, one, slacks[i])
			if err != nil {
				return "", err
			}
			j.parts, j.stands[i].Together = append(j.parts, next), next.Outlook
			sure = sure && next.Outlook.Chance >= j.stands[i].Wanted
		}
		if gain = replan.Gain(j.stands, all.Start, currency); sure || plan.Status != planning.Meets {
			break
		}
	}
	return gain, nil
}

// priority is whose deadline comes first: that of the one that is to begin, or of a run.
func (j *joint) priority(i int) int {
	if i > 0 {
		return int(j.runs[i-1].Priority)
	}
	priority, _ := dispatch.ParsePriority(j.notes[0].Ask.Priority) // it was read before
	return int(priority)
}

// records makes the records of what was planned together.
func (s *Schedule) records(ctx context.Context, j *joint, gain string, bound pricing.Money) (plans.Solved, []plans.Plan, error) {
	var others []plans.Plan
	notes := j.notes[0]
	notes.Gain = gain
	for i, run := range j.runs {
		next, rest := j.parts[i+1], j.rests[i+1]
		record, err := s.planOf(ctx, expected{Rest: rest, notes: j.notes[i+1]}, next)
		if err != nil {
			return plans.Solved{}, nil, err
		}
		record.RunID = &run.ID
		others = append(others, record)
		notes.Together = append(notes.Together, problems.Together{
			Run: run.ID, Plan: record.ID, Chance: next.Outlook.Chance, Finish: next.Outlook.Finish, Cost: text(next.Outlook.Cost), Moved: replan.Moved(rest.Plan, next.Plan),
		})
	}
	notes.Slack = j.parts[0].Slack
	first := plans.Solved{Problem: j.parts[0].Problem, Plan: j.parts[0].Plan}
	if first.Plan.CostBound = bound; bound.Cmp(first.Plan.Cost) > 0 {
		first.Plan.CostBound = first.Plan.Cost
	}
	return first, others, s.Plans.Record(ctx, &first, notes, j.rests[0].Uncertainty, 0, silent)
}

// joined lets the runs that were planned together with one that has begun go by what they were
// planned to do beside it. A run that has gone on otherwise meanwhile stays as it is, and is
// looked at as ever.
func (s *Schedule) joined(ctx context.Context, run runs.Run) error {
	if run.PlanID == nil {
		return nil
	}
	notes, err := s.Plans.NotesOf(ctx, *run.PlanID)
	for _, x := range notes.Together {
		failed := s.join(ctx, run, x, notes.Gain)
		if refused(failed) {
			s.Log.Warn("schedule", "run", x.Run, "not planned together with", run.ID, "as", failed)
			continue
		}
		err = errors.Join(err, failed)
	}
	return err
}

func (s *Schedule) join(ctx context.Context, begun runs.Run, x problems.Together, gain string) error {
	run, err := s.Runs.Find(ctx, x.Run)
	if err != nil || run.State != states.RunRunning || run.Policy != replan.Auto {
		return err // a person has taken it in hand
	}
	seen, err := s.expect(ctx, run)
	if err != nil {
		return err
	}
	_, plan, err := s.Plans.Opened(ctx, x.Plan)
	if err != nil {
		return err
	}
	left := 0
	for _, shot := range seen.Problem.Shots {
		left += shot.Frames
	}
	c := Change{
		ID: uuid.New(), RunID: run.ID, At: s.Clock.Now(), State: Made, DecidedBy: "Rotanex", PlanID: x.Plan,
		Cause: fmt.Sprintf("run %s began, and was planned together with it", begun.ID.String()[:8]), Gain: "run " + begun.ID.String()[:8] + ": " + gain,
		ChanceBefore: seen.present.Chance, ChanceAfter: x.Chance, FinishBefore: known(seen.present.Finish), FinishAfter: known(x.Finish),
		CostBefore: text(seen.present.Cost), CostAfter: x.Cost, More: text(pricing.Money{}), Moved: replan.Moved(seen.Plan, plan), Moves: replan.Moves(seen.Plan, plan), Frames: left, Before: Earlier{seen.Problem.Start, seen.Plan},
	}
	return s.Runs.ChangeOver(ctx, run.ID, x.Plan, "", func(tx *gorm.DB) error {
		return errors.Join(supersede(tx, run.ID), add(tx, c))
	})
}
