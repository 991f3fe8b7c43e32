package clock_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/clock"
)

// Two machines whose clocks are a minute apart agree, to half of what the question took.
func TestClocksThatFollowOneAgree(t *testing.T) {
	six := time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)
	right, fast := clockwork.NewFakeClockAt(six), clockwork.NewFakeClockAt(six.Add(time.Minute))
	a, b := clock.Follow(right), clock.Follow(fast)
	there := func(takes time.Duration, fault error) func(context.Context) (time.Time, error) {
		return func(context.Context) (time.Time, error) {
			right.Advance(takes / 2)
			fast.Advance(takes / 2)
			now := right.Now()
			right.Advance(takes / 2)
			fast.Advance(takes / 2)
			return now, fault
		}
	}
	require.NoError(t, a.Ask(t.Context(), there(20*time.Millisecond, nil)))
	require.NoError(t, b.Ask(t.Context(), there(20*time.Millisecond, nil)))
	assert.Equal(t, a.Now(), b.Now())
	assert.Equal(t, -time.Minute, b.Ahead())
	assert.Equal(t, time.Minute, b.Since(right.Now().Add(-time.Minute)))
	assert.Equal(t, time.Minute, b.Until(right.Now().Add(time.Minute)))

	late := 3
	require.NoError(t, a.Ask(t.Context(), func(ctx context.Context) (time.Time, error) {
		if late--; late > 0 {
			return there(1100*time.Millisecond, nil)(ctx)
		}
		return there(20*time.Millisecond, nil)(ctx)
	}), "an answer that is late is asked for again")
	assert.Equal(t, right.Now(), a.Now())

	require.ErrorContains(t, b.Ask(t.Context(), there(2*time.Second, nil)), "took 2s")
	require.Error(t, b.Ask(t.Context(), there(0, errors.New("away"))))
	assert.Equal(t, -time.Minute, b.Ahead(), "it goes by what it was told before")
}
