package loops

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
)

// What fails or panics is tried again, less and less often, and as often as ever once it went well.
func TestWorkGoesOnAfterAFault(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
		defer cancel()
		began := time.Now()
		var at []time.Duration
		work := Work{Name: "it", Every: time.Second, Within: time.Minute, Do: func(context.Context) error {
			at = append(at, time.Since(began))
			switch n := len(at); {
			case n == 1:
				return errors.New("it is away")
			case n <= 9:
				panic("one bad record")
			}
			return nil
		}}
		work.Run(ctx, clockwork.NewRealClock(), slog.New(slog.DiscardHandler))
		var gaps []float64
		for i := 1; i < min(len(at), 13); i++ {
			gaps = append(gaps, (at[i] - at[i-1]).Seconds())
		}
		assert.InDeltaSlice(t, []float64{1, 2, 4, 8, 10, 10, 10, 10, 10, 1, 1, 1}, gaps, 1)
	})
}

// A piece of work that hangs is cut off, and does not hold another up.
func TestWorkThatHangsIsCutOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second+time.Millisecond)
		defer cancel()
		hung, others := 0, 0
		var done sync.WaitGroup
		for _, w := range []Work{
			{Name: "what hangs", Every: time.Second, Within: 10 * time.Second, Do: func(ctx context.Context) error { hung++; <-ctx.Done(); return ctx.Err() }},
			{Name: "another", Every: time.Second, Within: 10 * time.Second, Do: func(context.Context) error { others++; return nil }},
		} {
			done.Go(func() { w.Run(ctx, clockwork.NewRealClock(), slog.New(slog.DiscardHandler)) })
		}
		done.Wait()
		assert.Equal(t, 30, others)
		assert.Equal(t, 3, hung)
	})
}

func TestAPanicIsAnErrorWithItsPlace(t *testing.T) {
	err := Safely(func() error { panic("one bad record") })
	assert.ErrorContains(t, err, "one bad record")
	assert.ErrorContains(t, err, "loops_test.go")
	assert.NoError(t, Safely(func() error { return nil }))
}
