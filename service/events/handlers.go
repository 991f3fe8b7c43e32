package events

import (
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
	last, leave, err := f.join(ctx)
	if err != nil {
		return
	}
	defer leave()
	of := ""
	if run != nil {
		of = run.String()
	}
	alive := time.NewTicker(keepAlive)
	defer alive.Stop()
	for {
		page, to, more, whole, err := last.after(position, of)
		if err == nil && !whole {
			page, to, err = f.catchUp(ctx, last.reached(), position, run)
		}
		if err == nil && len(page) > 0 {
			alive.Reset(keepAlive)
			err = write(page)
		}
		if err != nil {
			return
		}
		position = to
		if !whole {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-more:
		case <-alive.C:
			if write([]byte(": still here\n\n")) != nil {
				return
			}
		}
	}
}

// catchUp reads what came after a position and is older than what all streams read together, which has come to reached.
func (f *Feed) catchUp(ctx context.Context, reached, position Position, run *uuid.UUID) (page []byte, to Position, err error) {
	entries, err := f.After(ctx, position, run)
	for _, e := range entries {
		page, position = append(page, e.line()...), e.Position
	}
	if len(entries) < Batch && position.compare(reached) < 0 { // that was all up to there
		position = reached
	}
	return page, position, err
}
