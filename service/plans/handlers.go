package plans

import (
	"context"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/planning/questions"
	"rotanex.example/service/access"
	"rotanex.example/service/computations"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/problems"
)

// Create plans.
func (p *Plans) Create(w http.ResponseWriter, r *http.Request, params api.CreatePlanParams) {
	body, err := httpapi.Body[api.NewPlan](r)
	id := access.IDFor(r, params.IdempotencyKey)
	var q computations.Question
	there := false
	if err == nil {
		q, there, err = p.question(r.Context(), id, httpapi.Fingerprint(body), askOf(body))
	}
	show := func(ctx context.Context, _ computations.Computation) (api.Plan, error) { return p.show(ctx, id) }
	switch {
	case err != nil:
		httpapi.Fail(w, r, err)
	case there:
		out, err := p.show(r.Context(), id)
		httpapi.Answer(w, r, http.StatusCreated, out, err)
	default:
		computations.Serve(p.Computations, w, r, http.StatusCreated, q, show)
	}
}

// askOf turns a request into what is asked.
func askOf(x api.NewPlan) problems.Ask {
	a := problems.Ask{
		Shots: x.Shots, By: x.By, Goal: string(x.Goal), Budget: x.Budget, OwnedOnly: x.Rented != nil && !*x.Rented,
		TimeLimit: time.Duration(float64(x.TimeLimitS) * float64(time.Second)), Slack: share(x.Slack), Confidence: share(x.Confidence),
		NotBefore: x.NotBefore, Without: x.Without, Run: x.Run, Again: x.Again,
	}
	for _, pin := range x.Pin {
		a.Pin = append(a.Pin, problems.Pin{Shot: pin.Shot, Places: pin.Places})
	}
	for _, s := range x.Assume {
		a.Assume = append(a.Assume, problems.Assumption{What: string(s.What), Name: s.Name, Like: s.Like, Price: s.Price, Count: s.Count, Factor: share(s.Factor), At: s.At})
	}
	return a
}

// choicesOf turns what was asked into the request that asks it again.
func choicesOf(a *problems.Ask) api.NewPlan {
	rented := !a.OwnedOnly
	out := api.NewPlan{
		Shots: a.Shots, By: a.By, Goal: api.NewPlanGoal(a.Goal), Budget: a.Budget, Rented: &rented, TimeLimitS: float32(a.TimeLimit.Seconds()),
		Slack: float32(a.Slack), Confidence: float32(a.Confidence), NotBefore: a.NotBefore, Without: a.Without, Run: a.Run, Again: a.Again,
	}
	for _, pin := range a.Pin {
		out.Pin = append(out.Pin, api.Pin{Shot: pin.Shot, Places: pin.Places})
	}
	for _, s := range a.Assume {
		out.Assume = append(out.Assume, api.Assumption{What: api.AssumptionWhat(s.What), Name: s.Name, Like: s.Like, Price: s.Price, Count: s.Count, Factor: float32(s.Factor), At: s.At})
	}
	return out
}

// share is a number of the contract as it was written there: 0.1, not 0.10000000149.
func share(v float32) float64 {
	out, _ := strconv.ParseFloat(strconv.FormatFloat(float64(v), 'g', -1, 32), 64)
	return out
}

// Get answers with one plan.
func (p *Plans) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	out, err := p.show(r.Context(), id)
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (p *Plans) show(ctx context.Context, id uuid.UUID) (api.Plan, error) {
	found, err := p.find(ctx, id)
	if err != nil {
		return api.Plan{}, err
	}
	return record(found, true)
}

