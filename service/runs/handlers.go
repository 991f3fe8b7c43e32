package runs

import (
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/core/replan"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/settled"
	"rotanex.example/service/shots"
	"rotanex.example/service/states"
)

// answer answers with a run as it stands, unless something went wrong before.
func (q *Runs) answer(w http.ResponseWriter, r *http.Request, status int, id uuid.UUID, err error) {
	var out api.Run
	if r.Method != http.MethodGet {
		q.Fresh()
	}
	if err == nil {
		out, err = q.shownAs(r.Context(), id)
	}
	httpapi.Answer(w, r, status, out, err)
}

// Post carries out a plan.
func (q *Runs) Post(all *shots.Shots, w http.ResponseWriter, r *http.Request, params api.StartRunParams) {
	body, err := httpapi.Body[api.StartRunJSONBody](r)
	id := access.IDFor(r, params.IdempotencyKey)
	if err == nil {
		err = q.Start(r.Context(), all, id, Wanted{Plan: body.Plan, Tries: body.Tries, Spend: body.Spend, AcceptProofs: body.AcceptProofs, Policy: string(body.Policy), Request: httpapi.Fingerprint(body)})
	}
	q.answer(w, r, http.StatusCreated, id, err)
}

// Get answers with a run as it stands.
func (q *Runs) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	q.answer(w, r, http.StatusOK, id, nil)
}

// List answers with a page of runs, newest first.
func (q *Runs) List(w http.ResponseWriter, r *http.Request, params api.ListRunsParams) {
	var only *dispatch.Priority
	if params.Priority != nil {
		p, _ := dispatch.ParsePriority(string(*params.Priority)) // the contract knows the words
		only = &p
	}
	found, next, err := q.page(r.Context(), only, params.Archived, params.Cursor, params.Limit)
	var items []api.Run
	if err == nil {
		items, err = settled.All(r.Context(), q.shown, found, q.asItStands)
	}
	httpapi.Answer(w, r, http.StatusOK, api.RunList{Items: items, Next: next}, err)
}

// PutState pauses, resumes or cancels.
func (q *Runs) PutState(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := httpapi.Body[api.SetRunStateJSONBody](r)
	if err == nil {
		err = q.SetState(r.Context(), id, states.Run(body.State))
	}
	q.answer(w, r, http.StatusOK, id, err)
}

// PutPriority lets a run come before others on its hosts, or after them.
func (q *Runs) PutPriority(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := httpapi.Body[api.SetRunPriorityJSONBody](r)
	var p dispatch.Priority
	if err == nil {
		p, err = dispatch.ParsePriority(string(body.Priority))
	}
	if err == nil {
		err = q.SetPriority(r.Context(), id, p, body.Now)
	}
	q.answer(w, r, http.StatusOK, id, err)
}

// PutPolicy says how far a run is planned anew by itself.
func (q *Runs) PutPolicy(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := httpapi.Body[api.SetRunPolicyJSONBody](r)
	var p replan.Policy
	if err == nil {
		p, err = replan.ParsePolicy(string(body.Policy), "")
	}
	if err == nil {
		err = q.SetPolicy(r.Context(), id, p)
	}
	q.answer(w, r, http.StatusOK, id, err)
}

// PutDeadline moves the deadline of a run.
func (q *Runs) PutDeadline(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := httpapi.Body[api.SetRunDeadlineJSONBody](r)
	if err == nil {
		err = q.SetDeadline(r.Context(), id, body.Deadline)
	}
	q.answer(w, r, http.StatusOK, id, err)
}

// PutPlan lets the rest of a run be carried out by another plan, made for it.
func (q *Runs) PutPlan(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := httpapi.Body[api.SetRunPlanJSONBody](r)
	if err == nil {
		err = q.ChangeOver(r.Context(), id, body.Plan, body.Spend)
	}
	q.answer(w, r, http.StatusOK, id, err)
}
