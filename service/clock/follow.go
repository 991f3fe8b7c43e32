package clock

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/jonboulle/clockwork"
)

// Following is a wall clock that goes by another one, the database's, so that services on machines whose clocks differ agree on
// when a lease ends. Its timers are the machine's own.
type Following struct {
	clockwork.Clock

	ahead atomic.Int64 // nanoseconds by which the other clock is ahead of the machine's
}

// Follow makes one over the machine's clock, which it is until Ask was answered.
func Follow(own clockwork.Clock) *Following { return &Following{Clock: own} }

// doubtful is how long a question may take to be answered at most for the answer to be of use.
const doubtful = time.Second

// Ask asks what time it is there. What took long to be answered is an error, and changes nothing.
func (f *Following) Ask(ctx context.Context, there func(context.Context) (time.Time, error)) error {
	before := f.Clock.Now()
	now, err := there(ctx)
	if err != nil {
		return err
	}
	took := f.Clock.Since(before)
	if took > doubtful {
		return fmt.Errorf("the database took %s to say what time it is: its clock is not gone by anew", took.Round(time.Millisecond))
	}
	f.ahead.Store(int64(now.Sub(before.Add(took / 2))))
	return nil
}

// Ahead is by how much the other clock is ahead of the machine's.
func (f *Following) Ahead() time.Duration { return time.Duration(f.ahead.Load()) }

// Now is the time there.
func (f *Following) Now() time.Time { return f.Clock.Now().Add(f.Ahead()) }

// Since is how long ago a time there is.
func (f *Following) Since(t time.Time) time.Duration { return f.Now().Sub(t) }

// Until is how long it is to a time there.
func (f *Following) Until(t time.Time) time.Duration { return t.Sub(f.Now()) }
