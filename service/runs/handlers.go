package runs

import (
	"net/http"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// Get answers with a run as it stands.
func (q *Runs) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	s, err := q.read(r.Context(), id)
	var out api.Run
	if err == nil {
		out = s.record(q.clock.WallNow())
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// List answers with a page of runs, newest first.
func (q *Runs) List(w http.ResponseWriter, r *http.Request, params api.ListRunsParams) {
	out := api.RunList{Items: []api.Run{}}
	runs, next, err := httpapi.Newest(q.store.WithContext(r.Context()).Where("kind = 'run'"), "created_at", "id",
		func(x Run) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, params.Cursor, params.Limit)
	out.Next = next
	for _, run := range runs {
		s, failed := q.read(r.Context(), run.ID)
		if failed != nil {
			err = failed
			break
		}
		out.Items = append(out.Items, s.record(q.clock.WallNow()))
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// PutState pauses, resumes or cancels.
func (q *Runs) PutState(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := httpapi.Body[api.SetRunStateJSONBody](r)
	if err == nil {
		err = q.SetState(r.Context(), id, string(body.State))
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	q.Get(w, r, id)
}
