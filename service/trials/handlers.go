package trials

import (
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
)

// Post begins a trial.
func (t *Trials) Post(w http.ResponseWriter, r *http.Request, params api.CreateTrialParams) {
	body, err := httpapi.Body[api.NewTrial](r)
	var out Outcome
	if err == nil {
		out, err = t.Create(r.Context(), access.IDFor(r, params.IdempotencyKey), Wanted{
			Shot: body.Shot, Host: body.Host, Crew: body.Crew, Frames: body.Frames, Precision: float64(body.Precision), MaxRepeats: body.MaxRepeats,
			MaxS: float64(body.MaxS), Request: httpapi.Fingerprint(body),
		})
	}
	httpapi.Answer(w, r, http.StatusCreated, Record(out), err)
}

// Get answers with one trial.
func (t *Trials) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	out, err := t.Find(r.Context(), id)
	httpapi.Answer(w, r, http.StatusOK, Record(out), err)
}

// List answers with a page of trials, newest first.
func (t *Trials) List(w http.ResponseWriter, r *http.Request, params api.ListTrialsParams) {
	found, next, err := t.page(r.Context(), params.Shot, params.Cursor, params.Limit)
	httpapi.Answer(w, r, http.StatusOK, api.TrialList{Items: httpapi.Each(found, Record), Next: next}, err)
}

// Record is a trial as the contract has it.
func Record(t Outcome) api.Trial {
	out := api.Trial{
		Id: t.RunID, Shot: t.Shot, Host: t.Host, Crew: t.Crew, Models: t.Models, State: api.RunState(t.State),
		Created: t.CreatedAt.UTC(), Settings: t.Settings, Why: t.Why, Frames: []api.TrialFrame{},
	}
	if t.Precision != nil {
		out.Precision = *t.Precision
	}
	if t.SweepID != nil {
		out.Sweep = *t.SweepID
	}
	for _, r := range t.Rows {
		f := api.TrialFrame{Frame: r.Frame, WarmUp: r.WarmUp, State: api.FrameState(r.State)}
		if r.State != queue.Done {
			f.Cause, f.LogTail = r.Cause, r.LogTail
		} else {
			f.Seconds = *r.Seconds
		}
		if m := r.Measured; m != nil {
			f.Stages, f.OpeningS, f.PeakMemoryBytes, f.DevicePeakBytes = m.Stages, m.OpeningPartS, m.PeakMemoryBytes, m.DevicePeakBytes
			for name, value := range m.Settings {
				out.Settings[name] = value
			}
			if !r.WarmUp && len(m.Conditions) > 0 {
				out.Conditions = m.Conditions
			}
		}
		out.Frames = append(out.Frames, f)
	}
	if s, ok := t.Summary(); ok {
		out.Summary = api.Summary{Frames: s.Frames, MedianS: s.Median, MeanS: s.Mean, LowS: s.Low, HighS: s.High, Spread: s.Spread}
	}
	return out
}
