package httpapi

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pipes is a listener whose connections are made in the process.
type pipes chan net.Conn

func (p pipes) Accept() (net.Conn, error) {
	c, open := <-p
	if !open {
		return nil, net.ErrClosed
	}
	return c, nil
}
func (p pipes) Close() error   { return nil }
func (p pipes) Addr() net.Addr { return &net.IPAddr{} }

// dribbles sends a request whose body comes piece by piece, and says with what it was answered and after how long.
func dribbles(t *testing.T, handler http.Handler, head string, pieces int, each string, pause time.Duration) (status int, after time.Duration) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		listener := make(pipes)
		server := &http.Server{Handler: handler}
		go func() { _ = server.Serve(listener) }()
		client, conn := net.Pipe()
		listener <- conn
		began, answered := time.Now(), make(chan struct{})
		go func() {
			_, _ = io.WriteString(client, head)
			for range pieces {
				if _, err := io.WriteString(client, each); err != nil {
					return
				}
				select {
				case <-answered:
					return
				case <-time.After(pause):
				}
			}
		}()
		answer, err := http.ReadResponse(bufio.NewReader(client), nil)
		require.NoError(t, err)
		status, after = answer.StatusCode, time.Since(began)
		close(answered)
		_ = client.Close()
		close(listener)
		_ = server.Close()
		synctest.Wait()
	})
	return status, after
}

// A body has a time to arrive in, whoever sends it; one that is streamed has as long as it moves.
func TestABodyThatDribblesIsNotWaitedFor(t *testing.T) {
	contract, err := Contract()
	require.NoError(t, err)
	handler := Timed(contract(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, err := io.Copy(io.Discard, r.Body); err != nil {
			Fail(w, r, err)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})))
	head := func(method, path, kind string, length int) string {
		return fmt.Sprintf("%s /api/v1%s HTTP/1.1\r\nHost: rotanex\r\nContent-Type: %s\r\nContent-Length: %d\r\n\r\n", method, path, kind, length)
	}
	chunk := "/chunks/" + strings.Repeat("0", 64)

	status, after := dribbles(t, handler, head("POST", "/session", "application/json", 1000), 1000, " ", time.Second)
	assert.Equal(t, http.StatusRequestTimeout, status)
	assert.InDelta(t, readWithin.Seconds(), after.Seconds(), 1)

	status, after = dribbles(t, handler, head("PUT", chunk, "application/octet-stream", 1<<20), 1, "a", time.Hour)
	assert.Equal(t, http.StatusRequestTimeout, status, "nothing comes any more")
	assert.InDelta(t, still.Seconds(), after.Seconds(), 1)

	status, after = dribbles(t, handler, head("PUT", chunk, "application/octet-stream", 1<<20), 1<<20, "a", time.Second)
	assert.Equal(t, http.StatusRequestTimeout, status, "a byte a second")
	assert.InDelta(t, 2*still.Seconds(), after.Seconds(), 2)

	status, after = dribbles(t, handler, head("PUT", chunk, "application/octet-stream", 200*4096), 200, strings.Repeat("a", 4096), 2*time.Second)
	assert.Equal(t, http.StatusNoContent, status, "slowly, but it moves")
	assert.Greater(t, after, 6*time.Minute)
}
