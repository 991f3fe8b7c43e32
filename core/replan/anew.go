package replan

import (
	"context"
	"errors"
	"math"
	"time"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
)

// Rest is what is left of a run, the schedule that it has, and how far it may be planned
// anew.
type Rest struct {
	Problem      planning.Problem
	Deadlines    map[string]planning.Millis // the real ones, where the problem's keep time spare
	Plan         planning.Plan              // that it has: see Present
	Doubts       forecast.Uncertainty
	Slack        float64 // that was asked for, the share of the time to each deadline
	Wanted       float64 // chance to be in time
	Policy       Policy
	Spare        *pricing.Money   // see Limits
	AcceptProofs bool             // proof frames of farms need nobody
	Options      planning.Options // of the solver

	present Outlook
}

// Next is a schedule that may take the place of the one that a run has.
type Next struct {
	Problem  planning.Problem // with what it keeps spare taken from its deadlines
	Plan     planning.Plan
	Slack    float64
	Forecast forecast.Forecast
	Outlook  Outlook
	Verdict  Verdict
}

// Outlooks is how many simulations an outlook has: a chance is within five points then, nine
// times in ten.
const Outlooks = 300

// Look says what is expected of the schedule that the run has, for all that follows.
func (r *Rest) Look(ctx context.Context) (Outlook, error) {
	r.present = Outlook{Cost: r.Plan.Cost, Outside: planning.Outside(r.Problem, r.Plan)}
	f, err := r.simulate(ctx, r.Problem, r.Plan)
	if errors.Is(err, forecast.ErrNothing) {
		return r.present, nil // it never ends
	}
	r.present.Chance, r.present.Finish = f.Chance, middle(r.Problem, f)
	return r.present, err
}

func (r *Rest) simulate(ctx context.Context, problem planning.Problem, plan planning.Plan) (forecast.Forecast, error) {
	return forecast.Simulate(ctx, problem, plan, r.Doubts, r.Deadlines, forecast.Options{Seed: 1, Simulations: min(Outlooks, forecast.Enough(problem))})
}

// middle is when a schedule ends in the middle of what was simulated; zero: never.
func middle(p planning.Problem, f forecast.Forecast) time.Time {
	if f.Simulations == 0 || f.Never*2 >= f.Simulations {
		return time.Time{}
	}
	return p.Start.Add(time.Duration(f.Finish.P50 * float64(time.Second)))
}

// Due reports whether the schedule falls short of what was asked for.
func (r *Rest) Due() bool { return Due(r.present, r.Wanted) }

// ByItself is the best schedule that takes nobody: neither money beyond the cap nor proof
// frames that somebody has to look at. It is to be changed over to if that is its verdict.
// Look was called before.
func (r *Rest) ByItself(ctx context.Context) (Next, error) {
	free := r.Problem
	if !r.AcceptProofs {
		free = WithoutNewFarms(free, r.Plan)
	}
	next, err := r.better(ctx, free)
	if err == nil && next.Verdict.Act == Propose {
		next, err = r.better(ctx, WithinOwn(free))
	}
	return next, err
}

// ForPerson is the best schedule of all, to be proposed if that is its verdict. It never
// changes over by itself: under Auto, what takes nobody is ByItself's.
func (r *Rest) ForPerson(ctx context.Context) (Next, error) {
	next, err := r.better(ctx, r.Problem)
	if err != nil || next.Verdict.Act != Change {
		return next, err
	}
	if r.AcceptProofs || !NewFarms(r.Plan, next.Plan) {
		next.Verdict = Verdict{} // it takes nobody: were it worth it, it would have been done
		return next, nil
	}
	next.Verdict.Act = Propose
	next.Verdict.Gain += ", once somebody has accepted the proof frames"
	return next, nil
}

// better plans a problem of the rest, and says whether that is better than the schedule that
// the run has.
func (r *Rest) better(ctx context.Context, problem planning.Problem) (Next, error) {
	next, err := r.plan(ctx, problem)
	if err != nil {
		return next, err
	}
	next.Verdict = Decide(r.Policy, r.present, next.Outlook, Limits{Now: problem.Start, Wanted: r.Wanted, Spare: r.Spare, Currency: problem.Currency})
	return next, nil
}

// spares are the parts of the time that a new plan keeps spare, tried in turn until one is
// sure enough: a few rather than the least that would do, as looking for that takes ten times
// as long, and what is found is planned anew as soon as it proves too little.
var spares = []float64{0.03, 0.1, 0.2}

// plan makes a schedule as sure as was asked for, or else as sure as it can be. One that is
// not sure enough is repaired first, so that no more is moved than it takes; only where
// that does not do, or money may be saved, everything is planned anew.
func (r *Rest) plan(ctx context.Context, problem planning.Problem) (best Next, err error) {
	found := false
	try := func(by func(planning.Problem) (planning.Plan, bool, error)) error {
		for _, spare := range spares {
			next := Next{Slack: max(r.Slack, spare)}
			next.Problem = questions.WithSlack(problem, next.Slack)
			var done bool
			if next.Plan, done, err = by(next.Problem); err != nil || !done {
				return err
			}
			if next.Forecast, err = r.simulate(ctx, next.Problem, next.Plan); err != nil && !errors.Is(err, forecast.ErrNothing) {
				return err
			}
			if !found || surer(next.Forecast, best.Forecast) {
				best, found = next, true
			}
			// One that is late is as early as it can be: with more to spare it would be the same.
			if next.Plan.Status != planning.Meets || best.Forecast.Chance >= r.Wanted {
				return nil
			}
		}
		return nil
	}
	if r.Due() {
		err = try(func(p planning.Problem) (planning.Plan, bool, error) {
			plan, ok := planning.Repair(p, r.Plan)
			return plan, ok, ctx.Err()
		})
	}
	if err == nil && (!found || best.Forecast.Chance < r.Wanted) {
		err = try(func(p planning.Problem) (planning.Plan, bool, error) {
			plan, err := planning.Solve(ctx, p, r.Options)
			return plan, true, errors.Join(err, ctx.Err())
		})
	}
	best.Outlook = Outlook{
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
