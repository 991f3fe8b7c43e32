package e2e

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/clock"
	"rotanex.example/service/errands"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
)

// office is a service's errands over a database, which keep what they were asked to do.
type office struct {
	*errands.Errands
	store *store.Store
	mu    sync.Mutex
	done  map[string]int
	fails map[string]int // how often an errand fails first
}

func newOffice(t *testing.T, url, name string) *office {
	t.Helper()
	s, err := store.Open(t.Context(), url, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	e, err := errands.New(t.Context(), s, name, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	o := &office{Errands: e, store: s, done: map[string]int{}, fails: map[string]int{}}
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

// sends sends errands in one transaction, which ends in an error if it is to be undone.
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

func TestAnErrandIsDoneOnceItsChangeIsCommitted(t *testing.T) {
	url := database(t)
	o := newOffice(t, url, "one")
	o.sends(t, true, "never")
	o.sends(t, false, "first", "first", "second") // sent twice before it is done, it is one
	assert.Zero(t, o.times("first"), "nobody is there yet")
	o.opens(t)
	until(t, "the errands", func() bool { return o.times("first") == 1 && o.times("second") == 1 })
	until(t, "them to count as done", func() bool {
		return query[int](t, url, "SELECT count(*) FROM river_job WHERE state = 'completed'") == 2
	})
	o.sends(t, false, "first", "third")
	until(t, "another round", func() bool { return o.times("first") == 2 && o.times("third") == 1 })
	assert.Zero(t, o.times("never"), "what was undone was never sent")
}

func TestAnErrandThatFailsIsTriedUntilItIsDone(t *testing.T) {
	o := newOffice(t, database(t), "one")
	o.fails["gate"] = 2
	o.opens(t)
	o.sends(t, false, "gate", "house")
	until(t, "the other errand", func() bool { return o.times("house") == 1 })
	assert.Zero(t, o.times("gate"))
	until(t, "the one that failed", func() bool { return o.times("gate") == 1 })
}

// What a service was doing when it died is done by the same service when it is back.
func TestAnErrandOfAServiceThatDiedIsTakenUp(t *testing.T) {
	url := database(t)
	o := newOffice(t, url, "one")
	o.sends(t, false, "halfway")
	_, err := o.store.Pool.Exec(t.Context(), "UPDATE river_job SET state = 'running', attempted_at = now(), attempt = 1, attempted_by = '{one}'")
	require.NoError(t, err)
	again := newOffice(t, url, "one")
	again.opens(t)
	until(t, "the errand", func() bool { return again.times("halfway") == 1 })
}

// Of two services each errand is done by one of them.
func TestTwoServicesShareTheirErrands(t *testing.T) {
	url := database(t)
	a, b := newOffice(t, url, "a"), newOffice(t, url, "b")
	var ids []string
	for i := range 60 {
		ids = append(ids, fmt.Sprint("errand ", i))
	}
	a.sends(t, false, ids...)
	a.opens(t)
	b.opens(t)
	until(t, "all errands", func() bool {
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

// Charges are entered once each, one after another: the discount that an amount earns
// holds for the next, however many come at once.
func TestChargesThatComeTogetherEarnTheirDiscountInTurn(t *testing.T) {
	s, err := store.Open(t.Context(), database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	c := clock.Wall()
	all, err := sources.New(s, c, sources.Config{Currency: "EUR", Key: make([]byte, 32)})
	require.NoError(t, err)
	require.NoError(t, all.Put(t.Context(), stock.Source{Name: "tern", Kind: stock.RentedSource, Card: pricing.RateCard{
		Currency: "EUR", Tax: pricing.MustShare("0.20"), Steps: []pricing.Step{{From: pricing.MustMoney("50"), Off: pricing.MustShare("0.10")}},
	}}, nil))
	var group sync.WaitGroup
	for i := range 20 {
		for range 2 { // each is entered twice
			group.Go(func() {
				err := s.WithContext(t.Context()).Transaction(func(tx *gorm.DB) error {
					_, err := all.Enter(tx, sources.Charge{Source: "tern", Place: fmt.Sprint("server-", i), Metered: 3600, Amount: pricing.MustMoney("5.00")})
					return err
				})
				assert.NoError(t, err)
			})
		}
	}
	group.Wait()
	charged, err := all.Charged(t.Context(), "tern")
	require.NoError(t, err)
	assert.Equal(t, "100.00", charged.String(), "twenty charges of five, each once")
	var full, less int
	require.NoError(t, s.Pool.QueryRow(t.Context(), "SELECT count(*) FILTER (WHERE cost = 6), count(*) FILTER (WHERE cost = 5.4) FROM charges").Scan(&full, &less))
	assert.Equal(t, []int{10, 10}, []int{full, less}, "the first fifty without, the rest with a tenth off, tax on all")
	factor, err := all.Factor(t.Context(), "tern")
	require.NoError(t, err)
	assert.Zero(t, factor.Cmp(big.NewRat(108, 100)))
}

func TestAnUnknownSourceBillsInTheServicesCurrency(t *testing.T) {
	s, err := store.Open(t.Context(), database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	c := clock.Wall()
	all, err := sources.New(s, c, sources.Config{Currency: "EUR", Key: make([]byte, 32)})
	require.NoError(t, err)
	factor, err := all.Factor(t.Context(), "attic")
	require.NoError(t, err)
	assert.Zero(t, factor.Cmp(big.NewRat(1, 1)))
	_, err = all.Servers(t.Context(), "attic")
	assert.ErrorContains(t, err, "there is no way to attic")
	_, err = sources.New(s, c, sources.Config{Key: []byte("short")})
	assert.ErrorContains(t, err, "the key for secrets")
	waits, err := all.Waits(t.Context())
	require.NoError(t, err)
	assert.Empty(t, waits)
}
