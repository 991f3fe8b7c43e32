package events

import (
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/service/clock"
)

// A notification is never longer than PostgreSQL takes: where too many hosts are to be told, all are.
func TestANotificationHasAnEnd(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "one changes work:eddy", payload("one", []string{Changes, WorkOf("eddy")}))
	topics := []string{Changes}
	for n := range 3000 {
		topics = append(topics, WorkOf(fmt.Sprintf("host-%04d", n)))
	}
	assert.Equal(t, "one work changes", payload("one", topics))
	for n := range 400 {
		text := payload("one", append([]string{}, topics[:n]...))
		assert.LessOrEqual(t, len(text), longest)
		assert.True(t, n == 0 || strings.Contains(text, Changes))
	}
}

// Who waits for hosts that are no more is forgotten: those who wait still are woken, and wait again.
func TestTopicsHaveAnEnd(t *testing.T) {
	t.Parallel()
	f := New(nil, clock.Wall(), slog.New(slog.DiscardHandler))
	first := f.Wait(Changes)
	for n := range 3 * mostTopics {
		f.Wait(WorkOf(fmt.Sprint(n)))
		assert.LessOrEqual(t, len(f.waiting), mostTopics)
	}
	select {
	case <-first:
	default:
		assert.Fail(t, "nobody woke who had waited")
	}
}
