package plans

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/service/computations"
	"rotanex.example/service/httpapi"
)

// curvePoints is how many points a curve has at most.
const curvePoints = 12

const balancedBy = "the point furthest below the straight line from the fastest to the cheapest"

// ofPlan is a question about a plan.
type ofPlan struct {
	Plan uuid.UUID `json:"plan"`
	// Alone is an owned host, of a curve: what would all of it take there?
	Alone string `json:"alone,omitempty"`

	Simulations int    `json:"simulations,omitempty"` // of a forecast; 0: as many as its size allows
	Seed        uint64 `json:"seed,omitempty"`
}

// about makes the question of a kind about a plan. The same one has the same id.
func (q ofPlan) about(kind string) computations.Question {
	id := uuid.NewSHA1(q.Plan, fmt.Appendf(nil, "%s %s %d %d", kind, q.Alone, q.Simulations, q.Seed))
	return computations.Question{ID: id, Kind: kind, About: "plan " + q.Plan.String()[:8], Input: func(context.Context) (any, error) { return q, nil }}
}

// curveOwner returns the plan that the curve of a plan is kept with: of a point, the plan
// that it was drawn for.
func (p *Plans) curveOwner(ctx context.Context, id uuid.UUID) (Plan, error) {
	of, err := p.find(ctx, id)
	if err == nil && of.PartOf != nil {
		of, err = p.find(ctx, *of.PartOf)
	}
	if err == nil && of.Status == planning.Impossible {
		err = httpapi.Conflict("the plan is impossible: it has no trade-off")
	}
	return of, err
}

// alone is what it would take on one owned host.
type alone struct {
	Host string        `json:"host"`
	Plan planning.Plan `json:"plan"`
}

// draw answers the question of a curve by storing it and each of its points as a plan;
// its own answer is what it takes on the one host that was asked for.
func (p *Plans) draw(ctx context.Context, question []byte, say questions.Progress) (any, error) {
	var q ofPlan
	if err := json.Unmarshal(question, &q); err != nil {
		return nil, err
	}
	of, err := p.find(ctx, q.Plan)
	if err != nil {
		return nil, err
	}
	problem, plan, err := of.open()
	if err != nil {
		return nil, err
	}
	if of.Curve == nil {
		if err := p.drawAll(ctx, of, problem, plan, say); err != nil {
			return nil, err
		}
	}
	if q.Alone == "" {
		return alone{}, nil
	}
	by, err := questions.OnlyOn(ctx, problem, q.Alone)
	if err != nil || len(by.Bookings) == 0 {
		return nil, httpapi.BadField("alone", q.Alone, fmt.Sprintf("%s is no owned host that can render all of these shots", q.Alone))
	}
	return alone{q.Alone, by}, ctx.Err()
}

func (p *Plans) drawAll(ctx context.Context, of Plan, problem planning.Problem, plan planning.Plan, say questions.Progress) error {
	c, err := questions.Tradeoff(ctx, problem, curvePoints, plan, say)
	if err != nil {
		return err
	}
	kept := &drawn{Cheapest: c.Cheapest, Fastest: c.Fastest, Balanced: c.Balanced}
	var records []Plan
	for i, x := range c.Points {
		id := uuid.NewSHA1(of.ID, fmt.Appendf(nil, "curve %d", i))
		if x.Cost.Cmp(plan.Cost) == 0 && x.Finish == plan.Finish {
			id = of.ID
		} else {
			record, err := p.recordOf(problem, x, of.Notes)
			if err != nil {
				return err
			}
			record.ID, record.PartOf, record.RunID = id, &of.ID, of.RunID
			records = append(records, record)
		}
		kept.Points = append(kept.Points, point{id, x.Cost.String(), problem.Start.Add(x.Finish.Duration()), x.Status})
	}
	return errors.Join(ctx.Err(), p.keepCurve(ctx, of, kept, records))
}
