package plans

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/access"
	"rotanex.example/service/computations"
	"rotanex.example/service/httpapi"
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

// Get answers with one plan.
func (p *Plans) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	out, err := p.show(r.Context(), id)
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// List answers with a page of plans, newest first.
func (p *Plans) List(w http.ResponseWriter, r *http.Request, params api.ListPlansParams) {
	out, err := p.list(r.Context(), params.Cursor, params.Limit)
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
	before, after, err := p.both(r.Context(), params.Since, id)
	var out api.PlanChanges
	if err == nil {
		out, err = changesRecord(before, after)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Export answers with the plan as a file.
func (p *Plans) Export(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ExportPlanParams) {
	data, kind, err := p.export(r.Context(), id, params)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=plan-%s.%s", id.String()[:8], params.Format))
	_, _ = w.Write(data)
}
