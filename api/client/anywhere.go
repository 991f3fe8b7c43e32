package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
)

// Anywhere is a Doer for a service of several addresses: it asks the one that answered last. Where that cannot be reached, does
// not answer in time, or says that it cannot now, the next request goes to the next; this one fails, for who knows whether it
// may be repeated is who asked.
type Anywhere struct {
	Doer HttpRequestDoer

	all []*url.URL
	at  atomic.Int64
}

// ParseAddresses reads addresses separated by commas, such as http://one:7070,http://two:7070.
func ParseAddresses(text string) (*Anywhere, error) {
	a := &Anywhere{Doer: http.DefaultClient}
	for part := range strings.SplitSeq(text, ",") {
		u, err := url.Parse(strings.TrimRight(strings.TrimSpace(part), "/"))
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, fmt.Errorf("address %q: want http:// or https:// and a host, such as https://render.example", part)
		}
		a.all = append(a.all, u)
	}
	return a, nil
}

// First is the first of the addresses, with which a client is made.
func (a *Anywhere) First() string { return a.all[0].String() }

// Do implements HttpRequestDoer. The request is for the first address.
func (a *Anywhere) Do(r *http.Request) (*http.Response, error) {
	at := a.at.Load()
	to := a.all[int(at)%len(a.all)]
	r = r.Clone(r.Context())
	r.URL.Scheme, r.URL.Host, r.Host = to.Scheme, to.Host, ""
	r.URL.Path = to.Path + strings.TrimPrefix(r.URL.Path, a.all[0].Path)
	answer, err := a.Doer.Do(r)
	switch {
	case errors.Is(err, context.Canceled): // it was not wanted any more
	case err != nil, answer.StatusCode == http.StatusBadGateway, answer.StatusCode == http.StatusServiceUnavailable, answer.StatusCode == http.StatusGatewayTimeout:
		a.at.CompareAndSwap(at, at+1) // unless another request has found that out
	}
	return answer, err
}
