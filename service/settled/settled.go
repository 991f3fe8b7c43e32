// Package settled keeps what was worked out of runs that are over and whose meters are closed: written down once, so that a look at a
// past run, or at hundreds of them, is a look at what was written, in a service that has only just started too. Of runs that go on it is
// kept for a moment, so that a hundred who look at one at about the same time are one look.
package settled

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"rotanex.example/service/clock"
	"rotanex.example/service/loops"
	"rotanex.example/service/store"
)

// Run is the record of a run. What is kept of one holds as long as its record is the same, and it is not charged once more.
type Run interface {
	Ended() (run uuid.UUID, at *time.Time)
}

// Kept is one thing that is worked out of each run. It may be used by many at once.
type Kept[T any] struct {
	store *store.Store
	clock clock.Clock
	part  string
	form  string
	read  *lru.Cache[uuid.UUID, sealed[T]] // those that were looked at last

	flights singleflight.Group
	fresh   atomic.Int64                        // what was worked out for another number does not count
	lately  *lru.Cache[uuid.UUID, momentary[T]] // of runs that go on
}

// momentary is what was worked out of a run that goes on, and when that was begun.
type momentary[T any] struct {
	of string
	at time.Time
	sealed[T]
}

// sealed is what is kept of a run; the seal says what it was worked out of.
type sealed[T any] struct {
	seal string
	what T
}

const (
	// After is for how long a run is over before anything of it is kept: a frame that was in hand as it ended has come back by then,
	// or been lost.
	After = 10 * time.Minute
	// Moment is for how long what was worked out of a run that goes on is shown. Who hears that something changed looks later than that.
	Moment = 250 * time.Millisecond
	// patience is how long working something out may take: those who wait for it may be others than who asked first.
	patience = 30 * time.Second
	// inMemory is of how many runs at once what is kept is in memory too.
	inMemory = 500
)

// New makes it. The part is its name in the database; way is another number for each way in which it is worked out. What was worked out in
// another way, or of which the type had other fields, counts as not kept.
func New[T any](s *store.Store, c clock.Clock, part string, way int) *Kept[T] {
	read, _ := lru.New[uuid.UUID, sealed[T]](inMemory) // fails for sizes below one
	lately, _ := lru.New[uuid.UUID, momentary[T]](inMemory / 10)
	return &Kept[T]{store: s, clock: c, part: part, lately: lately, form: fmt.Sprint(way, shape(reflect.TypeFor[T](), nil)), read: read}
}

// shape is what a type consists of, however deep, as far as it is written as JSON.
func shape(t reflect.Type, within []reflect.Type) string {
	if slices.Contains(within, t) {
		return t.Name()
	}
	within = append(within, t)
	switch t.Kind() {
	case reflect.Struct:
		out := t.Name()
		for f := range t.Fields() {
			if f.IsExported() {
				out += " " + f.Name + "|" + f.Tag.Get("json") + "|" + shape(f.Type, within)
			}
		}
		return "{" + out + "}"
	case reflect.Slice, reflect.Array, reflect.Pointer:
		return t.Kind().String() + " " + shape(t.Elem(), within)
	case reflect.Map:
		return "map " + shape(t.Key(), within) + " " + shape(t.Elem(), within)
	}
	return t.Kind().String()
}

// All is what is worked out of each of the runs, in their order. Of those that are over for long enough it is read, with two
// statements however many they are; where it is not kept yet it is worked out, and kept if it will not change any more.
func All[R Run, T any](ctx context.Context, k *Kept[T], runs []R, workOut func(context.Context, R) (what T, final bool, err error)) ([]T, error) {
	seals, err := seals(ctx, k, runs)
	if err != nil {
		return nil, err
	}
	kept, err := k.find(ctx, seals)
	if err != nil {
		return nil, err
	}
	out := make([]T, len(runs))
	for i, run := range runs {
		id, _ := run.Ended()
		was, known := kept[id]
		if !known {
			if was, err = now(ctx, k, run, seals[id], workOut); err != nil {
				return nil, err
			}
		}
		out[i] = was
	}
	return out, nil
}

// now works something out of a run, once for all who ask at about the same time, and keeps it under its seal if it will not change.
func now[R Run, T any](ctx context.Context, k *Kept[T], run R, seal string, workOut func(context.Context, R) (what T, final bool, err error)) (what T, err error) {
	id, _ := run.Ended()
	record, err := json.Marshal(run)
	if err != nil {
		return what, err
	}
	of := fmt.Sprint(k.fresh.Load(), " ", string(record))
	began := k.clock.WallNow()
	if was, ok := k.lately.Get(id); ok && was.of == of {
		if age := began.Sub(was.at); age > 0 && age < Moment { // of a clock that stands nothing is kept
			return was.what, nil
		}
	}
	flight := k.flights.DoChan(id.String()+of, func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
		defer cancel()
		var what T
		err := loops.Safely(func() (err error) { // a panic here would not be that of one request
			var final bool
			if what, final, err = workOut(ctx, run); err == nil && final && seal != "" {
				err = k.keep(ctx, id, seal, what)
			}
			return err
		})
		if err == nil {
			k.lately.Add(id, momentary[T]{of, began, sealed[T]{seal, what}})
		}
		return what, err
	})
	select {
	case <-ctx.Done():
		return what, ctx.Err()
	case done := <-flight:
		if done.Err != nil {
			return what, done.Err
		}
		return done.Val.(T), nil
	}
}

