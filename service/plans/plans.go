// Package plans turns what the service knows into a planning problem, has it
// solved, and keeps problem and answer together, so that any plan can be
// reproduced from its own record.
package plans

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/planning"
	"rotanex.example/service/access"
	"rotanex.example/service/candidates"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/packages"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
	"rotanex.example/service/timings"
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
	Notes     notes `gorm:"serializer:json"`
	PartOf    *uuid.UUID
	RunID     *uuid.UUID
	Curve     *drawn `gorm:"serializer:json"`
}

// Config is what planning needs to know of the house.
type Config struct {
	Currency string
	Zone     *time.Location // in which opening hours are read
}

// Plans looks after them.
type Plans struct {
	store   *store.Store
	clock   clock.Clock
	feed    *events.Feed
	hostsOf *hosts.Hosts
	shotsOf *shots.Shots

	candidates *candidates.Candidates
	timings    *timings.Timings
	sources    *sources.Sources
	packages   *packages.Packages
	currency   string
	zone       *time.Location
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, h *hosts.Hosts, sh *shots.Shots, x *candidates.Candidates, t *timings.Timings, src *sources.Sources, pack *packages.Packages, config Config) *Plans {
	return &Plans{store: s, clock: c, feed: f, hostsOf: h, shotsOf: sh, candidates: x, timings: t, sources: src, packages: pack, currency: config.Currency, zone: config.Zone}
}

// Create plans.
func (p *Plans) Create(w http.ResponseWriter, r *http.Request, params api.CreatePlanParams) {
	body, err := httpapi.Body[api.NewPlan](r)
	id := access.IDFor(r, params.IdempotencyKey)
	if err == nil {
		err = p.create(r.Context(), id, body)
	}
	p.answer(w, r, http.StatusCreated, id, err)
}

func (p *Plans) create(ctx context.Context, id uuid.UUID, ask api.NewPlan) error {
	var old []Plan
	if err := p.store.WithContext(ctx).Select("request").Where("id = ?", id).Limit(1).Find(&old).Error; err != nil {
		return err
	}
	if len(old) > 0 {
		return httpapi.SameRequest(old[0].Request, httpapi.Fingerprint(ask))
	}
	problem, notes, err := p.build(ctx, ask)
	if err != nil {
		return err
	}
	// What is solved is what is stored: read back, so that nothing is finer than the file.
	if problem, err = httpapi.Convert[planning.Problem](problem); err != nil {
		return err
	}
	options := planning.Options{}
	if ask.TimeLimitS > 0 {
		options.TimeLimit = time.Duration(float64(ask.TimeLimitS) * float64(time.Second))
	}
	var plan planning.Plan
	switch {
	case ask.Sure > 0 && ask.Slack > 0:
		return httpapi.BadField("/sure", fmt.Sprint(ask.Sure), "and a slack do not go together: the slack is what being sure is to find")
	case ask.Sure > 0:
		problem, plan, notes.Slack, err = p.surely(ctx, problem, notes, float64(ask.Sure), options)
		if err == nil && len(plan.Bookings) == 0 {
			plan, err = planning.Solve(ctx, problem, options)
		}
	default:
		problem = spare(problem, notes.Slack)
		plan, err = planning.Solve(ctx, problem, options)
	}
	if err != nil {
		return err
	}
	record, err := p.recordOf(problem, plan, notes)
	if err != nil {
		return err
	}
	record.ID, record.Request, record.RunID = id, httpapi.Fingerprint(ask), ask.Run
	err = p.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(&record).Error; err != nil {
			return err
		}
		return p.feed.Write(tx, api.Event{Kind: api.EventKindPlan, State: plan.Status})
	})
	p.feed.Wake(events.Changes)
	return err
}