// List answers with a page of plans, newest first.
func (p *Plans) List(w http.ResponseWriter, r *http.Request, params api.ListPlansParams) {
	out := api.PlanList{Items: []api.Plan{}}
	found, next, err := httpapi.Newest(p.Store.WithContext(r.Context()).Where("part_of IS NULL"), "created_at", "id",
		func(x Plan) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, params.Cursor, params.Limit)
	out.Next = next
	for _, f := range found {
		one, failed := record(f, false)
		err = errors.Join(err, failed)
		out.Items = append(out.Items, one)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Forecast simulates a plan many times.
func (p *Plans) Forecast(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ForecastPlanParams) {
	ask := ofPlan{Plan: id, Seed: 1}
	if params.Simulations != nil {
		ask.Simulations = *params.Simulations
	}
	if params.Seed != nil {
		ask.Seed = uint64(*params.Seed)
	}
	q := ask.about(forecastKind)
	q.Valid = fresh
	serveOf(p, w, r, q, id, showForecast)
}

// Curve draws the trade-off curve of a plan's problem, once, and keeps each of its points
// as a plan.
func (p *Plans) Curve(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.DrawCurveParams) {
	of, err := p.curveOwner(r.Context(), id)
	switch {
	case err != nil:
		httpapi.Fail(w, r, err)
		return
	case of.Curve != nil && params.Alone == nil:
		httpapi.Answer(w, r, http.StatusOK, showCurve(of, alone{}), nil)
		return
	}
	ask := ofPlan{Plan: of.ID}
	if params.Alone != nil {
		ask.Alone = *params.Alone
	}
	serveOf(p, w, r, ask.about(curveKind), of.ID, func(of Plan, by alone) (api.Curve, error) { return showCurve(of, by), nil })
}

// Explain says why a plan uses each place or not, what was short, and what would fix it.
func (p *Plans) Explain(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	serveOf(p, w, r, ofPlan{Plan: id}.about(reasonsKind), id, showReasons)
}

// serveOf serves a question about a plan: show makes the answer of the plan as it is then
// and of what was computed.
func serveOf[A, T any](p *Plans, w http.ResponseWriter, r *http.Request, q computations.Question, id uuid.UUID, show func(Plan, A) (T, error)) {
	if _, err := p.find(r.Context(), id); err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	computations.Serve(p.Computations, w, r, http.StatusOK, q, func(ctx context.Context, one computations.Computation) (out T, err error) {
		of, err := p.find(ctx, id)
		var kept A
		if err = errors.Join(err, one.Read(&kept)); err != nil {
			return out, err
		}
		return show(of, kept)
	})
}

// CompareSources answers what the same work takes on each source alone, and on the best
// mix of all.
func (p *Plans) CompareSources(w http.ResponseWriter, r *http.Request, shot string, params api.CompareSourcesParams) {
	var by time.Time
	if params.By != nil {
		by = *params.By
	}
	baseline := ""
	if params.Baseline != nil {
		baseline = *params.Baseline
	}
	computations.Serve(p.Computations, w, r, http.StatusOK, p.comparison(shot, by, baseline), func(_ context.Context, one computations.Computation) (api.SourceComparison, error) {
		var x compared
		err := one.Read(&x)
		return showSources(shot, p.Currency, x), err
	})
}

// Compare says what differs from another plan to this one.
func (p *Plans) Compare(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ComparePlansParams) {
	out, err := p.compare(r.Context(), params.Since, id)
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (p *Plans) compare(ctx context.Context, before, after uuid.UUID) (api.PlanChanges, error) {
	out := api.PlanChanges{Changes: []api.PlanChange{}}
	var a, b Plan
	for _, x := range []struct {
		id   uuid.UUID
		to   *Plan
		show *api.Plan
	}{{before, &a, &out.Before}, {after, &b, &out.After}} {
		found, err := p.find(ctx, x.id)
		if err != nil {
			return out, err
		}
		*x.to = found
		if *x.show, err = record(found, true); err != nil {
			return out, err
		}
		x.show.Problem, x.show.Plan = nil, nil
	}
	problemA, planA, err := a.open()
	if err != nil {
		return out, err
	}
	problemB, planB, err := b.open()
	for _, x := range questions.Changes(problemA, planA, problemB, planB) {
		out.Changes = append(out.Changes, api.PlanChange{Place: x.Place, Shot: x.Shot, Text: x.Text})
	}
	return out, err
}
