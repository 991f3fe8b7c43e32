package replan

import (
	"context"
	"errors"
	"maps"
	"math"
	"slices"
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
	Uncertainty  forecast.Uncertainty
	Slack        float64       // that was asked for, the share of the time to each deadline
	Wanted       float64       // chance to be in time
	Contingency  pricing.Money // of a run that is to begin: see forecast.Options.MayLet
	Policy       Policy
	Spare        *pricing.Money   // see Limits
	AcceptProofs bool             // proof frames of farms need nobody
	Planned      pricing.Money    // what the run was to cost when it began; 0: it is not known
	Options      planning.Options // of the solver

	present  Outlook
	expected forecast.Forecast
	asks     bool // a person decides what it is worth
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

// clearly is how many simulations say enough where all of them, or none, are in time: the
// chance is within three points then, 95 times in a hundred.
const clearly = 100

// Look says what is expected of the schedule that the run has, for all that follows.
func (r *Rest) Look(ctx context.Context) (Outlook, error) {
	r.present = Outlook{Cost: r.Plan.Cost, Outside: planning.Outside(r.Problem, r.Plan), Margin: planning.Margin(r.Problem, r.Plan)}
	f, err := r.simulate(ctx, r.Problem, r.Plan, r.Wanted-short)
	if errors.Is(err, forecast.ErrNothing) {
		return r.present, nil // it never ends
	}
	r.present.Chance, r.present.Behind, r.present.Finish, r.present.Expected, r.expected = f.Chance, f.Behind, middle(r.Problem, f), f.MeanCost, f
	return r.present, err
}

// Expected is the forecast that Look made; empty where nothing is booked.
func (r *Rest) Expected() forecast.Forecast { return r.expected }

// simulate stops early where the chance is clearly above or below another.
func (r *Rest) simulate(ctx context.Context, problem planning.Problem, plan planning.Plan, against float64) (forecast.Forecast, error) {
	return forecast.Simulate(ctx, problem, plan, r.Uncertainty, r.due(), forecast.Options{Seed: 1, Simulations: Outlooks, Clear: clearly, Against: against, MayLet: r.mayLet(problem, plan).Float()})
}

// mayLet is what may be spent on the way beyond a plan: as far as nobody has to be asked.
func (r *Rest) mayLet(problem planning.Problem, plan planning.Plan) pricing.Money {
	if r.Policy != Auto || r.Spare == nil {
		return r.Contingency
	}
	return r.Spare.Minus(planning.AtMost(problem, plan)).Max(pricing.Money{})
}

// MayLet is what may be spent on the way beyond the schedule that the run has.
func (r *Rest) MayLet() pricing.Money { return r.mayLet(r.Problem, r.Plan) }

// due are the real deadlines, by shot, whatever a new schedule keeps spare.
func (r *Rest) due() map[string]planning.Millis {
	out := map[string]planning.Millis{}
	for _, s := range r.Problem.Shots {
		out[s.ID] = s.Deadline
	}
	maps.Copy(out, r.Deadlines)
	return out
}

// DueS are the same in seconds from now, as forecast.Forecast.KeptBy takes them.
func (r *Rest) DueS() map[string]float64 {
	out := map[string]float64{}
	for id, due := range r.due() {
		out[id] = due.Duration().Seconds()
	}
	return out
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

// MaySave reports whether a run that is as sure as was asked for may do without what is still to
// be bought for it, as far as that is worth a change.
func (r *Rest) MaySave() bool {
	return enough(r.present, r.Wanted) && worth(r.present.Cost, r.present.Cost.Minus(r.present.Outside))
}

// Where nothing has happened, it is tried to save money so often, or at this part of the time left.
const (
	SaveEvery = 30 * time.Minute
	savePart  = 20
)

// TimeToSave reports whether it is tried to save money at a look, by when the last one was and
// how long the run is expected to take still: every half-hour, or twice, four times as long where
// that is a small part of it.
func TimeToSave(last, now time.Time, left time.Duration) bool {
	every := SaveEvery
	for every < left/savePart {
		every *= 2
	}
	return !now.Truncate(every).Equal(last.Truncate(every))
}

// Times for which a schedule is left alone after a change, where nothing happens.
const (
	settlesLeast = 10 * time.Minute
	settlesMost  = 2 * time.Hour
	settlesPart  = 20 // of the time left
)

// Settles is for how long the schedule is left alone after a change, where nothing happens: the
// longer the more time is left, unless something has to be done now. Look was called before.
func (r *Rest) Settles() time.Duration {
	if r.present.Behind > behind || r.present.Finish.IsZero() {
		return settlesLeast
	}
	return min(max(settlesLeast, r.present.Finish.Sub(r.Problem.Start)/settlesPart), settlesMost)
}

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
	r.asks = true
	defer func() { r.asks = false }()
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
	next.Verdict = Decide(r.Policy, r.present, next.Outlook, r.limits())
	return next, nil
}

// limits are what a schedule is held against that is changed over to by itself; where a person is asked, any
// chance is worth its price.
func (r *Rest) limits() Limits {
	l := Limits{Now: r.Problem.Start, Wanted: r.Wanted, Spare: r.Spare, Currency: r.Problem.Currency}
	if r.Policy == Auto && !r.asks && !r.Planned.IsZero() {
		l.Missed = questions.Missed(r.Planned.Float(), r.MayLet().Float())
	}
	return l
}

// Spares are the parts of the time that a new plan keeps spare, tried in turn until one is
// sure enough: a few rather than the least that would do, as looking for that takes ten times
// as long, and what is found is planned anew as soon as it proves too little.
var Spares = []float64{0.05, 0.1, 0.15, 0.2}

// plan makes a schedule as sure as was asked for, or else as sure as it can be. One that is
// not sure enough is repaired first, so that no more is moved than it takes; where that does
// not do, or it buys what may be had for less, everything is planned anew, and what that
// would let is let for the schedule that there is, if that costs little more.
func (r *Rest) plan(ctx context.Context, problem planning.Problem) (Next, error) {
	repaired, found := Next{}, false
	if r.Due() {
		var err error
		repaired, found, err = r.sure(ctx, problem, 0, func(p planning.Problem) (planning.Plan, bool, error) {
			plan, ok := planning.Repair(p, r.Plan)
			return plan, ok, ctx.Err()
		})
		if err != nil || found && enough(repaired.Outlook, r.Wanted) && repaired.Outlook.Outside.Cmp(r.present.Outside) <= 0 {
			return repaired, err
		}
	}
	least := 0.0
	if found && enough(repaired.Outlook, r.Wanted) {
		least = repaired.Slack // a plan from scratch will need as much to spare
	}
	solved, _, err := r.sure(ctx, problem, least, func(p planning.Problem) (planning.Plan, bool, error) {
		o := r.Options
		o.From, o.Effort = &r.Plan, fromLast
		plan, err := planning.Solve(ctx, p, o)
		return plan, true, errors.Join(err, ctx.Err())
	})
	if err != nil {
		return solved, err
	}
	best := solved
	if plan, ok := planning.Repair(solved.Problem, letting(r.Plan, solved.Plan)); ok {
		eased := Next{Slack: solved.Slack, Problem: solved.Problem, Plan: r.deferred(solved.Problem, plan)}
		if err := r.expect(ctx, &eased, r.Problem); err != nil {
			return solved, err
		}
		if !r.rather(solved, eased) {
			best = eased
		}
	}
	if found && !r.rather(best, repaired) {
		best = repaired
	}
	return best, nil
}

// letting is a schedule with the servers of another in the place of its own: what it had on
// one of its own is on one of the same offer, as far as there is one.
func letting(had, other planning.Plan) planning.Plan {
	now, left := map[string]string{}, slices.Clone(other.Servers)
	for _, v := range had.Servers {
		if i := slices.IndexFunc(left, func(x planning.Server) bool { return x.Offer == v.Offer }); i >= 0 {
			now[v.ID] = left[i].ID
			left = slices.Delete(left, i, i+1)
		}
	}
	out := had
	out.Servers, out.ExtraSeats, out.Bookings = other.Servers, other.ExtraSeats, nil
	for _, b := range had.Bookings {
		if id, there := now[b.Server]; b.Server == "" || there {
			b.Server = id
			out.Bookings = append(out.Bookings, b)
		}
	}
	return out
}

// sure makes a schedule with ever more to spare, from the least on, until it is sure enough;
// false where that cannot be made.
func (r *Rest) sure(ctx context.Context, problem planning.Problem, least float64, by func(planning.Problem) (planning.Plan, bool, error)) (best Next, found bool, err error) {
	for _, spare := range Spares {
		next := Next{Slack: max(r.Slack, spare)}
		if next.Slack < least {
			continue
		}
		next.Problem = questions.WithSlack(problem, next.Slack)
		var done bool
		if next.Plan, done, err = by(next.Problem); err != nil || !done {
			return best, found, err
		}
		next.Plan = r.deferred(next.Problem, next.Plan)
		if err = r.expect(ctx, &next, r.Problem); err != nil {
			return best, found, err
		}
		if !found || r.surer(next, best) {
			best, found = next, true
		}
		// One that is late is as early as it can be: with more to spare it would be the same.
		if next.Plan.Status != planning.Meets || enough(best.Outlook, r.Wanted) {
			break
		}
	}
	return best, found, nil
}

// deferred is a plan for this rest as it is carried out: where it is planned anew by itself, nothing
// is let before it has to be. Of what is behind that is now.
func (r *Rest) deferred(problem planning.Problem, plan planning.Plan) planning.Plan {
	if (r.Policy == Auto || !r.Contingency.IsZero()) && r.present.Behind <= behind {
		return planning.Defer(problem, plan)
	}
	return plan
}

// Of is what is expected of a plan for a problem of the same shots as this rest's, that keeps so much of the
// time spare. It may have been made before the rest's was, when other hosts were there.
func (r *Rest) Of(ctx context.Context, problem planning.Problem, plan planning.Plan, slack float64) (Next, error) {
	next := Next{Problem: problem, Plan: r.deferred(problem, plan), Slack: slack}
	return next, r.expect(ctx, &next, problem)
}

// expect says what is expected of a schedule, on all that there is for it: what is planned within a part of
// that, such as without servers, is simulated with the whole, as they may be let on the way still.
func (r *Rest) expect(ctx context.Context, of *Next, on planning.Problem) (err error) {
	if of.Forecast, err = r.simulate(ctx, on, of.Plan, r.Wanted); errors.Is(err, forecast.ErrNothing) {
		err = nil
	}
	of.Outlook = Outlook{
		Chance: of.Forecast.Chance, Behind: of.Forecast.Behind, Finish: middle(of.Problem, of.Forecast), Cost: of.Plan.Cost, Outside: planning.Outside(of.Problem, of.Plan), Margin: planning.Margin(of.Problem, of.Plan),
		Expected: of.Forecast.MeanCost,
	}
	return err
}

// fromLast is which part of the work it takes to plan anew from a schedule that is good mostly.
const fromLast = 0.3

// rather reports whether a schedule is taken rather than one that moves less: it is surer,
// as long as that is not sure enough, or it saves money that is worth it.
func (r *Rest) rather(next, less Next) bool {
	if !enough(less.Outlook, r.Wanted) {
		return r.surer(next, less)
	}
	return enough(next.Outlook, r.Wanted) && worth(less.Outlook.Cost, next.Outlook.Cost)
}

// luck is by how much the chances of two schedules differ that are as sure as each other.
const luck = 0.02

// surer reports whether a schedule is surer than one that was found before, and moves less or
// keeps less time spare, and its chance is worth what it costs more; of two that are as surely late,
// the one that ends earlier is.
func (r *Rest) surer(next, before Next) bool {
	if !r.limits().pays(before.Outlook, next.Outlook) {
		return false
	}
	if is := enough(next.Outlook, r.Wanted); is != enough(before.Outlook, r.Wanted) {
		return is
	}
	if by := next.Forecast.Chance - before.Forecast.Chance; math.Abs(by) > luck {
		return by > 0
	}
	ends := func(f forecast.Forecast) float64 {
		if f.Finish.P50 < 0 {
			return math.Inf(1)
		}
		return f.Finish.P50
	}
	return next.Forecast.Chance <= luck && ends(next.Forecast) < ends(before.Forecast)
}
