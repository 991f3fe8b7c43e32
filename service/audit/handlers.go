package audit

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"rotanex.example/api"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
)

// List answers with who did what, the newest first.
func (a *Audit) List(w http.ResponseWriter, r *http.Request, p api.ListAuditParams) {
	rows, next, err := a.page(r.Context(), Asked{Who: p.Who, Did: p.Did, About: p.About, Text: p.Text, Since: p.Since, Until: p.Until}, p.Cursor, httpapi.Limit(p.Limit, 100))
	httpapi.Answer(w, r, http.StatusOK, api.AuditList{Items: httpapi.Each(rows, record), Next: next}, err)
}

// mostSeen is how much of an answer is looked at.
const mostSeen = 1 << 20

// seen takes in as much of an answer as is looked at.
type seen struct{ bytes.Buffer }

func (s *seen) Write(p []byte) (int, error) {
	s.Buffer.Write(p[:min(len(p), mostSeen-s.Len())])
	return len(p), nil
}

// Keep notes every request that changed something, with what it was done to as that was before and is after. What agents do
// is in the tries of frames.
func (a *Audit) Keep(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		operation := httpapi.Matched(r.Context())
		if r.Method == http.MethodGet || strings.HasPrefix(operation.Path, "/agent/") && operation.ID != "join agent" {
			next.ServeHTTP(w, r)
			return
		}
		at := strings.TrimPrefix(r.URL.Path, "/api/v1")
		about, found := subject(at, r.Method == http.MethodPost)
		before, known := []byte(nil), true
		if found {
			before, known = a.view(r, about)
		}
		wanted := fields(&r)
		var answer seen
		watched := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		watched.Tee(&answer)
		next.ServeHTTP(watched, r)
		if s := watched.Status(); s == 0 || s >= http.StatusMultipleChoices {
			return // it failed; with nobody left to hear it, without a word
		}
		after := answer.Bytes()
		switch {
		case found && r.Context().Err() != nil:
			known = false // who asked waits no more
		case found && known:
			after, known = a.view(r, about)
		case !found && r.Method == http.MethodPost:
			about = path.Join(about, identity(after))
		}
		if !known { // it takes too long to be read: what was asked for is what can be told
			before, after = nil, body(r)
		}
		who := access.From(r.Context())
		rec := Record{Who: who.Name, Role: who.Role, Origin: who.From, Did: operation.ID, About: about}
		rec.entered(answer.Bytes(), r)
		rec.Before, rec.After = changed(before, after, wanted)
		if found && about == at && string(rec.Before) == string(rec.After) {
			return // it was so already, or was only tried
		}
		a.note(r.Context(), rec)
	})
}

// entered names who got in by a request that nobody could make in a name of theirs: who signed in, and the host whose agent joined.
func (rec *Record) entered(answer []byte, r *http.Request) {
	said := object(answer)
	name, _ := said["name"].(string)
	role, _ := said["role"].(string)
	switch rec.Did {
	case "sign in":
		rec.Who, rec.Role, rec.About = name, role, "/session"
	case "join agent":
		rec.Who, rec.Role, rec.About = "agent of "+asked(r, "host"), access.Agent, "/hosts/"+asked(r, "host")
	}
}

// subject is the path of what is changed by a request to a path: the nearest thing that can be read, by itself or in the list
// that it is in, and whether there is one. What is new has none.
func subject(of string, isNew bool) (about string, found bool) {
	for about = of; about != "/" && about != "."; about = path.Dir(about) {
		can, one := httpapi.Reads(about)
		listed, notAll := httpapi.Reads(path.Dir(about))
		if can && one || !can && listed && !notAll && about == of && !isNew {
			return about, true
		}
	}
	return of, false
}

// view is a thing as who asks would read it, nil if it is not there; false if that takes too long, or too much.
func (a *Audit) view(r *http.Request, about string) ([]byte, bool) {
	if _, one := httpapi.Reads(about); one {
		return a.read(r, about)
	}
	var list struct{ Items []json.RawMessage }
	text, known := a.read(r, path.Dir(about))
	if json.Unmarshal(text, &list) != nil {
		return nil, known
	}
	for _, item := range list.Items {
		if identity(item) == path.Base(about) {
			return item, true
		}
	}
	return nil, true
}

// readWithin is how long it may take to read something for its record: whoever changes it waits for that.
const readWithin = time.Second

// read reads a path of the interface as who asks would.
func (a *Audit) read(r *http.Request, at string) ([]byte, bool) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), readWithin)
	defer cancel()
	ask, err := http.NewRequestWithContext(context.WithValue(ctx, chi.RouteCtxKey, nil), http.MethodGet, "/api/v1"+at, http.NoBody) // it is routed anew
	if err != nil {
		return nil, false
	}
	ask.RemoteAddr = r.RemoteAddr
	for _, name := range []string{"Authorization", "Cookie", "X-Forwarded-For"} {
		ask.Header[name] = r.Header.Values(name)
	}
	answer := httptest.NewRecorder()
	a.Interface.ServeHTTP(answer, ask)
	switch {
	case ctx.Err() != nil, answer.Code >= http.StatusInternalServerError, answer.Body.Len() > mostSeen:
		return nil, false
	case answer.Code != http.StatusOK:
		return nil, true
	}
	return answer.Body.Bytes(), true
}

type bodyKey struct{}

// body is that of a request, if it is JSON. Its fields were read before.
func body(r *http.Request) []byte {
	said, _ := r.Context().Value(bodyKey{}).(map[string]any)
	text, _ := json.Marshal(said) // it was JSON
	return text
}

// asked is a text of a request's body, "" where it has none of that name. Its fields were read before.
func asked(r *http.Request, name string) string {
	said, _ := r.Context().Value(bodyKey{}).(map[string]any)
	text, _ := said[name].(string)
	return text
}

// fields are those that a request of JSON has. It can be read after that, and asked for a text.
func fields(of **http.Request) []string {
	r := *of
	if r.Header.Get("Content-Type") != "application/json" || r.Body == nil || r.Body == http.NoBody {
		return nil
	}
	text, err := io.ReadAll(r.Body)
	r.Body = io.NopCloser(io.MultiReader(bytes.NewReader(text), failing{err}))
	said := object(text)
	*of = r.WithContext(context.WithValue(r.Context(), bodyKey{}, said))
	return slices.Sorted(maps.Keys(said))
}

// failing is the end of a body that could not be read whole.
type failing struct{ error }

func (f failing) Read([]byte) (int, error) {
	if f.error == nil {
		return 0, io.EOF
	}
	return 0, f.error
}

// identity is how an answer names what it is, or what it has of one.
func identity(answer []byte) string {
	view := object(answer)
	for _, name := range []string{"id", "name", "pool"} {
		switch value := view[name].(type) {
		case string:
			return value
		case float64:
			return strconv.FormatInt(int64(value), 10)
		}
	}
	if made, is := view["token"].(map[string]any); is { // with its secret beside it
		text, _ := json.Marshal(made)
		return identity(text)
	}
	return ""
}
