package agent

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"rotanex.example/api/client"
)

const (
	// usualPatience is how long a call may take in all that sends no picture.
	usualPatience = 5 * time.Minute
	// stands is for how long a picture may not move on its way to the service: as long as it does, it has the time that it needs.
	stands = 2 * time.Minute
)

var errStands = errors.New("the picture does not move: the service takes nothing more of it")

// calls sends requests: pictures for as long as they move, all else within a time.
type calls struct{ usual, pictures client.HttpRequestDoer }

func newCalls() calls {
	return calls{&http.Client{Timeout: usualPatience}, &http.Client{}}
}

// Do implements client.HttpRequestDoer.
func (c calls) Do(r *http.Request) (*http.Response, error) {
	if r.Method != http.MethodPut || !strings.HasSuffix(r.URL.Path, "/picture") || r.Body == nil {
		return c.usual.Do(r)
	}
	ctx, stop := context.WithCancelCause(r.Context())
	clock := time.AfterFunc(stands, func() { stop(errStands) })
	r = r.WithContext(ctx)
	r.Body = &movingBody{r.Body, clock}
	answer, err := c.pictures.Do(r)
	clock.Stop()
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, errStands) {
		err = errStands
	}
	return answer, err // its body is short, and may be read though the clock stands
}

// movingBody winds a clock up whenever more of it is asked for.
type movingBody struct {
	io.ReadCloser
	clock *time.Timer
}

func (m *movingBody) Read(b []byte) (int, error) {
	m.clock.Reset(stands)
	return m.ReadCloser.Read(b)
}
