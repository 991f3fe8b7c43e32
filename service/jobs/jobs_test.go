package jobs_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/service/jobs"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
)

// office is a service's jobs over a database, which keep what they were asked to do.
type office struct {
	*jobs.Jobs
	store *store.Store
	mu    sync.Mutex
	done  map[string]int
	fails map[string]int // how often a job fails first
}

func newOffice(t *testing.T, url, name string) *office {
	t.Helper()
	s := testdb.Reopen(t, url)
	t.Cleanup(s.Close)
	e, err := jobs.New(s, jobs.Config{Name: name}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	o := &office{Jobs: e, store: s, done: map[string]int{}, fails: map[string]int{}}
	e.On("go", func(_ context.Context, id string) error {
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.fails[id] > 0 {
			o.fails[id]--
			return errors.New("nobody was there")
		}
		o.done[id]++
		return nil
	})
	return o
}

func (o *office) opens(t *testing.T) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.WithoutCancel(t.Context()))
	require.NoError(t, o.Start(ctx))
	t.Cleanup(func() { _ = o.Stop(ctx); cancel() })
}

func (o *office) times(id string) int {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.done[id]
}

// sends sends jobs in one transaction, which ends in an error if it is to be undone.
func (o *office) sends(t *testing.T, undone bool, ids ...string) {
	t.Helper()
	no := errors.New("undone")
	err := o.store.WithContext(t.Context()).Transaction(func(tx *gorm.DB) error {
		for _, id := range ids {
			if err := o.Send(t.Context(), tx, "go", id); err != nil {
				return err
			}
		}
		if undone {
			return no
		}
		return nil
	})
	if undone {
		require.ErrorIs(t, err, no)
		return
	}
	require.NoError(t, err)
}

func TestAJobIsDoneOnceItsChangeIsCommitted(t *testing.T) {
	url := testdb.URL(t)
	o := newOffice(t, url, "one")
	o.sends(t, true, "never")
	o.sends(t, false, "first", "first", "second") // sent twice before it is done, it is one
	assert.Zero(t, o.times("first"), "nobody is there yet")
	o.opens(t)
	testdb.Until(t, "the jobs", func() bool { return o.times("first") == 1 && o.times("second") == 1 })
	testdb.Until(t, "them to count as done", func() bool {
		var n int
		require.NoError(t, o.store.Raw("SELECT count(*) FROM river_job WHERE state = 'completed'").Row().Scan(&n))
		return n == 2
	})
	o.sends(t, false, "first", "third")
	testdb.Until(t, "another round", func() bool { return o.times("first") == 2 && o.times("third") == 1 })
	assert.Zero(t, o.times("never"), "what was undone was never sent")
}

func TestAJobThatFailsIsTriedUntilItIsDone(t *testing.T) {
	o := newOffice(t, testdb.URL(t), "one")
	o.fails["gate"] = 2
	o.opens(t)
	o.sends(t, false, "gate", "house")
	testdb.Until(t, "the other job", func() bool { return o.times("house") == 1 })
	assert.Zero(t, o.times("gate"))
	testdb.Until(t, "the one that failed", func() bool { return o.times("gate") == 1 })
}

// What a service was doing when it died is done by the same service when it is back.
func TestAJobOfAServiceThatDiedIsTakenUp(t *testing.T) {
	url := testdb.URL(t)
	o := newOffice(t, url, "one")
	o.sends(t, false, "halfway")
	require.NoError(t, o.store.Exec("UPDATE river_job SET state = 'running', attempted_at = now(), attempt = 1, attempted_by = '{one}'").Error)
	again := newOffice(t, url, "one")
	again.opens(t)
	testdb.Until(t, "the job", func() bool { return again.times("halfway") == 1 })
}

// Of two services each job is done by one of them.
func TestTwoServicesShareTheirJobs(t *testing.T) {
	url := testdb.URL(t)
	a, b := newOffice(t, url, "a"), newOffice(t, url, "b")
	var ids []string
	for i := range 60 {
		ids = append(ids, fmt.Sprint("job ", i))
	}
	a.sends(t, false, ids...)
	a.opens(t)
	b.opens(t)
	testdb.Until(t, "all jobs", func() bool {
		n := 0
		for _, id := range ids {
			n += a.times(id) + b.times(id)
		}
		return n >= len(ids)
	})
	for _, id := range ids {
		assert.Equal(t, 1, a.times(id)+b.times(id), id)
	}
}

// A kind that a service does not know is left for a newer one.
func TestAJobOfAnUnknownKindIsLeftForANewerService(t *testing.T) {
	t.Parallel()
	url := testdb.URL(t)
	old := newOffice(t, url, "old")
	old.opens(t)
	require.NoError(t, old.store.Transaction(func(tx *gorm.DB) error { return old.Send(t.Context(), tx, "dance", "a") }))
	var state string
	testdb.Until(t, "the old one to leave it", func() bool {
		require.NoError(t, old.store.Raw("SELECT state FROM river_job WHERE args->>'what' = 'dance'").Row().Scan(&state))
		return state == "scheduled"
	})
	require.NoError(t, old.store.Exec("UPDATE river_job SET created_at = now() - interval '8 days', state = 'available', scheduled_at = now() WHERE args->>'what' = 'dance'").Error)
	testdb.Until(t, "what nobody does to be dropped", func() bool {
		require.NoError(t, old.store.Raw("SELECT state FROM river_job WHERE args->>'what' = 'dance'").Row().Scan(&state))
		return state == "cancelled"
	})
}
