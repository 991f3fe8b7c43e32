package packages

import (
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/providers"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// ForAgent answers with the files of a shot as they were when its run began.
func (p *Packages) ForAgent(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string) {
	out := Package{Shot: shot}
	files, found, err := store.First(p.store.WithContext(r.Context()).Raw("SELECT coalesce(package, '[]') FROM run_shots WHERE run_id = $1 AND shot = $2", run, shot),
		func(row store.Row) (f []providers.PackageFile, err error) { return f, row.Scan(store.JSON(&f)) })
	if err == nil && !found {
		err = httpapi.NotFound("no such shot in the run")
	}
	out.Files = files
	for _, f := range out.Files {
		out.Size += f.Size
	}
	httpapi.Answer(w, r, http.StatusOK, out.record(), err)
}

// ChunkForAgent answers with a chunk, no faster than the limit of the agent's source.
func (p *Packages) ChunkForAgent(w http.ResponseWriter, r *http.Request, sum string) {
	source, err := p.sourceOf(r)
	var data []byte
	if err == nil {
		if data, err = p.blobs.ReadAll(r.Context(), blobKey(sum)); err != nil {
			err = httpapi.NotFound("there is no chunk " + sum)
		}
	}
	if err == nil {
		err = p.pace(r.Context(), source, len(data))
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = w.Write(data)
}

// Fetched notes how long a package took to an agent.
func (p *Packages) Fetched(w http.ResponseWriter, r *http.Request, shot string) {
	body, err := httpapi.Body[api.FetchedPackageJSONBody](r)
	var source string
	if err == nil {
		source, err = p.sourceOf(r)
	}
	if err == nil && body.Bytes > 0 {
		err = p.Sent(r.Context(), source, shot, body.Bytes, body.Seconds)
	}
	httpapi.Done(w, r, err)
}

// sourceOf is the source of the host whose agent asks.
func (p *Packages) sourceOf(r *http.Request) (source string, err error) {
	err = p.store.WithContext(r.Context()).Raw("SELECT source FROM hosts WHERE name = $1", access.From(r.Context()).Host).Row().Scan(&source)
	if store.Missing(err) {
		err = httpapi.Conflict("this host is not in the stock any more")
	}
	return source, err
}
