// Package httpapi is where HTTP meets the service: requests are held against the
// contract, bodies decoded, and errors answered as RFC 9457 problem documents.
package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"

	"rotanex.example/api"
	"rotanex.example/service/store"
)

// Problem is an error that a client is told about.
type Problem struct {
	Status int
	Title  string
	Detail string
	Fields []Field
}

// Field says what is wrong with one value of a request.
type Field struct{ Name, Value, Detail string }

func (p *Problem) Error() string { return p.Detail }

// BadRequest is a problem with what was asked.
func BadRequest(detail string) *Problem {
	return &Problem{Status: http.StatusBadRequest, Title: "Bad request", Detail: detail}
}

// BadField is a problem with one value of a request, named as the user wrote it. A detail
// that has no subject of its own, such as "is past" or "want an amount", gets the name and
// the value for it, so that it can be read by itself.
func BadField(name, value, detail string) *Problem {
	return &Problem{http.StatusUnprocessableEntity, "Unusable value", withSubject(name, value, detail), []Field{{name, value, detail}}}
}

// predicates are how a detail without a subject begins.
var predicates = []string{"is ", "was ", "has ", "and ", "lies "}

func withSubject(name, value, detail string) string {
	subject := strings.ReplaceAll(strings.TrimPrefix(name, "/"), "/", " ")
	if value != "" {
		subject += fmt.Sprintf(" %q", value)
	}
	switch {
	case strings.HasPrefix(detail, "want "):
		return subject + ": " + detail
	case slices.ContainsFunc(predicates, func(p string) bool { return strings.HasPrefix(detail, p) }):
		return subject + " " + detail
	}
	return detail
}

// NotFound says that there is no such thing and what to do about it.
func NotFound(detail string) *Problem {
	return &Problem{Status: http.StatusNotFound, Title: "Not found", Detail: detail}
}

// Conflict says that the thing is not in a state for this.
func Conflict(detail string) *Problem {
	return &Problem{Status: http.StatusConflict, Title: "Conflict", Detail: detail}
}

// Forbidden says that the caller may not do this.
func Forbidden(detail string) *Problem {
	return &Problem{Status: http.StatusForbidden, Title: "Forbidden", Detail: detail}
}

// Fail answers with the error: a Problem as it is, anything else as an internal
// error that is logged and not told.
func Fail(w http.ResponseWriter, r *http.Request, err error) {
	var p *Problem
	var unread *unreadError
	switch {
	case errors.As(err, &p):
	case errors.As(err, &unread):
		p = unfinished(unread.error)
	case r.Context().Err() != nil:
		return // nobody listens any more
	case store.Missing(err):
		p = NotFound("there is no such thing here")
	default:
		slog.ErrorContext(r.Context(), "request failed", "id", RequestID(r.Context()), "method", r.Method, "path", r.URL.Path, "error", err)
		p = &Problem{http.StatusInternalServerError, "Internal error", "the service could not do this; its log says why, under the request's id", nil}
	}
	body := api.Problem{Type: "about:blank", Title: p.Title, Status: p.Status, Detail: p.Detail}
	if id := RequestID(r.Context()); id != "" {
		body.Instance = "urn:uuid:" + id
	}
	for _, f := range p.Fields {
		body.Errors = append(body.Errors, struct {
			Detail string `json:"detail"`
			Field  string `json:"field"`
			Value  string `json:"value,omitempty,omitzero"`
		}{f.Detail, f.Name, f.Value})
	}
	for _, of := range []string{"Cache-Control", "ETag"} { // the answer's that it was to be, which may be there the next time
		w.Header().Del(of)
	}
	if p.Status == http.StatusTooManyRequests {
		w.Header().Set("Retry-After", "60")
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(body)
}

// Answer writes v as JSON, or the error.
func Answer(w http.ResponseWriter, r *http.Request, status int, v any, err error) {
	if err != nil {
		Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// Done answers with nothing, or the error.
func Done(w http.ResponseWriter, r *http.Request, err error) {
	if err != nil {
		Fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// Body decodes a body that the contract has already been held against.
func Body[T any](r *http.Request) (T, error) {
	var v T
	if err := json.NewDecoder(r.Body).Decode(&v); err != nil {
		return v, BadRequest("the body is not the JSON that is wanted: " + err.Error())
	}
	return v, nil
}

// Convert turns a record of the contract into one of the core, or back, by way
// of the JSON that they share.
func Convert[T any](from any) (T, error) {
	var to T
	data, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(data, &to)
	}
	return to, err
}

// Within is what is wrong with a part of what was sent: its fields are named from the whole.
func Within(part string, err error) error {
	var p *Problem
	if !errors.As(err, &p) || len(p.Fields) == 0 {
		return err
	}
	out := *p
	out.Fields = slices.Clone(p.Fields)
	for i, f := range out.Fields {
		out.Fields[i].Name = part + f.Name
	}
	out.Detail = strings.ReplaceAll(strings.TrimPrefix(part, "/"), "/", " ") + ": " + p.Detail
	return &out
}
