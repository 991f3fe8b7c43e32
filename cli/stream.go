package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// follow sends the events of a run until ctx ends. After a break it goes on where
// it was, so none is missed.
func follow(ctx context.Context, c *client.Client, run uuid.UUID) <-chan api.Event {
	out := make(chan api.Event, 256)
	go func() {
		defer close(out)
		last := ""
		for ctx.Err() == nil {
			answer, err := c.StreamEvents(ctx, &api.StreamEventsParams{Run: &run, LastEventID: some(last)})
			if err := client.Check(answer, err); err == nil {
				last = read(ctx, answer, last, out)
			}
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}()
	return out
}

// read passes on the events of one connection and returns the id of the last.
func read(ctx context.Context, answer *http.Response, last string, out chan<- api.Event) string {
	defer func() { _ = answer.Body.Close() }()
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 1<<20)
	next := last
	for lines.Scan() {
		if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			next = id
		}
		if lines.Text() == "" { // the message is whole: only now it counts as heard
			last = next
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e api.Event
		if json.Unmarshal(cleanJSON([]byte(data)), &e) != nil {
			continue
		}
		select {
		case <-ctx.Done():
			return last
		case out <- e:
		}
	}
	return last
}
