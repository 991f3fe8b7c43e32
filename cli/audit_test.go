package cli

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

func TestWhatAnAuditRecordSays(t *testing.T) {
	r := api.AuditRecord{Before: map[string]any{"state": "running", "gone": 1.0}, After: map[string]any{"state": "paused", "name": strings.Repeat("x", 100)}}
	assert.Equal(t, []string{"gone: 1, no more", "name: " + strings.Repeat("x", 100), "state: running → paused"}, changes(r))
	assert.Equal(t, "gone: 1, no more; name: "+strings.Repeat("x", 65)+"…", changeCell(r).text)
	assert.Len(t, changeCell(r).plain[0], 151)
}

func TestATimeThatWas(t *testing.T) {
	now := time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)
	at, err := pastTime("24h", now)
	require.NoError(t, err)
	assert.Equal(t, now.Add(-24*time.Hour), *at)
	at, err = pastTime("2031-03-07T12:00:00Z", now)
	require.NoError(t, err)
	assert.Equal(t, now.Add(-6*time.Hour), *at)
	_, err = pastTime("yesterdayish", now)
	assert.ErrorContains(t, err, `time "yesterdayish": want for example 24h (ago)`)
}
