package studies

import (
	"image/png"
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
)

// Post begins a study.
func (q *Studies) Post(w http.ResponseWriter, r *http.Request, params api.CreateStudyParams) {
	body, err := httpapi.Body[api.NewStudy](r)
	id := access.IDFor(r, params.IdempotencyKey)
	if err == nil {
		want := Wanted{Shot: body.Shot, Host: body.Host, Crew: body.Crew, Frame: body.Frame, Request: httpapi.Fingerprint(body)}
		for _, v := range body.Variants {
			want.Variants = append(want.Variants, Variant{Name: v.Name, Settings: v.Settings})
		}
		err = q.Create(r.Context(), id, want)
	}
	q.answer(w, r, http.StatusCreated, id, err)
}

// Get answers with one study.
func (q *Studies) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	q.answer(w, r, http.StatusOK, id, nil)
}

func (q *Studies) answer(w http.ResponseWriter, r *http.Request, status int, id uuid.UUID, err error) {
	var found Studied
	if err == nil {
		found, err = q.Find(r.Context(), id)
	}
	httpapi.Answer(w, r, status, record(found), err)
}

// List answers with a page of studies, newest first.
func (q *Studies) List(w http.ResponseWriter, r *http.Request, params api.ListStudiesParams) {
	found, next, err := q.page(r.Context(), params.Shot, params.Cursor, params.Limit)
	httpapi.Answer(w, r, http.StatusOK, api.StudyList{Items: httpapi.Each(found, record), Next: next}, err)
}

// GetDifference answers with a picture of the difference of two variants.
func (q *Studies) GetDifference(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.GetDifferenceParams) {
	diff, err := q.Difference(r.Context(), id, params.A, params.B)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	_ = png.Encode(w, diff) // the reader is gone
}

func record(s Studied) api.Study {
	out := api.Study{Id: s.ID, Shot: s.Shot, Host: s.Host, Crew: s.Crew, Frame: s.Frame, Created: s.CreatedAt.UTC(), Complete: s.Complete, Variants: []api.StudyVariant{}}
	for _, v := range s.Results {
		row := api.StudyVariant{Name: v.Name, Settings: v.Settings, Run: v.Run, State: api.RunState(v.State), Seconds: v.Seconds, WholeS: v.WholeS, Cause: v.Cause}
		if d := v.Distance; d != nil {
			row.Distance = api.Distance{Rmse: d.RMSE, PsnrDb: d.PSNR, Ssim: d.SSIM, Same: d.Same}
		}
		out.Variants = append(out.Variants, row)
	}
	return out
}
