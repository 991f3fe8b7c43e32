package events_test

import (
	"bufio"
	"context"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/testdb"
)

// Many write at once, in transactions that take their time and end out of order;
// a reader that only ever goes on from where it was sees each event once.
func TestAReaderOfEventsNeverMissesOne(t *testing.T) {
	s := testdb.Open(t)
	feed := events.New(s, clock.Wall(), slog.New(slog.DiscardHandler))
	const writers, each = 8, 40
	var writing sync.WaitGroup
	for w := range writers {
		random := rand.New(rand.NewPCG(1, uint64(w)))
		writing.Go(func() {
			for n := range each {
				assert.NoError(t, s.WithContext(t.Context()).Transaction(func(tx *gorm.DB) error {
					if err := feed.Write(tx, events.Event{Kind: events.Frame, Frame: w*each + n}); err != nil {
						return err
					}
					return tx.Exec("SELECT pg_sleep($1)", random.Float64()/200).Error
				}))
			}
		})
	}
	seen := map[string]int{}
	var position events.Position
	read := func() {
		entries, err := feed.After(t.Context(), position, nil)
		require.NoError(t, err)
		for _, e := range entries {
			seen[string(e.Data)]++
			position = e.Position
		}
	}
	done := make(chan struct{})
	go func() {
		writing.Wait()
		close(done)
	}()
	for open := true; open; {
		select {
		case <-done:
			open = false
		default:
			read()
		}
	}
	testdb.Until(t, "the last events", func() bool { read(); return len(seen) == writers*each })
	for data, times := range seen {
		assert.Equal(t, 1, times, data)
	}
	again, err := events.ParsePosition(position.String())
	require.NoError(t, err)
	assert.Equal(t, position, again)
}

// An event whose wake-up came while another transaction was open is told when that one has
// ended, though nothing wakes its readers again and the service's clock stands still.
func TestAnEventThatWasHeldBackIsTold(t *testing.T) {
	url := testdb.URL(t)
	s := testdb.Reopen(t, url)
	t.Cleanup(s.Close)
	feed := events.New(s, clock.New(clockwork.NewFakeClock(), time.Time{}, time.Time{}, 1), slog.New(slog.DiscardHandler))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		feed.Stream(w, r, api.StreamEventsParams{})
	}))
	t.Cleanup(server.Close)
	ask, err := http.NewRequestWithContext(t.Context(), http.MethodGet, server.URL, nil)
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(ask)
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()

	other := s.WithContext(t.Context()).Begin()
	require.NoError(t, other.Exec("SELECT pg_current_xact_id()").Error, "it has a number of its own, so it is waited for")
	require.NoError(t, s.WithContext(t.Context()).Transaction(func(tx *gorm.DB) error {
		return feed.Write(tx, events.Event{Kind: events.Frame, Shot: "coda-060"})
	}))
	feed.Wake(events.Changes)
	entries, err := feed.After(t.Context(), events.Position{}, nil)
	require.NoError(t, err)
	require.Empty(t, entries, "an earlier one may still come")
	require.NoError(t, other.Rollback().Error)
	for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
		if strings.Contains(lines.Text(), "coda-060") {
			return
		}
	}
	assert.Fail(t, "the stream ended")
}

// Who waits in one process is woken by another.
func TestWakeUpsCrossProcesses(t *testing.T) {
	url := testdb.URL(t)
	feeds := make([]*events.Feed, 2)
	ctx, cancel := context.WithCancel(t.Context())
	var running sync.WaitGroup
	for i := range feeds {
		s := testdb.Reopen(t, url)
		feeds[i] = events.New(s, clock.Wall(), slog.New(slog.DiscardHandler))
		running.Go(func() { feeds[i].Run(ctx); s.Close() })
	}
	woken := feeds[1].Wait(events.Work)
	testdb.Until(t, "the wake-up", func() bool {
		feeds[0].Wake(events.Work)
		select {
		case <-woken:
			return true
		case <-time.After(100 * time.Millisecond):
			return false
		}
	})
	select {
	case <-feeds[1].Wait(events.Changes):
		assert.Fail(t, "another topic was not meant")
	default:
	}
	cancel()
	running.Wait()
}
