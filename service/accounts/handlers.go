package accounts

import (
	"encoding/csv"
	"net/http"
	"strings"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// FarmJobs answers with the jobs of a run at farms.
func (a *Accounts) FarmJobs(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	s, err := a.Of(r.Context(), id)
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(httpapi.Each(s.Jobs, s.JobRecord)), err)
}

// PostProofs accepts or refuses the proof frames of a farm's job.
func (a *Accounts) PostProofs(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := httpapi.Body[api.JudgeProofsJSONBody](r)
	var out api.FarmJob
	if err == nil {
		s, job, failed := a.JudgeProofs(r.Context(), id, body.Accept)
		out, err = s.JobRecord(job), failed
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Ledger answers with time and money, planned and real, by place and crew.
func (a *Accounts) Ledger(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	book, err := a.bookOf(r.Context(), id)
	var out api.Ledger
	if err == nil {
		out = book.ledgerRecord()
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// CompareSources answers what each source did in a run.
func (a *Accounts) CompareSources(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	book, err := a.bookOf(r.Context(), id)
	var out api.SourceComparison
	if err == nil {
		out = book.sourcesRecord()
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// ListEntries answers with the ledger by entry, as JSON, or CSV where that is asked for.
func (a *Accounts) ListEntries(w http.ResponseWriter, r *http.Request, params api.ListEntriesParams) {
	want := Wanted{Run: params.Run, Source: params.Source, Shot: params.Shot, Host: params.Host}
	if params.Day != nil {
		want.Day = &params.Day.Time
	}
	found, err := a.Entries(r.Context(), want, params.Cursor, params.Limit)
	if err == nil && strings.Contains(r.Header.Get("Accept"), "text/csv") {
		a.writeCSV(w, r, want, found)
		return
	}
	httpapi.Answer(w, r, http.StatusOK, found.record(), err)
}

// writeCSV writes a page of entries and all that come after it.
func (a *Accounts) writeCSV(w http.ResponseWriter, r *http.Request, want Wanted, page Entries) {
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	file := csv.NewWriter(w)
	defer file.Flush()
	for err := file.Write(columns); err == nil; {
		page.csv(file)
		if page.Next == "" {
			return
		}
		page, err = a.Entries(r.Context(), want, &page.Next, nil)
		if err != nil {
			panic(http.ErrAbortHandler) // a file that ends early must not look whole
		}
	}
}
