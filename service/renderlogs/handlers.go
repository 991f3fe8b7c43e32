package renderlogs

import (
	"net/http"

	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
)

// Put takes in the log of a try.
func (l *Logs) Put(w http.ResponseWriter, r *http.Request, lease, fence int64) {
	httpapi.Done(w, r, l.Keep(r.Context(), access.From(r.Context()).Host, lease, fence, r.Body))
}
