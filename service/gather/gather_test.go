package gather

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var errOdd = errors.New("odd")

// twice doubles numbers, and fails where one is odd; it panics at 13.
type twice struct {
	mu    sync.Mutex
	calls [][]int
}

func (d *twice) do(_ context.Context, all []int) ([]int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.calls = append(d.calls, all)
	out := make([]int, len(all))
	for i, n := range all {
		if n == 13 {
			panic("thirteen")
		}
		if n%2 == 1 {
			return nil, errOdd
		}
		out[i] = 2 * n
	}
	return out, nil
}

// ask asks for numbers, all at once.
func ask(t *testing.T, g *Gather[int, int], numbers ...int) ([]int, []error) {
	out, errs := make([]int, len(numbers)), make([]error, len(numbers))
	var all sync.WaitGroup
	for i, n := range numbers {
		all.Go(func() { out[i], errs[i] = g.Do(t.Context(), n) })
	}
	all.Wait()
	return out, errs
}

func TestWhatIsAskedAtOnceIsDoneTogether(t *testing.T) {
	t.Parallel()
	var d twice
	out, errs := ask(t, New(time.Hour, 4, time.Minute, d.do), 2, 4, 6, 8, 10, 12, 14, 16)
	assert.Equal(t, []int{4, 8, 12, 16, 20, 24, 28, 32}, out)
	assert.Equal(t, make([]error, 8), errs)
	assert.Len(t, d.calls, 2, "a full batch waits for nobody")
	out, _ = ask(t, New(time.Millisecond, 4, time.Minute, d.do), 2)
	assert.Equal(t, []int{4}, out, "nor does one wait for ever for others")
}

func TestNobodyFailsForAnothersSake(t *testing.T) {
	t.Parallel()
	var d twice
	out, errs := ask(t, New(time.Hour, 4, time.Minute, d.do), 2, 3, 4, 13)
	assert.Equal(t, []int{4, 0, 8, 0}, out)
	require.ErrorIs(t, errs[1], errOdd)
	require.ErrorContains(t, errs[3], "thirteen")
	assert.NoError(t, errs[0])
	assert.NoError(t, errs[2])

	short := New(time.Hour, 2, time.Minute, func(context.Context, []int) ([]int, error) { return nil, nil })
	_, errs = ask(t, short, 2, 4)
	assert.Equal(t, []error{ErrNoAnswer, ErrNoAnswer}, errs)
}

func TestWhoIsGoneIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	asked, answer := make(chan struct{}), make(chan struct{})
	g := New(time.Hour, 2, time.Minute, func(ctx context.Context, all []int) ([]int, error) {
		close(asked)
		<-answer
		return all, ctx.Err()
	})
	leaving, leave := context.WithCancel(t.Context())
	var both sync.WaitGroup
	var first error
	var second int
	both.Go(func() { _, first = g.Do(leaving, 1) })
	both.Go(func() {
		n, err := g.Do(t.Context(), 2)
		assert.NoError(t, err)
		second = n
	})
	<-asked
	leave()
	close(answer)
	both.Wait()
	assert.Equal(t, 2, second, "the other has its answer")
	if first != nil {
		require.ErrorIs(t, first, context.Canceled)
	}
	_, err := g.Do(leaving, 3)
	assert.ErrorIs(t, err, context.Canceled)
}
