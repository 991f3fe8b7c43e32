// Package gather does for many at once what each asks for by itself: who asks waits for a moment, and what all have asked for
// until then is done together. What fails together is done one by one, so that nobody fails for another's sake.
package gather

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
)

// ErrNoAnswer is what those are told for whom nothing was answered.
var ErrNoAnswer = errors.New("what was asked together has no answer for this one")

// Gather gathers what is asked.
type Gather[In, Out any] struct {
	moment time.Duration
	most   int
	limit  time.Duration
	do     func(ctx context.Context, all []In) ([]Out, error)

	mu  sync.Mutex
	now *batch[In, Out] // that is being gathered
}

// batch is what is done together.
type batch[In, Out any] struct {
	in   []In
	full chan struct{}
	done chan struct{}
	out  []Out
	errs []error
}

// New gathers for a moment, of the machine's own time, at most so many. Do answers each in the order in which they are given, within
// the limit.
func New[In, Out any](moment time.Duration, most int, limit time.Duration, do func(ctx context.Context, all []In) ([]Out, error)) *Gather[In, Out] {
	return &Gather[In, Out]{moment: moment, most: most, limit: limit, do: do}
}

// Do asks, and waits for the answer or for ctx. What was asked may be done even though ctx ended.
func (g *Gather[In, Out]) Do(ctx context.Context, in In) (out Out, err error) {
	if err := ctx.Err(); err != nil {
		return out, err
	}
	b, at, first := g.join(in)
	if first {
		go g.carryOut(context.WithoutCancel(ctx), b)
	}
	select {
	case <-ctx.Done():
		return out, ctx.Err()
	case <-b.done:
	}
	if err := b.errs[at]; err != nil {
		return out, err
	}
	return b.out[at], nil
}

// join adds to the batch that is being gathered, or begins one.
func (g *Gather[In, Out]) join(in In) (b *batch[In, Out], at int, first bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.now == nil {
		g.now, first = &batch[In, Out]{full: make(chan struct{}), done: make(chan struct{})}, true
	}
	b, at = g.now, len(g.now.in)
	if b.in = append(b.in, in); len(b.in) == g.most {
		g.now = nil
		close(b.full)
	}
	return b, at, first
}

func (g *Gather[In, Out]) carryOut(ctx context.Context, b *batch[In, Out]) {
	defer close(b.done)
	select {
	case <-b.full:
	case <-time.After(g.moment):
	}
	g.mu.Lock()
	if g.now == b {
		g.now = nil
	}
	g.mu.Unlock()
	b.out, b.errs = make([]Out, len(b.in)), make([]error, len(b.in))
	if out, err := g.try(ctx, b.in); err == nil {
		b.out = out
		return
	}
	for i := range b.in {
		one, err := g.try(ctx, b.in[i:i+1])
		if b.errs[i] = err; err == nil {
			b.out[i] = one[0]
		}
	}
}

// try does some together; a panic is an error.
func (g *Gather[In, Out]) try(ctx context.Context, in []In) (out []Out, err error) {
	ctx, cancel := context.WithTimeout(ctx, g.limit)
	defer cancel()
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("panic: %v", p)
		}
	}()
	if out, err = g.do(ctx, in); err == nil && len(out) != len(in) {
		err = ErrNoAnswer
	}
	return out, err
}
