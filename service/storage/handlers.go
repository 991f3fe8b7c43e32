package storage

import (
	"net/http"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// List answers with what is kept.
func (s *Storage) List(w http.ResponseWriter, r *http.Request) {
	all, err := s.All(r.Context())
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(httpapi.Each(all, record)), err)
}

// Put has a kind kept for so many days.
func (s *Storage) Put(w http.ResponseWriter, r *http.Request, kind string) {
	body, err := httpapi.Body[api.KeepJSONBody](r)
	if err == nil {
		err = s.Keep(r.Context(), kind, body.Days)
	}
	all, failed := s.All(r.Context())
	if err == nil {
		err = failed
	}
	for _, x := range all {
		if x.Name == kind {
			httpapi.Answer(w, r, http.StatusOK, record(x), err)
			return
		}
	}
	httpapi.Fail(w, r, err)
}
