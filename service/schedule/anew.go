package schedule

import (
	"context"

	"rotanex.example/core/replan"
	"rotanex.example/service/plans"
	"rotanex.example/service/runs"
)

// replan plans the rest of a run anew, and changes over to that, or proposes it, where that
// is worth it. Before what takes a person is proposed, money beyond the cap or proof frames
// that somebody has to look at, the best without is done. It returns what is expected of the
// schedule that the run goes by then.
func (s *Schedule) replan(ctx context.Context, run runs.Run, seen expected, cause string) (replan.Outlook, error) {
	if run.Policy == replan.Auto {
		next, err := s.told(ctx, run, seen, seen.ByItself)
		if err != nil {
			return seen.present, err
		}
		if next.Verdict.Act == replan.Change {
			if err := s.carryOut(ctx, run, seen, next, cause); err != nil || next.Outlook.Chance >= seen.Wanted {
				return next.Outlook, err
			}
			// What is proposed has to be for the schedule that the run goes by now.
			if seen, err = s.expect(ctx, run); refused(err) {
				return next.Outlook, nil
			} else if err != nil {
				return next.Outlook, err
			}
		}
		if !seen.Due() {
			return seen.present, nil
		}
	}
	next, err := s.told(ctx, run, seen, seen.ForPerson)
	if err != nil || next.Verdict.Act == replan.Keep {
		return seen.present, err
	}
	return seen.present, s.carryOut(ctx, run, seen, next, cause)
}

// told plans anew, and writes what came of it to the log.
func (s *Schedule) told(ctx context.Context, run runs.Run, seen expected, by func(context.Context) (replan.Next, error)) (replan.Next, error) {
	began := s.Clock.WallNow()
	next, err := by(ctx)
	if err == nil {
		s.Log.Info("planned anew", "run", run.ID, "took", s.Clock.WallNow().Sub(began), "chance", seen.present.Chance, "next", next.Outlook.Chance,
			"plan", next.Plan.Status, "moved", replan.Moved(seen.Plan, next.Plan), "gain", next.Verdict.Gain, "act", next.Verdict.Act)
	}
	return next, err
}

// planOf makes the record of a schedule for the rest of a run.
func (s *Schedule) planOf(ctx context.Context, seen expected, next replan.Next) (plans.Plan, error) {
	notes := seen.notes
	notes.Slack = next.Slack
	if notes.Ask != nil { // what the chance reckons with is what its page simulates with
		ask := *notes.Ask
		ask.Contingency, notes.Ask = text(seen.MayLet()), &ask
	}
	solved := plans.Solved{Problem: next.Problem, Plan: next.Plan, Forecast: next.Forecast}
	err := s.Plans.Record(ctx, &solved, notes, seen.Uncertainty, replan.Outlooks, silent)
	return solved.Record, err
}
