package httpapi

import (
	"errors"
	"io"
	"net/http"
	"time"
)

// Times that a connection has. What moves may take as long as it needs; what stands still ends.
const (
	// readWithin is how long a body may take that is read whole.
	readWithin = 20 * time.Second
	// still is for how long nothing may come, or go, of what is streamed.
	still = 30 * time.Second
	// slowest is how many bytes a second a streamed body brings at least, after a first while.
	slowest = 1 << 10
)

// Timed lets no answer stand still: a client that does not take what is written to it is left.
func Timed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(&moving{w, http.NewResponseController(w)}, r)
	})
}

// moving is a writer each of whose writes has a time to be taken in.
type moving struct {
	http.ResponseWriter
	control *http.ResponseController
}

func (m *moving) Write(p []byte) (int, error) {
	_ = m.control.SetWriteDeadline(time.Now().Add(still)) // not every writer has one: a test's
	return m.ResponseWriter.Write(p)
}

func (m *moving) Flush() {
	_ = m.control.SetWriteDeadline(time.Now().Add(still))
	_ = m.control.Flush()
}

// Unwrap is for http.ResponseController.
func (m *moving) Unwrap() http.ResponseWriter { return m.ResponseWriter }

// within gives a body that is read whole a time to arrive, and takes it back when it is here: what waits for an answer then may
// wait for long.
func within(w http.ResponseWriter, read func() error) error {
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Now().Add(readWithin))
	err := read()
	if err == nil {
		_ = control.SetReadDeadline(time.Time{})
	}
	return err
}

// stream is a body that is read bit by bit: it has as long as it needs while it moves.
type stream struct {
	io.ReadCloser
	control *http.ResponseController
	began   time.Time
	bytes   int64
}

// unreadError is why a streamed body could not be read to its end: Fail tells of it, however deep it surfaces.
type unreadError struct{ error }

func (e *unreadError) Unwrap() error { return e.error }

var errDribbles = errors.New("it came too slowly: want a kilobyte a second at least")

func (s *stream) Read(p []byte) (int, error) {
	now := time.Now()
	if lasted := now.Sub(s.began); lasted > 2*still && float64(s.bytes) < slowest*lasted.Seconds() {
		_ = s.control.SetReadDeadline(now) // what is left of it is not waited for
		return 0, &unreadError{errDribbles}
	}
	_ = s.control.SetReadDeadline(now.Add(still))
	n, err := s.ReadCloser.Read(p)
	switch s.bytes += int64(n); err {
	case nil:
	case io.EOF:
		_ = s.control.SetReadDeadline(time.Time{})
	default:
		err = &unreadError{err}
	}
	return n, err
}