// Fresh has what is worked out from now on hold nothing from before: something was changed by who may look next.
func (k *Kept[T]) Fresh() { k.fresh.Add(1) }

// One is All of one run.
func One[R Run, T any](ctx context.Context, k *Kept[T], run R, workOut func(context.Context, R) (what T, final bool, err error)) (what T, err error) {
	all, err := All(ctx, k, []R{run}, workOut)
	if err != nil {
		return what, err
	}
	return all[0], nil
}

// seals are those of the runs that are over for long enough.
func seals[R Run, T any](ctx context.Context, k *Kept[T], runs []R) (map[uuid.UUID]string, error) {
	over := map[uuid.UUID]R{}
	var ids []uuid.UUID
	for _, run := range runs {
		if id, at := run.Ended(); at != nil && k.clock.Now().Sub(*at) >= After {
			over[id] = run
			ids = append(ids, id)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	charges, err := k.charges(ctx, ids)
	if err != nil {
		return nil, err
	}
	out := map[uuid.UUID]string{}
	for id, run := range over {
		text, err := json.Marshal(run)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(fmt.Appendf(text, " %d %s", charges[id], k.form))
		out[id] = hex.EncodeToString(sum[:16])
	}
	return out, nil
}

// find is what is kept under seals.
func (k *Kept[T]) find(ctx context.Context, seals map[uuid.UUID]string) (map[uuid.UUID]T, error) {
	out := map[uuid.UUID]T{}
	var unread []uuid.UUID
	for run, seal := range seals {
		if was, ok := k.read.Get(run); ok && was.seal == seal {
			out[run] = was.what
		} else {
			unread = append(unread, run)
		}
	}
	if len(unread) == 0 {
		return out, nil
	}
	stored, err := k.stored(ctx, unread)
	for run, s := range stored {
		if s.seal == seals[run] {
			out[run] = s.what
			k.read.Add(run, s)
		}
	}
	return out, err
}

// keep writes down what was worked out of a run, in the place of what was kept of it before.
func (k *Kept[T]) keep(ctx context.Context, run uuid.UUID, seal string, what T) error {
	s := sealed[T]{seal, what}
	if err := k.write(ctx, run, s); err != nil {
		return err
	}
	k.read.Add(run, s)
	return nil
}

// Sweeper has what runs came to written down, whoever looks at them or not.
type Sweeper struct {
	store  *store.Store
	clock  clock.Clock
	settle []func(ctx context.Context, run uuid.UUID) error
	before time.Time // the round has come to runs that ended before; zero: it begins
	failed map[uuid.UUID]failure
	round  int
}

// failure is that a run could not be read: it is tried again after ever longer.
type failure struct {
	wait  time.Duration
	until time.Time // of the wall's clock
	round int       // in which it was seen last
}

// longest is after how long a run is tried again at most that cannot be read.
const longest = 24 * time.Hour

const (
	atOnce = 20               // runs that are looked for at once
	within = 20 * time.Second // a round begins no more runs after that
)

// NewSweeper makes it, of what writes one run's down if it is settled.
func NewSweeper(s *store.Store, c clock.Clock, settle ...func(ctx context.Context, run uuid.UUID) error) *Sweeper {
	return &Sweeper{store: s, clock: c, settle: settle, failed: map[uuid.UUID]failure{}}
}

// Sweep has runs written down, the latest first, as far as it comes within its time. Those that are not settled yet are looked at again
// after the oldest.
func (s *Sweeper) Sweep(ctx context.Context) (err error) {
	if s.before.IsZero() {
		s.before = s.clock.Now().Add(-After)
	}
	for began := s.clock.WallNow(); s.clock.WallNow().Sub(began) < within; {
		err = errors.Join(err, s.some(ctx))
		if s.before.IsZero() || ctx.Err() != nil {
			break
		}
	}
	return err
}

// some has some more runs written down.
func (s *Sweeper) some(ctx context.Context) (err error) {
	runs, last, err := unsettled(s.store.WithContext(ctx), s.before, atOnce)
	for _, run := range runs { // one that cannot be read holds no other up
		err = errors.Join(err, s.one(ctx, run))
	}
	if s.before = last; len(runs) < atOnce && ctx.Err() == nil {
		s.before = time.Time{}
		maps.DeleteFunc(s.failed, func(_ uuid.UUID, f failure) bool { return f.round < s.round }) // it is written down, or gone
		s.round++
	}
	return err
}

// one has a run written down, unless that has failed only lately.
func (s *Sweeper) one(ctx context.Context, run uuid.UUID) (err error) {
	f, known := s.failed[run]
	if f.round = s.round; known && s.clock.WallNow().Before(f.until) {
		s.failed[run] = f
		return nil
	}
	for _, settle := range s.settle {
		err = errors.Join(err, settle(ctx, run))
	}
	if delete(s.failed, run); err != nil && ctx.Err() == nil {
		f.wait = min(max(time.Minute, 2*f.wait), longest)
		f.until = s.clock.WallNow().Add(f.wait)
		s.failed[run] = f
	}
	return err
}
