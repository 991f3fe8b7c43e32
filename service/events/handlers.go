package events

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

const (
	// look is how often a stream looks for itself: a wake-up may get lost, and what was
	// written while another transaction was open can be read only when that one has ended.
	look = time.Second
	// keepAlive is how often a silent stream says a word, so that a client or a
	// proxy in between can tell that it lives.
	keepAlive = 15 * time.Second
)

// Stream serves events as Server-Sent Events.
func (f *Feed) Stream(w http.ResponseWriter, r *http.Request, params api.StreamEventsParams) {
	ctx := r.Context()
	position, err := f.Now(ctx)
	if err == nil && params.LastEventID != nil {
		last, bad := ParsePosition(*params.LastEventID)
		if bad != nil {
			err = httpapi.BadField("Last-Event-ID", *params.LastEventID, "is not the id of an event of this stream")
		}
		if last.xid <= position.xid { // else it is of the database as it was before it was restored
			position = last
		}
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	out := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	_, _ = fmt.Fprintf(w, "retry: 1000\nid: %s\n: the stream begins\n\n", position)
	_ = out.Flush()
	f.follow(ctx, position, params.Run, func(page []byte) error {
		_, err := w.Write(page)
		return errors.Join(err, out.Flush())
	})
}

// follow writes what happens after a position, of all runs or of one, until the reader is
// gone or the database is: a client resumes where it was.
func (f *Feed) follow(ctx context.Context, position Position, run *uuid.UUID, write func([]byte) error) {
	ticks := time.NewTicker(look)
	defer ticks.Stop()
	spoken := time.Now()
	for {
		woken := f.Wait(Changes)
		entries, err := f.After(ctx, position, run)
		if err != nil {
			return
		}
		var page bytes.Buffer
		for _, e := range entries {
			fmt.Fprintf(&page, "id: %s\ndata: %s\n\n", e.Position, e.Data)
			position = e.Position
		}
		if page.Len() == 0 && time.Since(spoken) >= keepAlive {
			page.WriteString(": still here\n\n")
		}
		if page.Len() > 0 {
			if write(page.Bytes()) != nil {
				return
			}
			spoken = time.Now()
		}
		if len(entries) == Batch {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-woken:
		case <-ticks.C:
		}
	}
}
