package computations

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
)

// How long a request waits for an answer, in real time, unless it says otherwise by
// Prefer: wait=SECONDS (RFC 7240), and at most.
const (
	usualWait = 10 * time.Second
	mostWait  = 30 * time.Second
)

func waitOf(r *http.Request) time.Duration {
	for _, header := range r.Header.Values("Prefer") {
		for part := range strings.SplitSeq(header, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
			if s, err := strconv.Atoi(strings.Trim(value, `" `)); strings.EqualFold(strings.TrimSpace(name), "wait") && err == nil && s >= 0 {
				return min(time.Duration(min(s, 3600))*time.Second, mostWait)
			}
		}
	}
	return usualWait
}

// Serve answers a request with what comes of a question: with status and what answer makes
// of it, or where it is not computed yet with 202 and how far it is. The same request asks
// again.
func Serve[T any](c *Computations, w http.ResponseWriter, r *http.Request, status int, q Question, answer func(context.Context, Computation) (T, error)) {
	one, err := c.Ask(r.Context(), q, waitOf(r))
	if err == nil && !one.State.Ended() {
		w.Header().Set("Location", "/api/v1/computations/"+one.ID.String())
		w.Header().Set("Retry-After", "1")
		httpapi.Answer(w, r, http.StatusAccepted, one.record(r), nil)
		return
	}
	var out T
	if err == nil {
		out, err = answer(r.Context(), one)
	}
	httpapi.Answer(w, r, status, out, err)
}

func (c Computation) record(r *http.Request) api.Computation {
	out := api.Computation{
		Id: c.ID, Kind: api.ComputationKind(c.Kind), About: c.About, AskedBy: c.AskedBy, Yours: c.TokenID == access.From(r.Context()).TokenID,
		State: api.ComputationState(c.State), Done: c.Done, Parts: c.Parts, Doing: c.Doing, Created: c.CreatedAt.UTC(),
	}
	if c.EndedAt != nil {
		out.Ended = c.EndedAt.UTC()
	}
	if c.Problem != nil {
		out.Problem = c.Problem.Detail
	}
	return out
}

// Get answers with how far a computation is.
func (c *Computations) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	one, err := c.Find(r.Context(), id)
	httpapi.Answer(w, r, http.StatusOK, one.record(r), err)
}

// List answers with a page of computations, newest first.
func (c *Computations) List(w http.ResponseWriter, r *http.Request, params api.ListComputationsParams) {
	found, next, err := c.page(r.Context(), params.Open != nil && *params.Open, params.Cursor, params.Limit)
	items := httpapi.Each(found, func(x Computation) api.Computation { return x.record(r) })
	httpapi.Answer(w, r, http.StatusOK, api.ComputationList{Items: items, Next: next}, err)
}

// Delete cancels a computation.
func (c *Computations) Delete(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	httpapi.Done(w, r, c.Cancel(r.Context(), id))
}
