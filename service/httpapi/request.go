package httpapi

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/google/uuid"
)

// RequestHeader carries a request's id in its answer.
const RequestHeader = "X-Request-Id"

type requestKey struct{}

// RequestID is the id of the request that is being answered; "" outside of one.
func RequestID(ctx context.Context) string {
	id, _ := ctx.Value(requestKey{}).(string)
	return id
}

// Logged gives each request an id, which its answer, a problem and the log carry, and with access
// logs each that was answered: what was asked, how it went, how long it took. Queries are not logged, as they may
// name what is nobody's business; who asked for a change stands in the audit.
func Logged(log *slog.Logger, access bool) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			id := uuid.NewString()
			w.Header().Set(RequestHeader, id)
			r = r.WithContext(context.WithValue(r.Context(), requestKey{}, id))
			if !access {
				next.ServeHTTP(w, r)
				return
			}
			began := time.Now()
			out := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
			defer func() {
				log.InfoContext(r.Context(), "request", "id", id, "method", r.Method, "path", r.URL.Path, "route", chi.RouteContext(r.Context()).RoutePattern(),
					"status", max(out.Status(), http.StatusOK), "bytes", out.BytesWritten(), "ms", time.Since(began).Milliseconds(), "from", r.RemoteAddr)
			}()
			next.ServeHTTP(out, r)
		})
	}
}
