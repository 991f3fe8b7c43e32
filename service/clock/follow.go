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

const (
	// doubtful is how long a question may take to be answered at most for the answer to be of use.
	doubtful = time.Second
	// asks is how often a question is asked, at most, until an answer comes in time: one that is slow says that a machine was busy
	// just then, or that a connection had to be made; many in a row say that nobody is to be held to a time from there.
	asks = 10
)

// Ask asks what time it is there, again if an answer is late. Only late ones are an error, which changes nothing.
func (f *Following) Ask(ctx context.Context, there func(context.Context) (time.Time, error)) error {
	var took time.Duration
	for range asks {
		before := f.Clock.Now()
		now, err := there(ctx)
		if err != nil {
			return err
		}
		if took = f.Clock.Since(before); took <= doubtful {
			f.ahead.Store(int64(now.Sub(before.Add(took / 2))))
			return nil
		}
	}
	return fmt.Errorf("the database took %s to say what time it is, and over %s %d times in a row: its clock is not gone by anew",
		took.Round(time.Millisecond), doubtful, asks)
}

// Ahead is by how much the other clock is ahead of the machine's.
func (f *Following) Ahead() time.Duration { return time.Duration(f.ahead.Load()) }

// Now is the time there.
func (f *Following) Now() time.Time { return f.Clock.Now().Add(f.Ahead()) }

// Since is how long ago a time there is.
func (f *Following) Since(t time.Time) time.Duration { return f.Now().Sub(t) }

// Until is how long it is to a time there.
func (f *Following) Until(t time.Time) time.Duration { return t.Sub(f.Now()) }
