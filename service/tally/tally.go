// Package tally says what has been done in a run, by crew, shot and day, and how many of its frames are how far, without reading
// all of its frames and tries each time: what ended is summed up once and kept, and what came since is added to that. Of large runs it
// is written down now and then, so that a service which starts need not read them either.
package tally

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"rotanex.example/service/store"
)

// Sum is what a crew did of a shot on a day.
type Sum struct {
	Host, Crew, Shot string
	Day              time.Time // its midnight, UTC
	Booking          int64     // under which; 0: it is not known
	Done, Failed     int       // tries that gave a frame, and the others
	DoneS, FailedS   float64   // seconds that renderers took for them
	OpeningS         float64   // of DoneS: opening scenes
	HeldS            float64   // that those which gave a frame took the crew up
	Causes           []string  // of failures, each once
	First, Last      time.Time // from the start of the first try to the end of the last
}

// key is what sums are told apart by.
type key struct {
	host, crew, shot string
	day              int64
	booking          int64
}

func (s Sum) key() key { return key{s.Host, s.Crew, s.Shot, s.Day.Unix(), s.Booking} }

// with is two sums of the same key in one.
func (s Sum) with(o Sum) Sum {
	if s.Done+s.Failed == 0 {
		return o
	}
	s.Done, s.Failed, s.DoneS, s.FailedS = s.Done+o.Done, s.Failed+o.Failed, s.DoneS+o.DoneS, s.FailedS+o.FailedS
	s.OpeningS, s.HeldS = s.OpeningS+o.OpeningS, s.HeldS+o.HeldS
	s.Causes = slices.Concat(s.Causes, o.Causes)
	slices.Sort(s.Causes)
	s.Causes = slices.Compact(s.Causes)
	if o.First.Before(s.First) {
		s.First = o.First
	}
	if o.Last.After(s.Last) {
		s.Last = o.Last
	}
	return s
}

// Group puts sums together that are the same but for what forget takes from them, in the order of the first of each.
func Group(sums []Sum, forget func(*Sum)) (out []Sum) {
	at := map[key]int{}
	for _, s := range sums {
		forget(&s)
		if i, ok := at[s.key()]; ok {
			out[i] = out[i].with(s)
			continue
		}
		at[s.key()] = len(out)
		out = append(out, s)
	}
	return out
}

// Counts is how many frames of a shot are how far.
type Counts struct {
	Shot                             string
	Waiting, Rendering, Done, Failed int
}

// Tally is a run's.
type Tally struct {
	Sums   []Sum    // by day, host, crew, shot and booking
	Counts []Counts // by shot
}

// Tallies makes them.
type Tallies struct {
	store *store.Store

	mu sync.Mutex
	of *lru.Cache[uuid.UUID, *base]
}

// New makes it.
func New(s *store.Store) *Tallies {
	of, _ := lru.New[uuid.UUID, *base](most) // fails for sizes below one
	return &Tallies{store: s, of: of}
}

// most is of how many runs sums are kept.
const most = 2000

// base is the sum of a run's tries up to a mark. A try's number is given when it is written, not when it is committed: so a mark
// is the last number at a time at which all transactions had begun that are over by now, and what has a number up to it is there.
type base struct {
	mu      sync.Mutex
	read    bool // what was written down
	written int  // tries that were summed up when it was written down
	shots   map[string]total
	sums    map[key]Sum
	mark    int64
	next    mark // will be the mark; zero: none is set
}

// total is what of a shot's frames does not change while it is rendered.
type total struct{ Frames, TakenOver int }

// often is after how many tries more it is written down.
const often = 5000

// mark is the last number of a try of the run at a time, and a transaction that had not begun then.
type mark struct{ try, before int64 }

func (t *Tallies) find(run uuid.UUID) *base {
	t.mu.Lock()
	defer t.mu.Unlock()
	b, ok := t.of.Get(run)
	if !ok {
		b = &base{sums: map[key]Sum{}}
		t.of.Add(run, b)
	}
	return b
}

// Of is the tally of a run as it stands.
func (t *Tallies) Of(ctx context.Context, run uuid.UUID) (Tally, error) {
	b := t.find(run)
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := t.advance(ctx, run, b); err != nil {
		return Tally{}, err
	}
	since, now, err := t.since(ctx, run, b.mark)
	if err != nil {
		return Tally{}, err
	}
	return b.tally(since, now), nil
}

// advance moves the mark on as far as it may be.
func (t *Tallies) advance(ctx context.Context, run uuid.UUID, b *base) (err error) {
	if !b.read {
		if err := t.stored(ctx, run, b); err != nil {
			return err
		}
		b.read, b.written = true, b.tries()
	}
	if b.shots == nil {
		if b.shots, err = t.totals(ctx, run); err != nil {
			return err
		}
	}
	last, err := t.last(ctx, run)
	if err != nil || last <= b.mark {
		return err
	}
	if b.next == (mark{}) {
		if b.next, err = t.marked(ctx, run); err != nil {
			return err
		}
	}
	oldest, err := t.oldest(ctx)
	if err != nil || oldest < b.next.before {
		return err // somebody who had begun is not over
	}
	sums, err := t.sums(ctx, run, b.mark, b.next.try)
	if err != nil {
		return err
	}
	for _, s := range sums {
		b.sums[s.key()] = b.sums[s.key()].with(s)
	}
	b.mark, b.next = b.next.try, mark{}
	if tries := b.tries(); tries >= b.written+often {
		if err := t.write(ctx, run, b); err != nil {
			return err
		}
		b.written = tries
	}
	return nil
}

// tries is how many were summed up.
func (b *base) tries() (n int) {
	for _, s := range b.sums {
		n += s.Done + s.Failed
	}
	return n
}

// tally adds what came since to what is kept.
func (b *base) tally(since []Sum, now map[string]present) (out Tally) {
	later := map[key]Sum{}
	for _, s := range since {
		later[s.key()] = s
	}
	for k, s := range b.sums {
		if l, ok := later[k]; ok {
			s = s.with(l)
			delete(later, k)
		}
		out.Sums = append(out.Sums, s)
	}
	for _, s := range later {
		out.Sums = append(out.Sums, s)
	}
	slices.SortFunc(out.Sums, func(a, b Sum) int {
		return cmp.Or(a.Day.Compare(b.Day), cmp.Compare(a.Host, b.Host), cmp.Compare(a.Crew, b.Crew), cmp.Compare(a.Shot, b.Shot), cmp.Compare(a.Booking, b.Booking))
	})
	done := map[string]int{}
	for _, s := range out.Sums {
		done[s.Shot] += s.Done
	}
	for shot, total := range b.shots {
		c := Counts{Shot: shot, Rendering: now[shot].rendering, Failed: now[shot].failed, Done: total.TakenOver + done[shot]}
		c.Waiting = total.Frames - c.Rendering - c.Failed - c.Done
		out.Counts = append(out.Counts, c)
	}
	slices.SortFunc(out.Counts, func(a, b Counts) int { return cmp.Compare(a.Shot, b.Shot) })
	return out
}
