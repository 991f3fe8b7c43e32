package accounts

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Carried is the plan that a run carries out, with those that it changed over to.
type Carried struct {
	Problem   planning.Problem
	Plan      planning.Plan
	Currency  string
	FarmCrews map[string]string          // of each shot and farm, what renders on a node
	SeatDays  map[string]int             // for how many days extra seats of each pool are hired
	Deadlines map[string]planning.Millis // the real ones, where the problem's keep time spare
	Kept      []KeptFrames               // frames that are done already
}

// KeptFrames is frames of a shot that another run has done.
type KeptFrames struct {
	Shot   string    `json:"shot"`
	Run    uuid.UUID `json:"run"`
	Frames string    `json:"frames"`
}

// CarriedBy reads a plan and those that the run changed over to later; run is uuid.Nil where
// nobody carries it out yet. The plan of a trial is nil, which is refused.
func (a *Accounts) CarriedBy(ctx context.Context, id *uuid.UUID, run uuid.UUID) (Carried, error) {
	var p Carried
	if id == nil {
		return p, httpapi.Conflict("a trial has no plan")
	}
	var problem, plan json.RawMessage
	err := a.store.WithContext(ctx).Raw("SELECT problem, plan, currency, coalesce(notes->'farm_crews', '{}'), coalesce(notes->'seat_days', '{}'), coalesce(notes->'deadlines', '{}'), coalesce(notes->'kept', '[]') FROM plans WHERE id = $1", *id).Row().
		Scan(&problem, &plan, &p.Currency, store.JSON(&p.FarmCrews), store.JSON(&p.SeatDays), store.JSON(&p.Deadlines), store.JSON(&p.Kept))
	if err != nil {
		return p, err
	}
	if p.Problem, err = planning.ParseProblem(bytes.NewReader(problem)); err != nil {
		return p, err
	}
	if p.Plan, err = planning.ParsePlan(bytes.NewReader(plan)); err != nil {
		return p, err
	}
	return p, a.addLaterPlans(ctx, run, &p)
}

// addLaterPlans adds the plans that a run changed over to: their servers, what these
// cost, and the finish of the last. Their times count from their own start.
func (a *Accounts) addLaterPlans(ctx context.Context, run uuid.UUID, p *Carried) error {
	files, err := store.Rows(a.store.WithContext(ctx).Raw("SELECT p.Problem, p.Plan FROM run_plans x JOIN plans p ON p.id = x.plan_id WHERE x.run_id = $1 ORDER BY x.id", run),
		func(row store.Row) (f [2]json.RawMessage, err error) { return f, row.Scan(&f[0], &f[1]) })
	if err != nil {
		return err
	}
	for i, file := range files {
		n := i + 1
		problem, err := planning.ParseProblem(bytes.NewReader(file[0]))
		if err != nil {
			return err
		}
		plan, err := planning.ParsePlan(bytes.NewReader(file[1]))
		if err != nil {
			return err
		}
		later := planning.MillisOf(problem.Start.Sub(p.Problem.Start))
		for _, v := range plan.Servers {
			p.Plan.Servers = append(p.Plan.Servers, planning.Server{ID: LaterServer(v.ID, n), Offer: v.Offer, From: v.From + later, To: v.To + later})
		}
		p.Plan.Finish = plan.Finish + later
		for _, o := range problem.Offers {
			if !slices.ContainsFunc(p.Problem.Offers, func(x planning.Offer) bool { return x.ID == o.ID }) {
				p.Problem.Offers = append(p.Problem.Offers, o)
			}
		}
		for _, f := range problem.Farms {
			if !slices.ContainsFunc(p.Problem.Farms, func(x planning.Farm) bool { return x.ID == f.ID }) {
				p.Problem.Farms = append(p.Problem.Farms, f)
			}
		}
		for _, h := range problem.Hosts {
			if !slices.ContainsFunc(p.Problem.Hosts, func(x planning.Host) bool { return x.ID == h.ID }) {
				p.Problem.Hosts = append(p.Problem.Hosts, h)
			}
		}
	}
	return nil
}

// At turns a time of the plan into one of the clock.
func (p Carried) At(m planning.Millis) time.Time { return p.Problem.Start.Add(m.Duration()) }

// BusyPrice is what an hour of an owned crew costs while it renders.
func (s Carried) BusyPrice(host, crew string) pricing.Money {
	for _, h := range s.Problem.Hosts {
		for _, c := range h.Crews {
			if h.ID == host && c.ID == crew {
				return c.BusyPrice
			}
		}
	}
	return pricing.Money{}
}

// Offer is an offer of the plan by its name; empty where it has none of that name.
func (s Carried) Offer(id string) planning.Offer {
	i := slices.IndexFunc(s.Problem.Offers, func(o planning.Offer) bool { return o.ID == id })
	if i < 0 {
		return planning.Offer{}
	}
	return s.Problem.Offers[i]
}

// Meter is how an offer of the plan is billed.
func (s Carried) Meter(offer string) pricing.Meter { return s.Offer(offer).Meter() }

// SourceOf is the source of an offer of the plan.
func (s Carried) SourceOf(offer string) string { return s.Offer(offer).Source }

func (s Carried) farm(id string) planning.Farm {
	i := slices.IndexFunc(s.Problem.Farms, func(f planning.Farm) bool { return f.ID == id })
	if i < 0 {
		return planning.Farm{}
	}
	return s.Problem.Farms[i]
}

// LaterServer names a server of the n-th plan that a run changed over to: the same
// name may have been used by the plans before.
func LaterServer(id string, n int) string { return fmt.Sprintf("%s~%d", id, n+1) }
