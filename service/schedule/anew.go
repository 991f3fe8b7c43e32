package schedule

import (
	"context"
	"math"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/replan"
	"rotanex.example/service/plans"
	"rotanex.example/service/problems"
	"rotanex.example/service/runs"
)

// candidate is a schedule that may take the place of the one that a run goes by.
type candidate struct {
	plans.Solved
	outlook replan.Outlook
	verdict replan.Verdict
}

// replan plans the rest of a run anew, and changes over to that, or proposes it, where that
// is worth it. Before what takes a person is proposed, money beyond the cap or proof frames
// that somebody has to look at, the best without is done.
func (s *Schedule) replan(ctx context.Context, run runs.Run, seen expected, cause string) error {
	if run.Policy == replan.Auto {
		made, err := s.byItself(ctx, run, seen, cause)
		if err != nil {
			return err
		}
		// What is proposed has to be for the schedule that the run goes by now.
		if made {
			if seen, err = s.expect(ctx, run); refused(err) {
				return nil
			} else if err != nil {
				return err
			}
		}
		if !replan.Due(seen.present, seen.wanted) {
			return nil
		}
	}
	next, err := s.better(ctx, run, seen, seen.problem)
	if err != nil || next.verdict.Act == replan.Keep {
		return err
	}
	if run.Policy == replan.Auto && next.verdict.Act == replan.Change {
		if run.AcceptProofs || !replan.NewFarms(seen.plan, next.Plan) {
			return nil // it takes nobody: were it worth it, it would have been done
		}
		next.verdict.Act = replan.Propose
		next.verdict.Gain += ", once somebody has accepted the proof frames"
	}
	return s.carryOut(ctx, run, seen, next, cause)
}

// byItself changes a run over to the best schedule that takes nobody, and reports whether
// there was a better one.
func (s *Schedule) byItself(ctx context.Context, run runs.Run, seen expected, cause string) (bool, error) {
	free := seen.problem
	if !run.AcceptProofs {
		free = replan.WithoutNewFarms(free, seen.plan)
	}
	next, err := s.better(ctx, run, seen, free)
	if err == nil && next.verdict.Act == replan.Propose {
		next, err = s.better(ctx, run, seen, replan.WithinOwn(free))
	}
	if err != nil || next.verdict.Act != replan.Change {
		return false, err
	}
	return true, s.carryOut(ctx, run, seen, next, cause)
}

// better plans a problem of a run's rest, and says whether that is better than the schedule
// that it has.
func (s *Schedule) better(ctx context.Context, run runs.Run, seen expected, problem planning.Problem) (candidate, error) {
	spare, err := s.Sources.Spare(ctx, run.ID)
	if err != nil {
		return candidate{}, err
	}
	began := s.Clock.WallNow()
	best, err := s.plan(ctx, seen, problem)
	if err != nil {
		return best, err
	}
	best.verdict = replan.Decide(run.Policy, seen.present, best.outlook, replan.Limits{Now: problem.Start, Wanted: seen.wanted, Spare: spare, Currency: s.Currency})
	s.Log.Info("planned anew", "run", run.ID, "took", s.Clock.WallNow().Sub(began), "chance", seen.present.Chance, "next", best.outlook.Chance,
		"plan", best.Plan.Status, "moved", replan.Moved(seen.plan, best.Plan), "gain", best.verdict.Gain, "act", best.verdict.Act)
	return best, nil
}

// spares are the parts of the time that a new plan keeps spare, tried in turn until one is
// sure enough: a few rather than the least that would do, as looking for that takes ten times
// as long, and what is found is planned anew as soon as it proves too little.
var spares = []float64{0.03, 0.1, 0.2}

// plan makes a schedule as sure as was asked for, or else as sure as it can be. One that is
// not sure enough is repaired first, so that no more is moved than it takes; only where
// that does not do, or money may be saved, everything is planned anew.
func (s *Schedule) plan(ctx context.Context, seen expected, problem planning.Problem) (best candidate, err error) {
	found := false
	try := func(by func(context.Context, planning.Problem, problems.Notes, expected) (plans.Solved, bool, error)) error {
		for _, spare := range spares {
			asked, notes := *seen.notes.Ask, seen.notes
			quick := asked
			quick.Confidence, quick.Slack = 0, max(asked.Slack, spare)
			notes.Ask, notes.Slack = &quick, quick.Slack
			next, done, err := by(ctx, problem, notes, seen)
			if err != nil || !done {
				return err
			}
			next.Record.Notes.Ask = &asked
			if !found || surer(next.Forecast, best.Forecast) {
				best, found = candidate{Solved: next}, true
			}
			// One that is late is as early as it can be: with more to spare it would be the same.
			if next.Plan.Status != planning.Meets || best.Forecast.Chance >= seen.wanted {
				return nil
			}
		}
		return nil
	}
	if replan.Due(seen.present, seen.wanted) {
		err = try(s.repaired)
	}
	if err == nil && (!found || best.Forecast.Chance < seen.wanted) {
		err = try(s.solved)
	}
	best.outlook = replan.Outlook{
		Chance: best.Forecast.Chance, Finish: middle(best.Problem, best.Forecast), Cost: best.Plan.Cost, Outside: planning.Outside(best.Problem, best.Plan),
	}
	return best, err
}

// luck is by how much the chances of two schedules differ that are as sure as each other.
const luck = 0.02

// surer reports whether a schedule is surer than one that was found before, and moves less or
// keeps less time spare; of two that are as surely late, the one that ends earlier is.
func surer(next, before forecast.Forecast) bool {
	if by := next.Chance - before.Chance; math.Abs(by) > luck {
		return by > 0
	}
	ends := func(f forecast.Forecast) float64 {
		if f.Finish.P50 < 0 {
			return math.Inf(1)
		}
		return f.Finish.P50
	}
	return next.Chance <= luck && ends(next) < ends(before)
}

// repaired is the schedule that the run has, changed as little as it takes; false where that
// does not do.
func (s *Schedule) repaired(ctx context.Context, problem planning.Problem, notes problems.Notes, seen expected) (out plans.Solved, ok bool, err error) {
	out.Problem = questions.WithSlack(problem, notes.Slack)
	if out.Plan, ok = planning.Repair(out.Problem, seen.plan); !ok {
		return out, false, nil
	}
	return out, true, s.Plans.Record(ctx, &out, notes, seen.doubts, plans.Outlooks, silent)
}

// solved is the cheapest schedule.
func (s *Schedule) solved(ctx context.Context, problem planning.Problem, notes problems.Notes, seen expected) (plans.Solved, bool, error) {
	out, err := s.Plans.Solve(ctx, problem, notes, seen.doubts, plans.Outlooks, silent)
	return out, true, err
}
