package e2e

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
)

// company is a rented source played by hand: it lets servers that do nothing, and
// runs their meters by a clock. What goes wrong on the way is told call by call.
type company struct {
	*httptest.Server
	now    func() time.Time
	offers map[string]stock.Offer

	mu      sync.Mutex
	servers map[string]*let
	names   []string
	calls   int
	trouble map[int]string // of the n-th call, or of 0, which is all: before, after, half, twice
	failing int            // how many calls more are refused
	onCall  func(n int)    // before the n-th call is looked at
}

type let struct {
	providers.Order
	began   time.Time
	stopped time.Time
}

func newCompany(t *testing.T, now func() time.Time, offers ...stock.Offer) *company {
	c := &company{now: now, offers: map[string]stock.Offer{}, servers: map[string]*let{}, trouble: map[int]string{}}
	for _, o := range offers {
		c.offers[o.Name] = o
	}
	c.Server = httptest.NewServer(http.HandlerFunc(c.serve))
	t.Cleanup(c.Close)
	return c
}

// fails refuses the next n calls.
func (c *company) fails(n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.failing = n
}

// last is the newest order.
func (c *company) last() providers.Order {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.servers[c.names[len(c.names)-1]].Order
}

// counts says how many servers were made, and how many of them are stopped.
func (c *company) counts() (made, stopped int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.servers {
		if !s.stopped.IsZero() {
			stopped++
		}
	}
	return len(c.servers), stopped
}

// charged is what all meters say.
func (c *company) charged() pricing.Money {
	c.mu.Lock()
	defer c.mu.Unlock()
	var sum pricing.Money
	for _, name := range c.names {
		sum = sum.Plus(*c.status(name).Charge)
	}
	return sum
}

func (c *company) status(name string) providers.Server {
	s := c.servers[name]
	end, state := c.now(), providers.Up
	if !s.stopped.IsZero() {
		end, state = s.stopped, providers.Stopped
	}
	charge := c.offers[s.Offer].Meter().Charge(end.Sub(s.began))
	return providers.Server{Name: name, Owner: s.Owner, Offer: s.Offer, State: state, Metered: end.Sub(s.began).Seconds(), Charge: &charge}
}

func (c *company) serve(w http.ResponseWriter, r *http.Request) {
	listing := r.URL.Path == "/servers"
	c.mu.Lock()
	if !listing {
		c.calls++
	}
	n, trouble, hook := c.calls, c.trouble[c.calls], c.onCall
	if all := c.trouble[0]; all != "" {
		trouble = all
	}
	if c.failing > 0 && !listing {
		c.failing--
		trouble = "before"
	}
	c.mu.Unlock()
	if listing {
		trouble = ""
	} else if hook != nil {
		hook(n)
	}
	switch trouble {
	case "before":
		http.Error(w, "not now", http.StatusServiceUnavailable)
		return
	case "after": // it is done, and the answer gets lost
		c.answer(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	case "half":
		c.answer(httptest.NewRecorder(), r)
		w.Header().Set("Content-Length", "1000")
		_, _ = w.Write([]byte(`{"name":`))
		panic(http.ErrAbortHandler)
	case "twice":
		body := map[string]any{}
		_ = json.NewDecoder(r.Body).Decode(&body)
		data, _ := json.Marshal(body)
		for range 2 {
			again := httptest.NewRequest(r.Method, r.URL.String(), strings.NewReader(string(data)))
			c.answer(httptest.NewRecorder(), again)
		}
		r = httptest.NewRequest(r.Method, r.URL.String(), strings.NewReader(string(data)))
	}
	c.answer(w, r)
}

func (c *company) answer(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	if len(path) == 1 {
		out := []providers.Server{}
		for _, name := range c.names {
			if c.servers[name].Owner == r.URL.Query().Get("owner") {
				out = append(out, c.status(name))
			}
		}
		_ = json.NewEncoder(w).Encode(out)
		return
	}
	name := path[1]
	if r.Method == http.MethodPut && path[0] == "servers" {
		if c.servers[name] == nil {
			s := &let{began: c.now()}
			_ = json.NewDecoder(r.Body).Decode(&s.Order)
			c.servers[name] = s
			c.names = append(c.names, name)
		} else {
			_ = json.NewDecoder(r.Body).Decode(&c.servers[name].Order)
		}
		return
	}
	s := c.servers[name]
	if s == nil {
		http.Error(w, "there is none", http.StatusNotFound)
		return
	}
	switch {
	case r.Method == http.MethodGet:
		_ = json.NewEncoder(w).Encode(c.status(name))
	case s.stopped.IsZero():
		s.stopped = c.now()
	}
}

// putSource stores a source that bills in the service's own currency.
func (h *house) putSource(name, kind, address string) {
	h.t.Helper()
	must[api.Source](h.t)(h.admin().PutSource(h.t.Context(), name, api.NewSource{Spec: api.SourceSpec{
		Name: name, Kind: api.SourceSpecKind(kind), Address: address, Card: api.RateCard{Currency: "EUR"},
	}}))
	require.NotNil(h.t, h.service)
}
