package plans

import (
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/planning"
	"rotanex.example/service/httpapi"
)

// drawn is a trade-off curve as it is kept with the plan that it was drawn for.
type drawn struct {
	Points   []point `json:"points"`
	Cheapest int     `json:"cheapest"`
	Fastest  int     `json:"fastest"`
	Balanced int     `json:"balanced"`
}

type point struct {
	Plan   uuid.UUID `json:"plan"`
	Cost   string    `json:"cost"`
	Finish time.Time `json:"finish"`
	Status string    `json:"status"`
}

// curvePoints is how many points a curve has at most.
const curvePoints = 12

const balancedBy = "the point furthest below the straight line from the fastest to the cheapest"

// Curve draws the trade-off curve of a plan's problem, once, and keeps each of its
// points as a plan.
func (p *Plans) Curve(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.DrawCurveParams) {
	out, err := p.curve(r, id, params.Alone)
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (p *Plans) curve(r *http.Request, id uuid.UUID, alone *string) (api.Curve, error) {
	of, err := p.find(r.Context(), id)
	if err != nil {
		return api.Curve{}, err
	}
	if of.PartOf != nil { // a point of a curve has that curve
		if of, err = p.find(r.Context(), *of.PartOf); err != nil {
			return api.Curve{}, err
		}
	}
	problem, plan, err := of.open()
	if err != nil {
		return api.Curve{}, err
	}
	if plan.Status == planning.Impossible {
		return api.Curve{}, httpapi.Conflict("the plan is impossible: it has no trade-off")
	}
	if of.Curve == nil {
		if of.Curve, err = p.draw(r, of, problem, plan); err != nil {
			return api.Curve{}, err
		}
	}
	out := api.Curve{Currency: of.Currency, Rule: balancedBy, Points: nil}
	for i, x := range of.Curve.Points {
		row := api.CurvePoint{Cost: x.Cost, Finish: x.Finish, Plan: x.Plan, Status: api.PlanStatus(x.Status)}
		switch i {
		case of.Curve.Cheapest:
			row.Mark = api.CurvePointMarkCheapest
		case of.Curve.Fastest:
			row.Mark = api.CurvePointMarkFastest
		case of.Curve.Balanced:
			row.Mark = api.CurvePointMarkBalanced
		}
		out.Points = append(out.Points, row)
	}
	if alone == nil {
		return out, nil
	}
	by, err := planning.OnlyOn(r.Context(), problem, *alone)
	if err != nil || len(by.Bookings) == 0 {
		return out, httpapi.BadField("alone", *alone, fmt.Sprintf("%s is no owned host that can render all of these shots", *alone))
	}
	out.Alone.Host, out.Alone.Cost = *alone, by.Cost.String()
	out.Alone.Finish = problem.Start.Add(by.Finish.Duration())
	return out, nil
}

func (p *Plans) draw(r *http.Request, of Plan, problem planning.Problem, plan planning.Plan) (*drawn, error) {
	c, err := planning.Tradeoff(r.Context(), problem, curvePoints, plan)
	if err != nil {
		return nil, err
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
				return nil, err
			}
			record.ID, record.PartOf, record.RunID = id, &of.ID, of.RunID
			records = append(records, record)
		}
		kept.Points = append(kept.Points, point{id, x.Cost.String(), problem.Start.Add(x.Finish.Duration()), x.Status})
	}
	of.Curve = kept
	return kept, p.store.WithContext(r.Context()).Transaction(func(tx *gorm.DB) error {
		var first Plan // of two that draw at once, the first one's curve stays
		if err := tx.Raw("SELECT * FROM plans WHERE id = ? FOR UPDATE", of.ID).Scan(&first).Error; err != nil {
			return err
		}
		if first.Curve != nil {
			*kept = *first.Curve
			return nil
		}
		for _, x := range records {
			if err := tx.Create(&x).Error; err != nil {
				return err
			}
		}
		return tx.Model(&of).Select("Curve").Updates(&of).Error
	})
}
