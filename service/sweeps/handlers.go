package sweeps

import (
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/trials"
)

// Post begins a sweep.
func (q *Sweeps) Post(w http.ResponseWriter, r *http.Request, params api.CreateSweepParams) {
	body, err := httpapi.Body[api.NewSweep](r)
	var out Swept
	if err == nil {
		out, err = q.Create(r.Context(), access.IDFor(r, params.IdempotencyKey), Wanted{
			Shot: body.Shot, BudgetS: float64(body.BudgetS), Goal: float64(body.Goal), Frames: body.Frames, Request: httpapi.Fingerprint(body),
		})
	}
	httpapi.Answer(w, r, http.StatusCreated, record(out), err)
}

// PostEnd lets a sweep begin no further trial.
func (q *Sweeps) PostEnd(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	out, err := q.End(r.Context(), id)
	httpapi.Answer(w, r, http.StatusOK, record(out), err)
}

// Get answers with one sweep.
func (q *Sweeps) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	out, err := q.Find(r.Context(), id)
	httpapi.Answer(w, r, http.StatusOK, record(out), err)
}

// List answers with a page of sweeps, newest first.
func (q *Sweeps) List(w http.ResponseWriter, r *http.Request, params api.ListSweepsParams) {
	found, next, err := q.page(r.Context(), params.Cursor, params.Limit)
	httpapi.Answer(w, r, http.StatusOK, api.SweepList{Items: httpapi.Each(found, record), Next: next}, err)
}

func record(s Swept) api.Sweep {
	out := api.Sweep{
		Id: s.ID, Shot: s.Shot, State: api.SweepState(s.State), Why: s.Why, Created: s.CreatedAt.UTC(), BudgetS: s.BudgetS, Goal: s.Goal,
		Trials: httpapi.Each(s.Trials, trials.Record),
	}
	if s.EndedAt != nil {
		out.Ended = s.EndedAt.UTC()
	}
	for _, b := range s.Beyond {
		out.Beyond = append(out.Beyond, api.BeyondBudget{Crew: b.Crew, Why: b.Why})
	}
	return out
}
