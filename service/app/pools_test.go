package app

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/store"
)

// However many connections people hold, agents have theirs.
func TestPeopleDoNotTakeAgentsConnections(t *testing.T) {
	b := besiege(t)
	viewing := store.ForPeople(t.Context())
	full := false
	for range 100 {
		trying, cancel := context.WithTimeout(viewing, 200*time.Millisecond)
		held := b.store.WithContext(viewing)
		if b.store.WithContext(trying).Exec("SELECT 1").Error != nil {
			cancel()
			full = true
			break
		}
		cancel()
		tx := held.Begin()
		require.NoError(t, tx.Error)
		defer tx.Rollback()
	}
	require.True(t, full, "people have so many and no more")
	w := b.send(t, "agent", "POST", "/agent/heartbeat", "application/json", strings.NewReader(`{"boot":"7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b","held":[]}`), http.Header{})
	assert.Equal(t, 200, w.Code, w.Body)
}
