// Package licences keeps the pools of licences and who holds a seat of which. Who may
// have a seat is said in core/dispatch; package queue asks it and keeps the answer here.
//
// A host holds at most one seat of a pool, however many renderers it runs. A seat that
// is not kept with Keep until it ends may be given back by anybody: none stays with a
// dead server.
package licences

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/preflight"
	"rotanex.example/service/bookings"
	"rotanex.example/service/store"
)

// Licences looks after the pools.
type Licences struct{ store *store.Store }

// New makes it.
func New(s *store.Store) *Licences { return &Licences{s} }

// Find returns a pool; nil where it is not known.
func (l *Licences) Find(ctx context.Context, pool string) (*preflight.Licence, error) {
	found, err := l.pools(ctx, pool)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// SeatLife is how long, in real time, a seat stays with a host that is not heard of.
const SeatLife = 45 * time.Second

// Waiting reads what waits of a run's shot, alike to the rule.
type Waiting func(run uuid.UUID, shot string) ([]dispatch.Kind, error)

// kept is a seat, and whether its host keeps it: neither one that is not heard of nor one
// that has no use for it does.
type kept struct {
	Seat
	keeps bool
}

// use lists who holds a seat of a pool, and which hosts in the stock want one, from when.
func use(tx *gorm.DB, wall time.Time, pool string, waiting Waiting) (held []kept, wanting map[string]time.Time, err error) {
	owing, err := bookings.Owing(tx, wall, pool)
	if err != nil {
		return nil, nil, err
	}
	wanting = map[string]time.Time{}
	for _, c := range owing {
		kinds, err := waiting(c.Run, c.Shot)
		if err != nil {
			return nil, nil, err
		}
		if from, before := wanting[c.Host]; dispatch.Wants(&c.Crew, kinds) && (!before || c.Start.Before(from)) {
			wanting[c.Host] = c.Start
		}
	}
	all, err := seats(tx, pool)
	for _, s := range all {
		_, wants := wanting[s.Host]
		held = append(held, kept{s, (s.Renders || wants) && s.Until.After(wall)})
	}
	return held, wanting, err
}

// PoolFor is how the seats of a pool stand for a host at a time of the service's clock;
// false: nobody counts them. With lock set, whoever asks for a seat does so one after
// another.
func PoolFor(tx *gorm.DB, host, pool string, now, wall time.Time, lock bool, waiting Waiting) (p dispatch.Pool, counted bool, err error) {
	p.Name = pool
	if p.Total, counted, err = total(tx, pool, lock); err != nil || !counted {
		return p, false, err
	}
	holders, wanting, err := use(tx, wall, pool, waiting)
	if err != nil {
		return p, false, err
	}
	holds := map[string]bool{}
	for _, s := range holders {
		if holds[s.Host] = s.keeps; s.keeps && s.Host == host {
			p.Mine = true
		} else if s.keeps {
			p.Held++
		}
	}
	for other, from := range wanting {
		if other != host && !holds[other] && !from.After(now) {
			p.Wanted++
		}
	}
	return p, true, nil
}

// ReturnUnused gives back the seats of hosts that are not heard of, or that do not keep
// theirs, and reports whether there were any.
func ReturnUnused(tx *gorm.DB, wall time.Time, waiting Waiting) (freed bool, err error) {
	pools, err := inUse(tx)
	for _, pool := range pools {
		held, _, err := use(tx, wall, pool, waiting)
		if err != nil {
			return freed, err
		}
		for _, s := range held {
			if s.keeps {
				continue
			}
			gone, err := giveBack(tx, pool, s.Seat)
			if err != nil {
				return freed, err
			}
			freed = freed || gone
		}
	}
	return freed, err
}
