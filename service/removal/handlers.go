package removal

import (
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// PutArchived takes a run out of lists, or puts it back.
func (r *Removal) PutArchived(w http.ResponseWriter, req *http.Request, run uuid.UUID) {
	body, err := httpapi.Body[api.ArchiveRunJSONBody](req)
	if err == nil {
		err = r.Archive(req.Context(), run, body.Archived)
	}
	httpapi.Done(w, req, err)
}

// DeleteRun deletes a run.
func (r *Removal) DeleteRun(w http.ResponseWriter, req *http.Request, run uuid.UUID) {
	httpapi.Done(w, req, r.Run(req.Context(), run))
}

// DeleteShot deletes a shot.
func (r *Removal) DeleteShot(w http.ResponseWriter, req *http.Request, shot string) {
	httpapi.Done(w, req, r.Shot(req.Context(), shot))
}

// DeleteHost deletes a host.
func (r *Removal) DeleteHost(w http.ResponseWriter, req *http.Request, host string) {
	httpapi.Done(w, req, r.Host(req.Context(), host))
}

// DeleteSource deletes a source.
func (r *Removal) DeleteSource(w http.ResponseWriter, req *http.Request, source string) {
	httpapi.Done(w, req, r.Source(req.Context(), source))
}
