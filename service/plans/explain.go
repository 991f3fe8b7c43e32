package plans

import (
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/planning"
	"rotanex.example/service/httpapi"
)

// Explain says why a plan uses each place or not, what was short, and what would fix it.
func (p *Plans) Explain(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	out, err := p.explain(r, id)
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (p *Plans) explain(r *http.Request, id uuid.UUID) (api.PlanReasons, error) {
	out := api.PlanReasons{Used: []api.PlanReason{}, Unused: []api.PlanReason{}}
	found, err := p.find(r.Context(), id)
	if err != nil {
		return out, err
	}
	problem, plan, err := found.open()
	if err != nil {
		return out, err
	}
	out.Currency = problem.Currency
	for _, x := range planning.Reasons(problem, plan) {
		row := api.PlanReason{Place: x.Place, Shot: x.Shot, Text: x.Text}
		if x.Used {
			out.Used = append(out.Used, row)
		} else {
			out.Unused = append(out.Unused, row)
		}
	}
	out.Short, out.Remedies = []api.Shortage{}, []api.Remedy{}
	for _, x := range planning.Shortages(problem, plan) {
		out.Short = append(out.Short, api.Shortage{Shot: x.Shot, Frames: x.Frames, Text: x.Text})
	}
	remedies, err := planning.Remedies(r.Context(), problem, plan)
	for _, x := range remedies {
		out.Remedies = append(out.Remedies, api.Remedy{Change: x.Change, Cost: x.Cost.String(), Finish: problem.Start.Add(x.Finish.Duration())})
	}
	return out, err
}

// Compare says what differs from another plan to this one.
func (p *Plans) Compare(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ComparePlansParams) {
	out, err := p.compare(r, id, params.Since)
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (p *Plans) compare(r *http.Request, id, since uuid.UUID) (api.PlanChanges, error) {
	var out api.PlanChanges
	var problems [2]planning.Problem
	var answers [2]planning.Plan
	for i, one := range []uuid.UUID{since, id} {
		found, err := p.find(r.Context(), one)
		if err != nil {
			return out, err
		}
		if problems[i], answers[i], err = found.open(); err != nil {
			return out, err
		}
		shown, err := record(found, true)
		if err != nil {
			return out, err
		}
		shown.Problem, shown.Plan = nil, nil
		if i == 0 {
			out.Before = shown
		} else {
			out.After = shown
		}
	}
	out.Changes = []api.PlanChange{}
	for _, x := range planning.Changes(problems[0], answers[0], problems[1], answers[1]) {
		out.Changes = append(out.Changes, api.PlanChange{Place: x.Place, Shot: x.Shot, Text: x.Text})
	}
	return out, nil
}
