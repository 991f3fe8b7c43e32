package licences

import (
	"net/http"

	"rotanex.example/api"
	"rotanex.example/core/preflight"
	"rotanex.example/service/httpapi"
)

// List answers with the pools.
func (l *Licences) List(w http.ResponseWriter, r *http.Request) {
	found, err := l.pools(r.Context(), "")
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(found), err)
}

// Put stores a pool.
func (l *Licences) Put(w http.ResponseWriter, r *http.Request, pool string) {
	body, err := httpapi.Body[preflight.Licence](r)
	if err == nil && body.Pool != pool {
		err = httpapi.BadField("/pool", body.Pool, "is not the pool in the path, "+pool)
	}
	if err == nil {
		err = l.put(r.Context(), body)
	}
	httpapi.Answer(w, r, http.StatusOK, body, err)
}

// Seats answers with the seats that hosts hold now.
func (l *Licences) Seats(w http.ResponseWriter, r *http.Request) {
	all, err := l.holdings(r.Context())
	out := []api.Seat{}
	for _, s := range all {
		out = append(out, api.Seat{Pool: s.Pool, Host: s.Host, Run: s.RunID, Since: s.Since.UTC()})
	}
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(out), err)
}
