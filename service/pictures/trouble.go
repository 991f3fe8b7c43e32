package pictures

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"rotanex.example/service/httpapi"
)

// rests is for how long nothing is fetched for a store that takes nothing.
const rests = 15 * time.Second

// trouble is what is the matter with the store, as was found by writing to it.
type trouble struct {
	now func() time.Time

	mu   sync.Mutex
	what string // "" for nothing
	at   time.Time
}

// Trouble is why the store takes no pictures; "" if it does, as far as is known.
func (p *Pictures) Trouble() string {
	p.trouble.mu.Lock()
	defer p.trouble.mu.Unlock()
	return p.trouble.what
}

// Rests reports whether the store took nothing a moment ago, so that what can wait is not sent to it.
func (p *Pictures) Rests() bool {
	p.trouble.mu.Lock()
	defer p.trouble.mu.Unlock()
	return p.trouble.what != "" && p.trouble.now().Sub(p.trouble.at) < rests
}

// wrote notes how writing to the store went, and makes of a fault a problem that says whose it is. Who gave up is no fault.
func (p *Pictures) wrote(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return err
	}
	p.trouble.mu.Lock()
	defer p.trouble.mu.Unlock()
	if err == nil {
		p.trouble.what = ""
		return nil
	}
	p.trouble.what, p.trouble.at = fmt.Sprintf("the store of pictures cannot be written to: %v", err), p.trouble.now()
	return &httpapi.Problem{Status: http.StatusServiceUnavailable, Title: "Pictures cannot be stored", Detail: p.trouble.what}
}

// sent is a body that remembers whether it could not be read.
type sent struct {
	io.Reader
	err error
}

func (s *sent) Read(b []byte) (int, error) {
	n, err := s.Reader.Read(b)
	if err != nil && err != io.EOF {
		s.err = err
	}
	return n, err
}
