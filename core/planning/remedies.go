package planning

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"rotanex.example/core/pricing"
)

// Shortage is what kept a problem from being met.
type Shortage struct {
	Shot   string `json:"shot,omitempty"`
	Frames int    `json:"frames,omitempty"` // that found no room in time
	Text   string `json:"text"`
}

// Remedy is one change of the problem, by itself, after which it can be met.
type Remedy struct {
	Change string        `json:"change"`
	Cost   pricing.Money `json:"cost"` // of the cheapest plan found then
	Finish Millis        `json:"finish_s"`
	// Deadline is set where the change is a later deadline: by how much.
	Deadline Millis `json:"deadline_s,omitempty"`
}

// Shortages says what is short where a plan is late or impossible: frames of which
// shots find no room, and of what there is too little.
func Shortages(p Problem, plan Plan) []Shortage {
	var out []Shortage
	if plan.Status == Impossible {
		for _, lost := range plan.Impossible {
			out = append(out, Shortage{Shot: lost.Shot, Text: lost.Shot + ": " + lost.Why})
		}
		return out
	}
	if plan.Status == OverBudget {
		text := fmt.Sprintf("money: the cheapest plan found costs %s %s, the budget is %s %s", p.Currency, plan.Cost, p.Currency, p.Budget)
		return append(out, Shortage{Text: text})
	}
	if plan.Status != Late {
		return nil
	}
	due := make([]Millis, len(p.Shots))
	for i, s := range p.Shots {
		due[i] = s.Deadline
	}
	m := newModel(p, due)
	s := newSearch(context.Background(), m, &effort{200_000_000})
	l := newLayout(m, s.work)
	for i, x := range p.Licences {
		l.seats[i] += x.ExtraSeats
	}
	l.fill(s.order)
	for i, n := range l.missing {
		if n == 0 {
			continue
		}
		shot := p.Shots[i]
		text := fmt.Sprintf("%d of the %d frames of %s find no room before its deadline", n, shot.Frames, shot.ID)
		switch {
		case len(m.places[i]) == 0:
			text += ": no place can finish a single frame of it in time"
		case shot.Licence != "" && len(m.seatGrid[m.licence[i]]) > 0 && len(l.taken(m.licence[i])) > 0:
			text += fmt.Sprintf("; all seats of %s are held part of the time", shot.Licence)
		default:
			text += fmt.Sprintf("; that can render it: %s, full", counted(len(m.places[i]), "place"))
		}
		out = append(out, Shortage{shot.ID, n, text})
	}
	return out
}

// Remedies tries single changes of a problem that could not be met, and returns
// those that fix it, the cheapest first; a later deadline, which costs nothing
// but time, comes after the others.
func Remedies(ctx context.Context, p Problem, plan Plan) ([]Remedy, error) {
	if plan.Status == Meets {
		return nil, nil
	}
	type trial struct {
		change string
		p      Problem
	}
	var trials []trial
	for i, o := range p.Offers {
		q := p
		q.Offers = slices.Clone(p.Offers)
		q.Offers[i].MaxServers++
		trials = append(trials, trial{fmt.Sprintf("one more server of %s than the %d there may be", o.ID, o.MaxServers), q})
	}
	for i, l := range p.Licences {
		q := p
		q.Licences = slices.Clone(p.Licences)
		q.Licences[i].Seats++
		trials = append(trials, trial{fmt.Sprintf("one more seat of %s", l.ID), q})
	}
	for i, h := range p.Hosts {
		if len(h.Windows) == 1 && h.Windows[0][0] <= 0 && h.Windows[0][1] >= lastDeadline(p) {
			continue
		}
		q := p
		q.Hosts = slices.Clone(p.Hosts)
		q.Hosts[i].Windows = [][2]Millis{{0, max(lastDeadline(p), plan.Finish)}}
		trials = append(trials, trial{fmt.Sprintf("%s free all the time", h.ID), q})
	}
	for i, h := range p.Hosts {
		if plan.Status != Impossible || h.RAM == nil {
			continue
		}
		q := p
		q.Hosts = slices.Clone(p.Hosts)
		double := *h.RAM * 2
		q.Hosts[i].RAM = &double
		trials = append(trials, trial{fmt.Sprintf("twice the host memory in %s", h.ID), q})
	}
	found := make([]*Remedy, len(trials))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(4)
	for i, x := range trials {
		group.Go(func() error {
			next, err := Solve(ctx, x.p, Options{Effort: 0.15})
			if err == nil && next.Status == Meets {
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
	case Late:
		by := plan.lateness(p)
		out = append(out, Remedy{
			Change: fmt.Sprintf("the deadlines %s later", lasting(by+999)),
			Cost:   plan.Cost, Finish: plan.Finish, Deadline: by,
		})
	case OverBudget:
		out = append(out, Remedy{Change: fmt.Sprintf("a budget of %s %s", p.Currency, plan.Cost), Cost: plan.Cost, Finish: plan.Finish})
	}
	return out, nil
}

func lastDeadline(p Problem) (last Millis) {
	for _, s := range p.Shots {
		last = max(last, s.Deadline)
	}
	return last
}
