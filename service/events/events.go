// Package events keeps what happened in the database and tells those who wait.
//
// An event is written in the transaction of the change that it tells of. Readers
// follow them in the order (xid, id) of the writing transaction's number and the
// row's, and read only below the oldest transaction still open: what comes later
// in that order cannot appear earlier in it. So a reader that resumes after the
// last event it saw misses none, whatever process wrote it.
//
// Wake-ups cross processes by LISTEN/NOTIFY, at most one each topic in a short
// time. They are a courtesy: who waits also looks by itself now and then. All that is
// waited for here is done by programs, so it is waited for by the machine's own time,
// also where the service's clock stands still.
package events

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"rotanex.example/service/clock"
	"rotanex.example/service/store"
)

// Topics that can be waited for.
const (
	Changes = "changes" // there are new events
	Work    = "work"    // there may be frames to lease, for anybody
)

// WorkOf is the topic of what a host alone may take: what it rendered is done, so it has room again.
func WorkOf(host string) string { return Work + ":" + host }

// mostTopics is how many topics are waited for at once.
const mostTopics = 20_000

// longest is how long a notification may be that names topics, in bytes; PostgreSQL takes 8,000.
const longest = 4000

// payload is what other processes are told: by whom, and which topics. Where those of single hosts are too many, all hosts are told.
func payload(by string, topics []string) string {
	text := strings.Join(append([]string{by}, topics...), " ")
	if len(text) <= longest {
		return text
	}
	few := slices.DeleteFunc(topics, func(t string) bool { return strings.HasPrefix(t, WorkOf("")) })
	return strings.Join(append([]string{by, Work}, few...), " ")
}

const (
	channel = "rotanex"
	// settle is how long wake-ups of one topic are gathered.
	settle = 40 * time.Millisecond
)

// Feed is the stream of events.
type Feed struct {
	store *store.Store
	clock clock.Clock
	log   *slog.Logger
	name  string // among the processes of one database: who is woken here is not woken again by what this process tells the others

	mu      sync.Mutex
	waiting map[string]chan struct{} // closed at the next wake-up of the topic
	due     map[string]bool
	signal  chan struct{}

	tailing sync.Mutex
	tail    *tail // that streams read
}

// New makes a feed. Listen must run for it to hear other processes.
func New(s *store.Store, c clock.Clock, log *slog.Logger) *Feed {
	return &Feed{store: s, clock: c, log: log, name: uuid.NewString(), waiting: map[string]chan struct{}{}, due: map[string]bool{}, signal: make(chan struct{}, 1)}
}

func (f *Feed) row(e Event) ([]any, error) {
	if e.At.IsZero() {
		e.At = f.clock.Now()
	}
	data, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	var run *string
	if e.Run != "" {
		run = &e.Run
	}
	return []any{run, string(data), e.At}, nil
}

// Wake tells those who wait for the topics, here and in other processes.
func (f *Feed) Wake(topics ...string) {
	f.mu.Lock()
	for _, t := range topics {
		f.tell(t)
		f.due[t] = true
	}
	f.mu.Unlock()
	select {
	case f.signal <- struct{}{}:
	default:
	}
}

// tell wakes who waits in this process; f.mu is held.
func (f *Feed) tell(topic string) {
	if c := f.waiting[topic]; c != nil {
		close(c)
		delete(f.waiting, topic)
	}
}

// Wait returns a channel that is closed at the next wake-up of the topic. Take it
// before looking for what is waited for.
func (f *Feed) Wait(topic string) <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	c := f.waiting[topic]
	if c == nil {
		if len(f.waiting) >= mostTopics { // of servers that are no more: whoever waits still looks once, and waits again
			for t := range f.waiting {
				f.tell(t)
			}
		}
		c = make(chan struct{})
		f.waiting[topic] = c
	}
	return c
}

// Run passes wake-ups on to and from other processes until ctx ends. It connects
// again when the database was away.
func (f *Feed) Run(ctx context.Context) {
	var both sync.WaitGroup
	both.Go(func() { f.notify(ctx) })
	both.Go(func() {
		for ctx.Err() == nil {
			if err := f.listen(ctx); err != nil && ctx.Err() == nil {
				f.log.Warn("waiting for the database", "error", err)
				pause(ctx, time.Second)
			}
		}
	})
	both.Wait()
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func (f *Feed) notify(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-f.signal:
		}
		pause(ctx, settle)
		f.mu.Lock()
		var topics []string
		for t := range f.due {
			topics = append(topics, t)
		}
		clear(f.due)
		f.mu.Unlock()
		if len(topics) > 0 && ctx.Err() == nil {
			if err := notify(f.store.WithContext(ctx), payload(f.name, topics)); err != nil {
				f.log.Debug("a wake-up was not passed on", "error", err)
			}
		}
	}
}

func (f *Feed) listen(ctx context.Context) error {
	return f.store.Listen(ctx, channel, func(payload string) {
		by, topics, _ := strings.Cut(payload, " ")
		if by == f.name {
			return
		}
		f.mu.Lock()
		defer f.mu.Unlock()
		f.tell(by) // a service of before names did not say by whom
		for topic := range strings.FieldsSeq(topics) {
			f.tell(topic)
		}
	})
}

// Position is where a reader is in the stream. The zero value is its beginning.
type Position struct{ xid, id int64 }

// String prints the position as the id of a Server-Sent Event.
func (p Position) String() string { return fmt.Sprintf("%d-%d", p.xid, p.id) }

// ParsePosition reads what String prints.
func ParsePosition(text string) (p Position, err error) {
	_, err = fmt.Sscanf(text, "%d-%d", &p.xid, &p.id)
	return p, err
}

// Entry is an event at its position.
type Entry struct {
	Position
	Run  string // "" for none
	Data json.RawMessage
}

// line is the event as a stream writes it.
func (e Entry) line() []byte { return fmt.Appendf(nil, "id: %s\ndata: %s\n\n", e.Position, e.Data) }

// Batch is the most events that are read at once.
const Batch = 1000
