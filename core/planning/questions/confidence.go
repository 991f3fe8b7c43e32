package questions

import (
	"context"
	"fmt"
	"slices"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
)

// Progress is told how far a question is answered: done of all parts, and what is being
// done now. It may be called from several goroutines at once.
type Progress func(done, all int, doing string)

func (say Progress) tell(done, all int, doing string) {
	if say != nil {
		say(done, all, doing)
	}
}

// WithSlack returns the problem with the share (0 to 1) of the time to each deadline kept
// spare.
func WithSlack(p planning.Problem, share float64) planning.Problem {
	p.Shots = slices.Clone(p.Shots)
	for i := range p.Shots {
		s := &p.Shots[i]
		s.Deadline -= planning.Millis(share * float64(s.Deadline-s.Ready))
	}
	return p
}

// Wanted is how sure a plan is to be.
type Wanted struct {
	Chance      float64 // to meet every deadline, 0 to 1
	Contingency float64 // that may be spent beyond the plan on servers that are let on the way
}

// Confident is a plan made with the slack that it takes to be as sure as was asked.
type Confident struct {
	Problem planning.Problem // with the slack taken from its deadlines
	Plan    planning.Plan
	Slack   float64
	Chance  float64 // to meet every deadline as it was before the slack, by the forecast

	expected float64 // what it costs in the mean, with what is let on the way
}

// Simulations that Confidently holds each plan against, at most.
const confidentSimulations = 500

// even is by how much a chance that is not enough has to be above another to be worth more
// slack, and what that costs: chances of so many simulations differ by less by luck.
const even = 0.03

// slacks are tried in turn until one is enough; then the gap to the one before is halved.
var slacks = []float64{0, 0.04, 0.08, 0.15, 0.25, 0.4}

// Missed is what a missed deadline is taken to cost where money can be spent on the way: four times what the run
// was to cost, or twice what may be spent, whichever is more. No more is spent for a chance than it is worth by that.
func Missed(planned, mayLet float64) float64 { return max(4*planned, 2*mayLet) }

// surer reports whether a plan is clearly surer than another, and that is worth what it costs more where a
// missed deadline is taken to cost so much; 0: it is.
func (c Confident) surer(other Confident, missed float64) bool {
	by := c.Chance - other.Chance
	return by > even && (missed == 0 || c.expected-other.expected <= missed*by)
}

// Confidently plans with as little slack as it takes for the forecast to meet every deadline with the chance
// that is wanted. Where no slack does, it returns the plan with the most chance, and of those about as sure the
// one with the least slack. With a contingency, servers are let as late as they can, and a plan that is not sure
// enough is no dearer than its chance is worth. Where no plan books anything, it returns the one without slack.
func Confidently(ctx context.Context, p planning.Problem, u forecast.Uncertainty, wanted Wanted, o planning.Options, say Progress) (Confident, error) {
	deadlines := map[string]planning.Millis{}
	for _, s := range p.Shots {
		deadlines[s.ID] = s.Deadline
	}
	const steps = 12 // about as many as it takes
	best, tried, missed := Confident{Problem: p, Chance: -1}, 0, 0.0
	try := func(slack float64) (bool, error) {
		say.tell(tried, steps, fmt.Sprintf("planning with %.0f %% of the time kept spare", 100*slack))
		tried = min(tried+1, steps-1)
		one := Confident{Problem: WithSlack(p, slack), Slack: slack}
		var err error
		if one.Plan, err = planning.Solve(ctx, one.Problem, o); err != nil {
			return false, err
		}
		if wanted.Contingency > 0 {
			one.Plan = planning.Defer(one.Problem, one.Plan)
		}
		if len(one.Plan.Bookings) > 0 {
			f, err := forecast.Simulate(ctx, one.Problem, one.Plan, u, deadlines, forecast.Options{Simulations: confidentSimulations, Seed: 1, Clear: confidentSimulations / 5, Against: wanted.Chance, MayLet: wanted.Contingency})
			if err != nil {
				return false, err
			}
			one.Chance, one.expected = f.Chance, f.MeanCost
		}
		if tried == 1 && wanted.Contingency > 0 {
			missed = Missed(one.Plan.Cost.Float(), wanted.Contingency)
		}
		enough, had := one.Chance >= wanted.Chance, best.Chance >= wanted.Chance
		if best.Plan.Status == "" || !had && (enough || one.surer(best, missed)) || enough && had && slack < best.Slack {
			best = one
		}
		return enough, nil
	}
	low, high := 0.0, -1.0
	for _, slack := range slacks {
		enough, err := try(slack)
		if err != nil {
			return best, err
		}
		if enough {
			high = slack
			break
		}
		low = slack
	}
	for high > 0 && high-low > 0.01 {
		middle := (low + high) / 2
		enough, err := try(middle)
		if err != nil {
			return best, err
		}
		if enough {
			high = middle
		} else {
			low = middle
		}
	}
	return best, nil
}
