package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// listener hears the events of a run.
type listener struct {
	mu     sync.Mutex
	frames map[int]int // how often each was said to be done
	last   string
	cancel context.CancelFunc
	ended  chan struct{} // closed when it hears no more
}

func (l *listener) done() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.frames)
}

func (l *listener) position() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last
}

// hear listens from now on.
func (h *house) hear(run api.Run) *listener {
	return h.hearAfter(run, nil, map[int]int{})
}

func (h *house) hearAfter(run api.Run, last *string, frames map[int]int) *listener {
	h.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	h.t.Cleanup(cancel)
	answer, err := h.admin().StreamEvents(ctx, &api.StreamEventsParams{Run: &run.Id, LastEventID: last})
	require.NoError(h.t, client.Check(answer, err))
	require.Equal(h.t, "text/event-stream", answer.Header.Get("Content-Type"))
	l := &listener{frames: frames, cancel: cancel, ended: make(chan struct{})}
	go l.read(answer)
	return l
}

func (l *listener) read(answer *http.Response) {
	defer close(l.ended)
	defer func() { _ = answer.Body.Close() }()
	lines, next := bufio.NewScanner(answer.Body), ""
	for lines.Scan() {
		id, isID := strings.CutPrefix(lines.Text(), "id: ")
		data, isData := strings.CutPrefix(lines.Text(), "data: ")
		l.mu.Lock()
		if isID {
			next = id
		}
		if lines.Text() == "" { // the message is whole
			l.last = next
		}
		var e api.Event
		if isData && json.Unmarshal([]byte(data), &e) == nil && e.Kind == api.EventKindFrame && e.State == "done" {
			l.frames[e.Frame]++
		}
		l.mu.Unlock()
	}
}

func TestAListenerThatWasAwayMissesNothing(t *testing.T) {
	h, clock, one, two, run := playedHouse(t, "1-12")
	take := func() {
		t.Helper()
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				a.deliver(l)
			}
		}
	}
	first := h.hear(run)
	take()
	h.until("the first frames to be heard of", func() bool { clock.Advance(time.Second); return first.done() > 0 })
	first.cancel()
	<-first.ended
	before := first.done()
	for h.run(run).Counts.Waiting > 4 { // nobody listens
		take()
	}
	position := first.position()
	second := h.hearAfter(run, &position, map[int]int{})
	for h.run(run).Counts.Waiting > 0 {
		take()
	}
	h.until("the rest to be heard of", func() bool { clock.Advance(time.Second); return second.done() == 12-before })
	second.mu.Lock()
	defer second.mu.Unlock()
	for frame, times := range second.frames {
		assert.Equal(t, 1, times, "frame %d", frame)
	}
	bad := "tomorrow"
	refused(t, http.StatusUnprocessableEntity)(h.admin().StreamEvents(t.Context(), &api.StreamEventsParams{LastEventID: &bad}))
}
