package accounts

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"

	"github.com/google/uuid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// readHired reads the extra seats that a run has hired, paid until it ends, or until now.
func (a *Accounts) readHired(ctx context.Context, s *Account) error {
	until := s.overAt()
	var err error
	s.hired, err = store.Rows(a.store.WithContext(ctx).Raw("SELECT pool, from_at, seats, price::text, days FROM hired_seats WHERE run_id = $1 ORDER BY from_at, pool", s.ID), func(row store.Row) (ledger.Hired, error) {
		h := ledger.Hired{Until: until}
		var price string
		err := row.Scan(&h.Pool, &h.From, &h.Seats, &price, &h.Days)
		if err == nil {
			h.From = h.From.UTC()
			h.Price, err = pricing.ParseMoney(price)
		}
		return h, err
	})
	return err
}

// CarriedBy reads a plan and those that the run changed over to later; run is uuid.Nil where
// nobody carries it out yet. The plan of a trial is nil, which is refused. What it returns is not to be changed: as plans do not
// change once they are stored, those that were read last are kept.
func (a *Accounts) CarriedBy(ctx context.Context, id *uuid.UUID, run uuid.UUID) (Carried, error) {
	if id == nil {
		return Carried{}, httpapi.Conflict("a trial has no plan")
	}
	later, err := store.Column[uuid.UUID](a.store.WithContext(ctx).Raw("SELECT plan_id FROM run_plans WHERE run_id = $1 ORDER BY id", run))
	if err != nil {
		return Carried{}, err
	}
	key := fmt.Sprint(*id, later)
	if kept, ok := a.plans.Get(key); ok {
		return kept, nil
	}
	p, err := a.readPlan(ctx, *id)
	if err == nil {
		err = a.addLaterPlans(ctx, later, &p)
	}
	if err == nil {
		a.plans.Add(key, p)
	}
	return p, err
}

func (a *Accounts) readPlan(ctx context.Context, id uuid.UUID) (p Carried, err error) {
	var problem, plan json.RawMessage
	err = a.store.WithContext(ctx).Raw("SELECT problem, plan, currency, coalesce(notes->'farm_crews', '{}'), coalesce(notes->'seat_days', '{}'), coalesce(notes->'deadlines', '{}'), coalesce(notes->'kept', '[]'), coalesce(notes->'in_hand', '{}'), coalesce(notes->'basis', '{}') FROM plans WHERE id = $1", id).Row().
		Scan(&problem, &plan, &p.Currency, store.JSON(&p.FarmCrews), store.JSON(&p.SeatDays), store.JSON(&p.Deadlines), store.JSON(&p.Kept), store.JSON(&p.InHand), store.JSON(&p.Basis))
	if err != nil {
		return p, err
	}
	if p.Problem, err = planning.ParseProblem(bytes.NewReader(problem)); err != nil {
		return p, err
	}
	p.Plan, err = planning.ParsePlan(bytes.NewReader(plan))
	return p, err
}

// addLaterPlans adds the plans that a run changed over to: their servers, what these
// cost, and the finish of the last. Their times count from their own start.
func (a *Accounts) addLaterPlans(ctx context.Context, later []uuid.UUID, p *Carried) error {
	for i, id := range later {
		n := i + 1
		x, err := a.readPlan(ctx, id)
		if err != nil {
			return err
		}
		problem, plan := x.Problem, x.Plan
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

// readMoney reads what the ledger of a run rests on.
func (a *Accounts) readMoney(ctx context.Context, s *Account) error {
	var err error
	if s.Tally, err = a.tallies.Of(ctx, s.ID); err != nil {
		return err
	}
	s.Work = s.worked()
	if s.charges, err = a.readCharges(ctx, "run_id = $1", s.ID); err != nil {
		return err
	}
	if err := a.readHired(ctx, s); err != nil {
		return err
	}
	type proofs struct {
		job    uuid.UUID
		frames []int
	}
	all, err := store.Rows(a.store.WithContext(ctx).Raw("SELECT id, to_json(proofs) FROM farm_jobs WHERE run_id = $1", s.ID), func(row store.Row) (p proofs, err error) {
		return p, row.Scan(&p.job, store.JSON(&p.frames))
	})
	s.proofs = map[uuid.UUID][]int{}
	for _, p := range all {
		s.proofs[p.job] = p.frames
	}
	return err
}

func (a *Accounts) readCharges(ctx context.Context, which string, args ...any) ([]charge, error) {
	return store.Rows(a.store.WithContext(ctx).Raw("SELECT source, place, unit, at, metered_s, amount::text, cost::text, factor FROM charges WHERE "+which+" ORDER BY id", args...), func(row store.Row) (c charge, err error) {
		var amount, cost, factor string
		if err = row.Scan(&c.Source, &c.Place, &c.Unit, &c.At, &c.Metered, &amount, &cost, &factor); err != nil {
			return c, err
		}
		if c.Amount, err = pricing.ParseMoney(amount); err != nil {
			return c, err
		}
		var ok bool
		if c.Factor, ok = new(big.Rat).SetString(factor); !ok {
			return c, fmt.Errorf("stored factor %q of %s", factor, c.Place)
		}
		c.Cost = c.Amount.Scaled(c.Factor) // exact; what is stored is to twelve decimals
		return c, nil
	})
}