// recordOf makes the record of a plan.
func (p *Plans) recordOf(problem planning.Problem, plan planning.Plan, n notes) (Plan, error) {
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
		CreatedAt: p.clock.Now(), Shots: shots, Status: plan.Status, Cost: plan.Cost.String(), CostBound: plan.CostBound.String(),
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

func record(r Plan, whole bool) (api.Plan, error) {
	problem, plan, err := r.open()
	at := func(m planning.Millis) time.Time { return problem.Start.Add(m.Duration()) }
	out := api.Plan{
		Id: r.ID, Created: r.CreatedAt.UTC(), Shots: r.Shots, Status: api.PlanStatus(r.Status), Currency: r.Currency, Goal: problem.Goal,
		Cost: plan.Cost.String(), CostBound: plan.CostBound.String(), Start: problem.Start, Finish: at(plan.Finish),
	}
	if len(plan.Servers)+len(plan.ExtraSeats) > 0 || slices.ContainsFunc(plan.Bookings, func(b planning.Booking) bool { return b.Farm != "" }) {
		out.OutsideCost = planning.Outside(problem, plan).String()
	}
	for _, s := range problem.Shots {
		deadline := s.Deadline
		if real, ok := r.Notes.Deadlines[s.ID]; ok {
			deadline = real
		}
		if d := at(deadline); d.After(out.Deadline) {
			out.Deadline = d
		}
	}
	out.CurveOf = r.PartOf
	if r.Curve != nil {
		out.CurveOf = &r.ID
	}
	out.Slack, out.Assumes, out.Run = r.Notes.Slack, r.Notes.Assumes, r.RunID
	if err != nil || !whole {
		return out, err
	}
	for _, lost := range plan.Impossible {
		out.Impossible = append(out.Impossible, struct {
			Shot string `json:"shot"`
			Why  string `json:"why"`
		}{lost.Shot, lost.Why})
	}
	costs := planning.Price(problem, plan)
	sources := sourcesOf(problem, r.Notes)
	out.Servers, out.Bookings, out.LeftOut = []api.PlannedServer{}, []api.PlannedBooking{}, r.Notes.LeftOut
	offerOf := map[string]string{}
	for i, v := range plan.Servers {
		offerOf[v.ID] = v.Offer
		for _, o := range problem.Offers {
			if o.ID == v.Offer {
				out.Servers = append(out.Servers, api.PlannedServer{
					Id: v.ID, Offer: v.Offer, Source: o.Source, From: at(v.From), Usable: at(v.From + o.Lead), To: at(v.To),
					BilledS: o.Meter().Billed((v.To - v.From).Duration()).Seconds(), Cost: costs.Servers[i].String(),
				})
			}
		}
	}
	for i, b := range plan.Bookings {
		place := b.Where()
		if b.Server != "" {
			place = offerOf[b.Server]
		}
		basis := r.Notes.Basis[basisKey(b.Shot, place, b.Crew)]
		row := api.PlannedBooking{
			Shot: b.Shot, Place: b.Where(), Source: sources[place], Owned: b.Host != "", Crew: b.Crew, Frames: b.Frames, Start: at(b.Start), End: at(b.End),
			FrameS: basis.Seconds, Basis: api.PlannedBookingBasis(basis.Basis), LowS: basis.Low, HighS: basis.High,
		}
		if b.Server == "" {
			row.Cost = costs.Bookings[i].String()
		}
		out.Bookings = append(out.Bookings, row)
	}
	addDetails(&out, problem, plan, sources, at)
	if out.Problem, err = httpapi.Convert[map[string]any](json.RawMessage(r.Problem)); err != nil {
		return out, err
	}
	out.Plan, err = httpapi.Convert[map[string]any](json.RawMessage(r.Plan))
	return out, err
}

// sourcesOf tells the source of every place of a problem.
func sourcesOf(problem planning.Problem, n notes) map[string]string {
	out := map[string]string{}
	for _, h := range problem.Hosts {
		out[h.ID] = cmp.Or(n.Sources[h.ID], owned)
	}
	for _, o := range problem.Offers {
		out[o.ID] = o.Source
	}
	for _, f := range problem.Farms {
		out[f.ID] = f.Source
	}
	return out
}

func (p *Plans) answer(w http.ResponseWriter, r *http.Request, status int, id uuid.UUID, err error) {
	var out api.Plan
	if err == nil {
		var found Plan
		if found, err = p.find(r.Context(), id); err == nil {
			out, err = record(found, true)
		}
	}
	httpapi.Answer(w, r, status, out, err)
}

func (p *Plans) find(ctx context.Context, id uuid.UUID) (Plan, error) {
	var found []Plan
	err := p.store.WithContext(ctx).Where("id = ?", id).Limit(1).Find(&found).Error
	if err == nil && len(found) == 0 {
		err = httpapi.NotFound(fmt.Sprintf("there is no plan %s; rotanex plans list shows them", id))
	}
	if err != nil {
		return Plan{}, err
	}
	return found[0], nil
}

// Get answers with one plan.
func (p *Plans) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	p.answer(w, r, http.StatusOK, id, nil)
}

// List answers with a page of plans, newest first.
func (p *Plans) List(w http.ResponseWriter, r *http.Request, params api.ListPlansParams) {
	out := api.PlanList{Items: []api.Plan{}}
	found, next, err := httpapi.Newest(p.store.WithContext(r.Context()).Where("part_of IS NULL"), "created_at", "id",
		func(x Plan) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, params.Cursor, params.Limit)
	out.Next = next
	for _, f := range found {
		one, failed := record(f, false)
		err = errors.Join(err, failed)
		out.Items = append(out.Items, one)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}
