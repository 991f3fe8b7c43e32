package problems

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/replan"
	"rotanex.example/service/accounts"
	"rotanex.example/service/httpapi"
)

// rest is what of a run is still to be planned: frames that wait, hosts that render
// until a time, and servers that are paid for.
type rest struct {
	priority dispatch.Priority // of the run
	waiting  map[string]int
	busy     map[string]time.Time // see replan.BusyUntil
	hand     []replan.InHand
	servers  []replan.Paid
	excluded map[string]string // by BasisKey: crews that get no more of a shot, and why
}

// rest reads what is left of a run.
func (p *Problems) rest(ctx context.Context, run uuid.UUID) (*rest, error) {
	out := &rest{}
	state, kind, priority, err := p.runKind(ctx, run)
	if err != nil {
		return nil, httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", run))
	}
	out.priority = priority
	if kind != "run" || !state.Open() {
		return nil, httpapi.Conflict(fmt.Sprintf("run %s is %s: there is nothing left of it to plan", run, state))
	}
	if out.waiting, err = p.waitingOf(ctx, run); err != nil {
		return nil, err
	}
	if len(out.waiting) == 0 {
		return nil, httpapi.Conflict(fmt.Sprintf("no frame of run %s waits any more: what is left is being rendered", run))
	}
	if out.hand, err = p.leasedOf(ctx, run); err != nil {
		return nil, err
	}
	now := p.Clock.Now()
	out.busy = replan.BusyUntil(out.hand, now)
	if out.excluded, err = p.excludedIn(ctx, run); err != nil {
		return nil, err
	}
	out.servers, err = p.paidServers(ctx, run, now)
	return out, err
}

// addHeld notes what farms have in hand of the run, and when that is due.
func (b *builder) addHeld(ctx context.Context, ask Ask) error {
	due := map[string]planning.Millis{}
	for _, f := range b.rest.hand {
		if _, known := due[f.Shot]; f.Nodes == 0 || known {
			continue
		}
		shot, err := b.Shots.Find(ctx, f.Shot)
		if err != nil {
			return err
		}
		due[f.Shot] = max(0, b.millis(b.due(ask, shot)))
	}
	b.notes.Held = replan.HeldByFarms(b.rest.hand, func(shot string) planning.Millis { return due[shot] })
	return nil
}

// addPaidServers adds the run's servers that are up as hosts.
func (b *builder) addPaidServers() {
	added := replan.AddPaid(&b.problem, b.rest.servers, b.rest.busy)
	offers := planning.ByID(b.problem.Offers, func(o planning.Offer) string { return o.ID })
	for _, v := range added {
		if until, ok := b.rest.busy[v.Host]; ok {
			b.notes.InHand[v.Host] = b.millis(until)
		}
		b.notes.Sources[v.Host] = offers[v.Offer].Source
		for _, t := range b.problem.Timings {
			if t.Host == v.Host {
				b.notes.Basis[accounts.BasisKey(t.Shot, v.Host, t.Crew)] = b.notes.Basis[accounts.BasisKey(t.Shot, v.Offer, t.Crew)]
			}
		}
	}
}

// shots are those of the shots asked for of which a frame waits; where none are asked for,
// all of the run.
func (r *rest) shots(ask Ask) []string {
	var out []string
	if len(ask.Shots) == 0 {
		return slices.Sorted(maps.Keys(r.waiting))
	}
	for _, s := range ask.Shots {
		if r.waiting[s] > 0 {
			out = append(out, s)
		}
	}
	return out
}
