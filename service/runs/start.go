package runs

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/frames"
	"rotanex.example/core/planning"
	"rotanex.example/core/replan"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/planned"
	"rotanex.example/service/queue"
	"rotanex.example/service/shots"
)

// defaultTries is how often a frame may fail before it is given up.
const defaultTries = dispatch.DefaultTries

// Wanted is how a person wants a plan to be carried out.
type Wanted struct {
	Plan         uuid.UUID
	Tries        int    // of a frame, before it is given up; 0: the usual
	Spend        string // money that servers, farms and seats may cost at most; "": nothing
	Policy       string // see replan.Policy; "": the service's
	AcceptProofs bool   // farms' proof frames need nobody who accepts them
	Request      []byte
}

// Start carries out a plan. Of a run that stands already under its id nothing changes.
func (q *Runs) Start(ctx context.Context, all *shots.Shots, id uuid.UUID, want Wanted) error {
	tries := want.Tries
	if tries == 0 {
		tries = defaultTries
	}
	run := Run{ID: id, Kind: KindRun, PlanID: &want.Plan, Request: want.Request, Tries: tries, CreatedAt: q.clock.Now(), AcceptProofs: want.AcceptProofs}
	p, err := q.planOf(ctx, run.PlanID, run.ID)
	if err != nil {
		return httpapi.NotFound(fmt.Sprintf("there is no plan %s; rotanex plans list shows them", want.Plan))
	}
	if p.Plan.Status == planning.Impossible {
		return httpapi.Conflict("the plan is impossible: it has no bookings to carry out")
	}
	only, err := suits(q.store.WithContext(ctx), id, want.Plan)
	switch {
	case err != nil:
		return err
	case only.Assumes:
		return httpapi.Conflict("the plan assumes what is not so: it cannot be carried out")
	case only.OfRun != nil:
		return httpapi.Conflict("the plan is for the rest of a run: rotanex replan RUN --apply carries it out there")
	}
	if run.Priority, err = dispatch.ParsePriority(only.Priority); err != nil {
		return err
	}
	if run.Policy, err = replan.ParsePolicy(want.Policy, q.policy); err != nil {
		return httpapi.BadField("/policy", want.Policy, err.Error())
	}
	if run.Cap, err = p.Spend(want.Spend); err != nil {
		return err
	}
	b := Beginning{Run: run, Booked: p.All(id, want.Plan, run.CreatedAt)}
	if err := q.addShots(ctx, all, &b, p); err != nil {
		return err
	}
	return q.Begin(ctx, b)
}

// addShots adds the plan's shots to a run, each with its frames: those that are planned
// wait, those that are done already are taken over.
func (q *Runs) addShots(ctx context.Context, all *shots.Shots, b *Beginning, p planned.Plan) error {
	wanted, order := map[string]int{}, []string{}
	want := func(name string, n int) {
		if _, known := wanted[name]; !known {
			order = append(order, name)
		}
		wanted[name] += n
	}
	for _, s := range p.Problem.Shots {
		want(s.ID, s.Frames)
	}
	done := map[string]frames.Set{}
	for _, k := range p.Kept {
		set, err := frames.Parse(k.Frames)
		if err != nil {
			return err
		}
		want(k.Shot, set.Len())
		done[k.Shot] = done[k.Shot].Plus(set)
		b.Kept = append(b.Kept, Kept{k.Run, k.Shot, set})
	}
	for _, name := range order {
		shot, err := all.Find(ctx, name)
		if err != nil {
			return err
		}
		if shot.FrameCount != wanted[name] {
			return httpapi.Conflict(fmt.Sprintf("shot %s has %d frames now and had %d when it was planned: plan again", name, shot.FrameCount, wanted[name]))
		}
		row := Shot{RunID: b.Run.ID, Shot: name, Spec: shot.Spec}
		if row.Package, err = q.packageOf(ctx, name); err != nil {
			return err
		}
		b.Shots = append(b.Shots, row)
		b.Frames = append(b.Frames, queue.Asked{Shot: name, Frames: shot.Frames().Minus(done[name])})
	}
	return nil
}

func (q *Runs) planOf(ctx context.Context, plan *uuid.UUID, run uuid.UUID) (planned.Plan, error) {
	p, err := q.accounts.CarriedBy(ctx, plan, run)
	return planned.Plan{Carried: p}, err
}
