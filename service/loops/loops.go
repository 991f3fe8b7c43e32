// Package loops does again and again what the service does by itself. Each piece of work has a loop of its own, so
// that one that is slow or broken holds no other up; what fails, or panics, is told and tried again after a pause
// that grows.
package loops

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"time"

	"github.com/jonboulle/clockwork"
)

// Work is what is done again and again.
type Work struct {
	Name   string        // as in: looking after Name
	Every  time.Duration // by the wall clock
	Within time.Duration // real time after which a round is cut off
	Do     func(ctx context.Context) error
}

// longest is how many times as long as between rounds the pause after faults grows at most.
const longest = 10

// Run does the work until the context ends.
func (w Work) Run(ctx context.Context, clock clockwork.Clock, log *slog.Logger) {
	ticks := clock.NewTicker(w.Every)
	defer ticks.Stop()
	var rests time.Time
	pause := w.Every
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticks.Chan():
		}
		if clock.Now().Before(rests) {
			continue
		}
		err := w.once(ctx)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			pause = w.Every
			continue
		}
		log.Warn("looking after "+w.Name, "error", err, "again_in", pause)
		rests, pause = clock.Now().Add(pause), min(2*pause, longest*w.Every)
	}
}

func (w Work) once(ctx context.Context) error {
	within, cancel := context.WithTimeout(ctx, w.Within)
	defer cancel()
	err := Safely(func() error { return w.Do(within) })
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("it was cut off after %s: %w", w.Within, err)
	}
	return err
}

// Panic is what was caught, and where.
type Panic struct {
	What  any
	Stack []byte
}

func (p *Panic) Error() string { return fmt.Sprintf("it panicked: %v\n%s", p.What, p.Stack) }

// Safely does something, and makes an error of a panic.
func Safely(do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Panic{p, debug.Stack()}
		}
	}()
	return do()
}
