package timings

import (
	"net/http"

	"rotanex.example/api"
	"rotanex.example/core/timing"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
)

// PostTimes takes in a CSV file of times.
func (t *Timings) PostTimes(w http.ResponseWriter, r *http.Request, params api.ImportTimesParams) {
	text, err := httpapi.Text(r)
	var out struct {
		Rows int `json:"rows"`
	}
	if err == nil {
		out.Rows, err = t.Import(r.Context(), access.IDFor(r, params.IdempotencyKey), text)
	}
	httpapi.Answer(w, r, http.StatusCreated, out, err)
}

// GetTimes answers with a CSV file of times.
func (t *Timings) GetTimes(w http.ResponseWriter, r *http.Request, params api.ExportTimesParams) {
	shot := ""
	if params.Shot != nil {
		shot = *params.Shot
	}
	times, err := t.Export(r.Context(), shot)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	_ = timing.WriteTimes(w, times) // the reader is gone
}
