// Package teststage is what a package of the service needs around it in its own tests: a
// database, a clock that stands at six, events, and a store of pictures in memory. It knows
// only packages that know nothing of runs, so that the tests of those can use it.
package teststage

import (
	"log/slog"
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/require"
	"gocloud.dev/blob"
	"gocloud.dev/blob/memblob"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/jobs"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
)

// Six is when it begins, in UTC.
var Six = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

// Stage is the surroundings of one test.
type Stage struct {
	DB    *store.Store
	Wall  *clockwork.FakeClock // stands until the test advances it
	Clock clock.Clock          // the service's, at the pace of Wall
	Feed  *events.Feed
	Blobs *blob.Bucket
	Log   *slog.Logger
}

// New makes a stage over a database of its own.
func New(t testing.TB) Stage {
	t.Helper()
	return On(testdb.Open(t))
}

// On makes a stage over a database that is there.
func On(db *store.Store) Stage {
	s := Stage{DB: db, Wall: clockwork.NewFakeClockAt(Six), Blobs: memblob.OpenBucket(nil), Log: slog.New(slog.DiscardHandler)}
	s.Clock = clock.New(s.Wall, time.Time{}, time.Time{}, 1)
	s.Feed = events.New(db, s.Clock, s.Log)
	return s
}

// Jobs is background work that is not carried out unless the test does so.
func (s Stage) Jobs(t testing.TB) *jobs.Jobs {
	t.Helper()
	j, err := jobs.New(s.DB, jobs.Config{Name: "one"}, s.Log)
	require.NoError(t, err)
	return j
}

// Source is sources with one that is reached at an address and reckons in EUR.
func (s Stage) Source(t testing.TB, name, kind, address string) *sources.Sources {
	t.Helper()
	all, err := sources.New(s.DB, s.Clock, sources.Config{Currency: "EUR", Key: make([]byte, 32)})
	require.NoError(t, err)
	require.NoError(t, all.Put(t.Context(), stock.Source{Name: name, Kind: kind, Address: address, Card: pricing.RateCard{Currency: "EUR"}}, nil))
	return all
}
