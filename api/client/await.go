package client

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
)

// Await is a Doer that asks again, with the same request, while the service computes the
// answer. Whose context ends meanwhile has the computation ended too, if it was asked for
// with the same token.
//
//	c, err := client.NewClient(address, client.WithHTTPClient(client.Await{Doer: http.DefaultClient}))
type Await struct {
	Doer HttpRequestDoer
	// Progress is told how far a computation is, about every other second; nil: nobody is.
	Progress func(api.Computation)
}

// A request waits for an answer itself, for so long: short, so that progress is seen.
const preferWait = "wait=2"

// Do implements HttpRequestDoer.
func (a Await) Do(r *http.Request) (*http.Response, error) {
	var under *api.Computation
	if r.Method == http.MethodPost && r.Header.Get("Idempotency-Key") == "" {
		r.Header.Set("Idempotency-Key", uuid.NewString()) // what is asked twice is one
	}
	for {
		if r.Header.Get("Prefer") == "" {
			r.Header.Set("Prefer", preferWait)
		}
		answer, err := a.Doer.Do(r)
		if err != nil {
			return answer, errors.Join(err, a.end(r, under))
		}
		if answer.StatusCode != http.StatusAccepted {
			return answer, nil
		}
		c := api.Computation{}
		err = json.NewDecoder(answer.Body).Decode(&c)
		if err = errors.Join(err, answer.Body.Close()); err != nil {
			return nil, err
		}
		if under = &c; a.Progress != nil {
			a.Progress(c)
		}
		if r.GetBody != nil {
			if r.Body, err = r.GetBody(); err != nil {
				return nil, err
			}
		}
	}
}

// end ends a computation that nobody waits for any more.
func (a Await) end(r *http.Request, c *api.Computation) error {
	if c == nil || !c.Yours || r.Context().Err() == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), 5*time.Second)
	defer cancel()
	place := *r.URL
	root, _, _ := strings.Cut(place.Path, "/api/v1/")
	place.Path, place.RawQuery = root+"/api/v1/computations/"+c.Id.String(), ""
	d, err := http.NewRequestWithContext(ctx, http.MethodDelete, place.String(), nil)
	if err != nil {
		return err
	}
	d.Header.Set("Authorization", r.Header.Get("Authorization"))
	answer, err := a.Doer.Do(d)
	if err == nil {
		err = answer.Body.Close()
	}
	return err
}
