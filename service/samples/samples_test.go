package samples_test

import (
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/samples"
	"rotanex.example/service/testdb"
)

func TestOldSamplesAreThinnedAndForgotten(t *testing.T) {
	s := testdb.Open(t)
	wall := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	c := clock.New(wall, time.Time{}, time.Time{}, 1)
	kept := samples.New(s, c, hosts.New(hosts.Config{Store: s, Clock: c, Beat: time.Second, Currency: "EUR", Zone: time.UTC}))
	count := func() (n int) {
		require.NoError(t, s.Raw("SELECT count(*) FROM samples").Row().Scan(&n))
		return n
	}
	for range 60 { // ten minutes, a sample every ten seconds
		require.NoError(t, kept.Keep(t.Context(), "eddy", []samples.Sample{{Device: "g0", Use: 0.5}}))
		wall.Advance(10 * time.Second)
	}
	assert.Len(t, kept.Newest(), 1)
	require.NoError(t, kept.Thin(t.Context()))
	assert.Equal(t, 60, count(), "in full while they are new")
	wall.Advance(7 * time.Hour)
	assert.Empty(t, kept.Newest(), "its agent is silent")
	require.NoError(t, kept.Thin(t.Context()))
	assert.Equal(t, 2, count(), "one in five minutes")
	wall.Advance(15 * 24 * time.Hour)
	gone, err := samples.Prune(s.DB, wall.Now().Add(-14*24*time.Hour), 10)
	require.NoError(t, err)
	assert.EqualValues(t, 2, gone)
	assert.Zero(t, count())
	require.NoError(t, kept.Keep(t.Context(), "eddy", nil), "an agent that cannot tell tells nothing")
	assert.Zero(t, count())
}
