package events

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
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
