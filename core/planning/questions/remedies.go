package questions

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Remedy is one change of the problem, by itself, after which it can be met.
type Remedy struct {
	Change string          `json:"change"`
	Cost   pricing.Money   `json:"cost"` // of the cheapest plan found then
	Finish planning.Millis `json:"finish_s"`
	// Deadline is set where the change is a later deadline: by how much.
	Deadline planning.Millis `json:"deadline_s,omitempty"`
}

// Remedies tries single changes of a problem that could not be met, and returns
// those that fix it, the cheapest first; a later deadline, which costs nothing
// but time, comes after the others. It fails when ctx ends.
func Remedies(ctx context.Context, p planning.Problem, plan planning.Plan, say Progress) ([]Remedy, error) {
	if plan.Status == planning.Meets {
		return nil, nil
	}
	trials := changesToTry(p, plan)
	found := make([]*Remedy, len(trials))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(4)
	var done atomic.Int32
	for i, x := range trials {
		group.Go(func() error {
			defer func() { say.tell(int(done.Add(1)), len(trials), "trying "+x.change) }()
			next, err := planning.Solve(ctx, x.p, planning.Options{Effort: 0.15})
			if err == nil && next.Status == planning.Meets {
				found[i] = &Remedy{Change: x.change, Cost: next.Cost, Finish: next.Finish}
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var out []Remedy
	for _, x := range found {
		if x != nil {
			out = append(out, *x)
		}
	}
	slices.SortStableFunc(out, func(a, b Remedy) int { return cmp.Or(a.Cost.Cmp(b.Cost), cmp.Compare(a.Finish, b.Finish)) })
	switch plan.Status {
	case planning.Late:
		by := plan.Lateness(p)
		out = append(out, Remedy{
			Change: fmt.Sprintf("the deadlines %s later", lasting(by+999)),
			Cost:   plan.Cost, Finish: plan.Finish, Deadline: by,
		})
	case planning.OverBudget:
		out = append(out, Remedy{Change: fmt.Sprintf("a budget of %s %s", p.Currency, plan.Cost), Cost: plan.Cost, Finish: plan.Finish})
	}
	return out, nil
}

func lastDeadline(p planning.Problem) (last planning.Millis) {
	for _, s := range p.Shots {
		last = max(last, s.Deadline)
	}
	return last
}

// attempt is a problem with one change.
type attempt struct {
	change string
	p      planning.Problem
}

// changesToTry lists the single changes that may fix a plan: a server or a seat more, a host
// that is free all the time, and where nothing can be rendered, more host memory.
func changesToTry(p planning.Problem, plan planning.Plan) []attempt {
	var trials []attempt
	for i, o := range p.Offers {
		q := p
		q.Offers = slices.Clone(p.Offers)
		q.Offers[i].MaxServers++
		trials = append(trials, attempt{fmt.Sprintf("one more server of %s than the %d there may be", o.ID, o.MaxServers), q})
	}
	for i, l := range p.Licences {
		q := p
		q.Licences = slices.Clone(p.Licences)
		q.Licences[i].Seats++
		trials = append(trials, attempt{fmt.Sprintf("one more seat of %s", l.ID), q})
	}
	for i, h := range p.Hosts {
		if len(h.Hours()) == 1 && h.Hours()[0][0] <= 0 && h.Hours()[0][1] >= lastDeadline(p) {
			continue
		}
		q := p
		q.Hosts = slices.Clone(p.Hosts)
		q.Hosts[i].Windows, q.Hosts[i].Open = [][2]planning.Millis{{0, max(lastDeadline(p), plan.Finish)}}, nil
		trials = append(trials, attempt{fmt.Sprintf("%s free all the time", h.ID), q})
	}
	for i, h := range p.Hosts {
		if plan.Status != planning.Impossible || h.RAM == nil {
			continue
		}
		q := p
		q.Hosts = slices.Clone(p.Hosts)
		double := *h.RAM * 2
		q.Hosts[i].RAM = &double
		trials = append(trials, attempt{fmt.Sprintf("twice the host memory in %s", h.ID), q})
	}
	return trials
}
