package access

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/httprate"

	"rotanex.example/service/httpapi"
)

const (
	// mostFailures is how often signing in and joining may fail in a minute from one address.
	mostFailures = 20
	// mostAtOnce is how many requests of one token are answered at once, those that wait or stream among them.
	mostAtOnce = 128
	// recheck is how often a request that lasts is asked for its token again. With cacheLife it ends within five
	// seconds after its token does.
	recheck = 2 * time.Second
)

// door counts who comes in, and who fails to.
type door struct {
	failures *httprate.RateLimiter
	proxied  bool // a proxy in front says whose request it is

	mu     sync.Mutex
	inside map[int64]int // requests of each token
}

func newDoor(proxied bool) *door {
	return &door{failures: httprate.NewRateLimiter(mostFailures, time.Minute), proxied: proxied, inside: map[int64]int{}}
}

// address is where a request comes from. Of what proxies say only the last is believed: it is ours.
func (d *door) address(r *http.Request) string {
	from, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		from = r.RemoteAddr
	}
	if said := r.Header.Values("X-Forwarded-For"); d.proxied && len(said) > 0 {
		hops := strings.Split(said[len(said)-1], ",")
		from = strings.TrimSpace(hops[len(hops)-1])
	}
	return httprate.CanonicalizeIP(from)
}

func tooMany(detail string) *httpapi.Problem {
	return &httpapi.Problem{Status: http.StatusTooManyRequests, Title: "Too many requests", Detail: detail}
}

// try lets one try to get in by a secret, unless too many failed from there, and counts it if it fails.
func (d *door) try(r *http.Request, in func() error) error {
	from := d.address(r)
	if _, failed, err := d.failures.Status(from); err == nil && failed >= mostFailures {
		return tooMany(fmt.Sprintf("%d tries from %s failed within a minute: wait for one", mostFailures, from))
	}
	err := in()
	if err != nil && r.Context().Err() == nil {
		d.failures.OnLimit(httptest.NewRecorder(), r, from) // its headers are not for this answer
	}
	return err
}

// enter counts a request of a token, until it leaves.
func (d *door) enter(token int64) (leave func(), err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.inside[token] >= mostAtOnce {
		return nil, tooMany(fmt.Sprintf("%d requests of this token are being answered, and no more may be at once", mostAtOnce))
	}
	d.inside[token]++
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.inside[token]--; d.inside[token] == 0 {
			delete(d.inside, token)
		}
	}, nil
}

// while is a request's context for as long as its token is good.
func (a *Access) while(ctx context.Context, secret string) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		again := time.NewTicker(recheck)
		defer again.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-again.C:
			}
			if _, good, err := a.find(ctx, secret); err == nil && !good {
				cancel()
			}
		}
	}()
	return ctx, cancel
}
