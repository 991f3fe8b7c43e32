package schedule

import (
	"context"
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/access"
	"rotanex.example/service/computations"
	"rotanex.example/service/httpapi"
)

// List answers with how a run was planned anew, and with what is proposed, newest first.
func (s *Schedule) List(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	_, err := s.Runs.Find(r.Context(), run)
	var all []Change
	if err == nil {
		all, err = s.changes(r.Context(), run)
	}
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(httpapi.Each(all, s.record)), err)
}

// Put accepts or declines what is proposed.
func (s *Schedule) Put(w http.ResponseWriter, r *http.Request, run, id uuid.UUID) {
	body, err := httpapi.Body[api.DecideScheduleChangeJSONBody](r)
	var c Change
	if err == nil {
		c, err = s.decide(r.Context(), run, id, body.Accept, access.From(r.Context()).Name)
	}
	httpapi.Answer(w, r, http.StatusOK, s.record(c), err)
}

// Get answers with what every crew still has to do in all open runs.
func (s *Schedule) Get(w http.ResponseWriter, r *http.Request) {
	now, work, err := s.overview(r.Context())
	httpapi.Answer(w, r, http.StatusOK, api.Schedule{Now: now, Bookings: httpapi.Each(work, workRecord)}, err)
}

// Effects answers with what carrying a plan out would do to open runs.
func (s *Schedule) Effects(w http.ResponseWriter, r *http.Request, plan uuid.UUID) {
	computations.Serve(s.Asked, w, r, http.StatusOK, effectsOf(plan), func(_ context.Context, one computations.Computation) (httpapi.Items[api.PlanEffect], error) {
		var all []effect
		err := one.Read(&all)
		return httpapi.List(httpapi.Each(all, s.effectRecord)), err
	})
}
