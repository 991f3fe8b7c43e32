package renderlogs

import (
	"io"
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
)

// Put takes in the log of a try.
func (l *Logs) Put(w http.ResponseWriter, r *http.Request, lease, fence int64) {
	httpapi.Done(w, r, l.Keep(r.Context(), access.From(r.Context()).Host, lease, fence, r.Body))
}

// Get answers with the log of a try.
func (l *Logs) Get(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, frame int, fence int64) {
	text, err := l.Open(r.Context(), run, shot, frame, fence)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	defer func() { _ = text.Close() }()
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.Copy(w, text)
}
