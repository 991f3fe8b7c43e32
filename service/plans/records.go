package plans

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/problems"
	"rotanex.example/service/store"
)

// Plan is the record of one.
type Plan struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	CreatedAt time.Time
	Request   []byte
	Shots     []string `gorm:"serializer:json"`
	Status    string
	Cost      string
	CostBound string
	Currency  string
	Problem   string
	Plan      string
	Notes     problems.Notes `gorm:"serializer:json"`
	PartOf    *uuid.UUID
	RunID     *uuid.UUID
	Curve     *drawn   `gorm:"serializer:json"`
	Chance    *float64 // to meet every deadline, by its forecast when it was made
}

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

// recordOf makes the record of a plan.
func (p *Plans) recordOf(problem planning.Problem, plan planning.Plan, n problems.Notes) (Plan, error) {
	problemFile, err := json.Marshal(problem)
	if err != nil {
		return Plan{}, err
	}
	planFile, err := json.Marshal(plan)
	shots := make([]string, len(problem.Shots))
	for i, s := range problem.Shots {
		shots[i] = s.ID
	}
	return Plan{
		CreatedAt: p.Clock.Now(), Shots: shots, Status: plan.Status, Cost: plan.Cost.String(), CostBound: plan.CostBound.String(),
		Currency: problem.Currency, Problem: string(problemFile), Plan: string(planFile), Notes: n, Request: []byte{},
	}, err
}

// open reads the two files of a record.
func (r Plan) open() (problem planning.Problem, plan planning.Plan, err error) {
	if problem, err = planning.ParseProblem(bytes.NewReader([]byte(r.Problem))); err == nil {
		plan, err = planning.ParsePlan(bytes.NewReader([]byte(r.Plan)))
	}
	return problem, plan, err
}

// look finds a plan, and reports whether there is one.
func (p *Plans) look(ctx context.Context, id uuid.UUID) (Plan, bool, error) {
	var found []Plan
	err := p.Store.WithContext(ctx).Where("id = ?", id).Limit(1).Find(&found).Error
	if err != nil || len(found) == 0 {
		return Plan{}, false, err
	}
	return found[0], true, nil
}

// find finds a plan, or says that there is none.
func (p *Plans) find(ctx context.Context, id uuid.UUID) (Plan, error) {
	one, found, err := p.look(ctx, id)
	if err == nil && !found {
		err = httpapi.NotFound(fmt.Sprintf("there is no plan %s; rotanex plans list shows them", id))
	}
	return one, err
}

// Opened is a plan with the problem that it answers.
func (p *Plans) Opened(ctx context.Context, id uuid.UUID) (problem planning.Problem, plan planning.Plan, err error) {
	one, err := p.find(ctx, id)
	if err != nil {
		return problem, plan, err
	}
	return one.open()
}

// Asked is what was asked of a plan.
func (p *Plans) Asked(ctx context.Context, id uuid.UUID) (ask problems.Ask, err error) {
	one, err := p.find(ctx, id)
	if err == nil && one.Notes.Ask != nil {
		ask = *one.Notes.Ask
	}
	return ask, err
}

// CostOf is what a plan was to cost when it was made.
func (p *Plans) CostOf(ctx context.Context, id uuid.UUID) (pricing.Money, error) {
	one, err := p.find(ctx, id)
	if err != nil {
		return pricing.Money{}, err
	}
	return pricing.ParseMoney(one.Cost)
}

// NotesOf is what is known beside a plan's files of how it was made.
func (p *Plans) NotesOf(ctx context.Context, id uuid.UUID) (problems.Notes, error) {
	one, err := p.find(ctx, id)
	return one.Notes, err
}

// Keep stores a plan, once, and those of other runs that are part of it.
func (p *Plans) Keep(ctx context.Context, record Plan, parts ...Plan) error {
	err := p.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, one := range append([]Plan{record}, parts...) {
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&one).Error; err != nil {
				return err
			}
		}
		return p.Feed.Write(tx, events.Event{Kind: events.Plan, State: record.Status})
	})
	p.Feed.Wake(events.Changes)
	return err
}

// keepCurve stores a plan's curve and its points. Of two that are drawn at once, the
// first stays.
func (p *Plans) keepCurve(ctx context.Context, of Plan, curve *drawn, points []Plan) error {
	return p.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var first Plan
		if err := tx.Raw("SELECT * FROM plans WHERE id = ? FOR UPDATE", of.ID).Scan(&first).Error; err != nil || first.Curve != nil {
			return err
		}
		for _, x := range points {
			if err := tx.Create(&x).Error; err != nil {
				return err
			}
		}
		of.Curve = curve
		return tx.Model(&of).Select("Curve").Updates(&of).Error
	})
}

// head is what of a plan tells whether it is to be read.
type head struct {
	ID        uuid.UUID
	CreatedAt time.Time
	Drawn     bool // a curve was drawn for it
}

// page returns a page of plans, without the points of curves, newest first.
func (p *Plans) page(ctx context.Context, cursor *string, limit *int) ([]head, string, error) {
	return httpapi.Newest(p.Store.WithContext(ctx).Model(&Plan{}).Select("id", "created_at", "curve IS NOT NULL AS drawn").Where("part_of IS NULL"), "created_at", "id",
		func(x head) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, cursor, limit)
}

// all returns plans that are there, without their curves.
func (p *Plans) all(ctx context.Context, ids []uuid.UUID) (out []Plan, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	return out, p.Store.WithContext(ctx).Omit("curve").Find(&out, "id IN ?", ids).Error
}

// both returns two plans.
func (p *Plans) both(ctx context.Context, a, b uuid.UUID) (x, y Plan, err error) {
	if x, err = p.find(ctx, a); err == nil {
		y, err = p.find(ctx, b)
	}
	return x, y, err
}

// changed says what differs from one plan to another.
func changed(a, b Plan) ([]questions.Change, error) {
	problemA, planA, err := a.open()
	if err != nil {
		return nil, err
	}
	problemB, planB, err := b.open()
	if err != nil {
		return nil, err
	}
	return questions.Changes(problemA, planA, problemB, planB), nil
}

// Prune deletes up to so many plans of before a time that no run goes by or went by, with the points of their curves, and says
// how many there were.
func Prune(tx *gorm.DB, before time.Time, most int) (int64, error) {
	return store.Prune(tx, "plans", `created_at < ? AND part_of IS NULL AND NOT EXISTS (SELECT FROM plans p LEFT JOIN runs r ON r.plan_id = p.id LEFT JOIN run_plans x ON x.plan_id = p.id LEFT JOIN schedule_changes c ON c.plan_id = p.id
		WHERE (p.id = plans.id OR p.part_of = plans.id) AND (r.id IS NOT NULL OR x.plan_id IS NOT NULL OR c.plan_id IS NOT NULL))`, before, most)
}
