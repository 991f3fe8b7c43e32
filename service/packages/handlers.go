package packages

import (
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/providers"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
)

// Get answers with the package of a shot.
func (p *Packages) Get(w http.ResponseWriter, r *http.Request, shot string) {
	out, err := p.find(r.Context(), shot)
	httpapi.Answer(w, r, http.StatusOK, out.record(), err)
}

// Missing answers which of some chunks are not here yet.
func (p *Packages) Missing(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.ChunkSums](r)
	out := api.ChunkSums{Sums: []string{}}
	if err == nil {
		out.Sums, err = p.missing(r.Context(), body.Sums)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// PutChunk stores a chunk.
func (p *Packages) PutChunk(w http.ResponseWriter, r *http.Request, sum string) {
	httpapi.Done(w, r, p.keep(r.Context(), sum, r.Body))
}

// PutPackage stores the package of a shot that needs some files.
func (p *Packages) PutPackage(w http.ResponseWriter, r *http.Request, shot string, needed []string) {
	body, err := httpapi.Body[api.NewPackage](r)
	var files []providers.PackageFile
	if err == nil {
		files, err = httpapi.Convert[[]providers.PackageFile](body.Files)
	}
	var out Package
	if err == nil {
		out, err = p.Put(r.Context(), shot, files, needed)
	}
	httpapi.Answer(w, r, http.StatusOK, out.record(), err)
}

// ForAgent answers with the files of a shot as they were when its run began.
func (p *Packages) ForAgent(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string) {
	var out Package
	err := p.may(r.Context(), access.From(r.Context()).Host, run, shot)
	if err == nil {
		out, err = p.inRun(r.Context(), run, shot)
	}
	httpapi.Answer(w, r, http.StatusOK, out.record(), err)
}

// ChunkForAgent answers with a chunk.
func (p *Packages) ChunkForAgent(w http.ResponseWriter, r *http.Request, sum string) {
	data, err := p.chunkFor(r.Context(), access.From(r.Context()).Host, sum)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = w.Write(data)
}

// Fetched notes how long a package took to an agent.
func (p *Packages) Fetched(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string) {
	body, err := httpapi.Body[api.FetchedPackageJSONBody](r)
	if err == nil {
		err = p.fetched(r.Context(), access.From(r.Context()).Host, run, shot, body.Bytes, body.Seconds)
	}
	httpapi.Done(w, r, err)
}

func (p Package) record() api.Package {
	out := api.Package{Shot: p.Shot, Sum: p.Sum, Size: p.Size, Made: p.MadeAt.UTC(), Files: []api.PackageFile{}}
	for _, f := range p.Files {
		out.Files = append(out.Files, api.PackageFile{Path: f.Path, Size: f.Size, Chunks: f.Chunks})
	}
	return out
}
