package rental

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/providers"
	"rotanex.example/service/audit"
	"rotanex.example/service/states"
)

const (
	// stopLag is how long, in real time, it may take until a stop has reached a source.
	stopLag = 10 * time.Second
	// grace is for how long a server may finish what it renders beyond what is paid, within the caps.
	grace = 15 * time.Minute
	// weighEvery is how often, in real time, it is looked whether servers have to go for the caps.
	weighEvery = 5 * time.Second
)

// lag is stopLag by the service's clock.
func (r *Rental) lag() time.Duration {
	return time.Duration(float64(stopLag) * r.clock.Factor())
}

// charge is what a server comes to that stands for so long.
func (r *Rental) charge(tx *gorm.DB, s server, stands time.Duration) (pricing.Money, error) {
	factor, err := r.sources.FactorBy(tx, s.spec.Source)
	if err != nil {
		return pricing.Money{}, err
	}
	return s.spec.Meter().Charge(stands).Scaled(factor), nil
}

// noted writes down what was bought, for more money.
func (r *Rental) noted(tx *gorm.DB, s server, did string, more pricing.Money) error {
	return audit.Own(tx, r.clock.WallNow(), did, "/runs/"+s.run.String(), map[string]string{"server": s.host, "offer": s.offer, "source": s.spec.Source, "for": more.String()})
}

// whileStopping ends a server that renders nothing any more, or whose time is over. What it renders it may finish for a while
// beyond that, once, if no cap is exceeded by it.
func (r *Rental) whileStopping(ctx context.Context, tx *gorm.DB, s server, now time.Time) error {
	busy, err := rendering(tx, s.host)
	if err != nil {
		return err
	}
	why := ""
	if busy {
		if why, err = r.graced(ctx, tx, s); err != nil || why == "" {
			return err
		}
	}
	if err := r.replace(ctx, tx, s, now); err != nil {
		return err
	}
	return errors.Join(r.set(ctx, tx, s, states.ServerEnding, why), r.jobs.Send(ctx, tx, endServer, s.key()))
}

// graced lets a server that is to stop finish what it renders; or it says why not.
func (r *Rental) graced(ctx context.Context, tx *gorm.DB, s server) (string, error) {
	if s.last != nil {
		return "it was ended while it rendered, as its time was over", nil
	}
	with, err := r.charge(tx, s, s.paid.Add(grace).Sub(s.from))
	if err != nil {
		return err.Error(), nil // what cannot be priced is not bought
	}
	more := with.Minus(s.committed).Max(pricing.Money{})
	beyond, err := r.sources.Beyond(tx, s.run, s.spec.Source, more, "finishing what server "+s.id+" renders")
	if err != nil || beyond != "" {
		return beyond, err
	}
	paid := s.from.Add(s.spec.Meter().Billed(s.paid.Add(grace).Sub(s.from)))
	if err := prolong(tx, s, s.to, paid, more); err != nil {
		return "", err
	}
	return "", errors.Join(r.noted(tx, s, "kept a server on", more), s.note(tx, "last_at", s.paid.Add(grace)), r.jobs.Send(ctx, tx, prolongServer, s.key()))
}

// extend tells the source for how long a server may stand now.
func (r *Rental) extend(ctx context.Context, key string) error {
	s, _, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != states.ServerUp && s.state != states.ServerStopping {
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err != nil {
		return err
	}
	err = provider.Prolong(ctx, s.host, s.lasts())
	if no := (*providers.Refused)(nil); errors.Is(err, providers.ErrUnable) || errors.Is(err, providers.ErrGone) || errors.As(err, &no) {
		return nil // it ends none by itself, or this one has ended
	}
	return err
}

// weigh holds servers to the caps: what they may come to is raised where they stand longer than they were meant to, and where
// that, or anything else of the run, is more than a cap, those are stopped that cost less so.
func (r *Rental) weigh(ctx context.Context) error {
	if wall := r.clock.WallNow(); wall.Sub(r.weighed) < weighEvery {
		return nil
	} else {
		r.weighed = wall
	}
	faults := []error{r.reckon(ctx)}
	all, err := spenders(r.store.WithContext(ctx))
	faults = append(faults, err)
	for _, x := range all {
		faults = append(faults, r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return r.within(ctx, tx, x.Run, x.Source) }))
	}
	return errors.Join(faults...)
}

// spender is a run that has servers at a source.
type spender struct {
	Run    uuid.UUID
	Source string
}

// reckon raises what servers may come to that stand longer than they were meant to.
func (r *Rental) reckon(ctx context.Context) error {
	return r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		now := r.clock.Now()
		all, err := overstaying(tx, now)
		for _, s := range all {
			cost, fault := r.charge(tx, s, now.Add(r.lag()).Sub(s.from))
			if fault == nil && cost.Cmp(s.committed) > 0 {
				fault = commit(tx, s, cost)
			}
			err = errors.Join(err, fault)
		}
		return err
	})
}

// within stops servers of a run at a source while a cap is exceeded and stopping them saves something.
func (r *Rental) within(ctx context.Context, tx *gorm.DB, run uuid.UUID, source string) error {
	room, err := r.sources.Room(tx, run, source, "")
	if err != nil || room == nil || !room.Exceeded(pricing.Money{}) {
		return err
	}
	all, err := standingOf(tx, run, source)
	if err != nil {
		return err
	}
	now := r.clock.Now()
	for _, s := range all {
		if !room.Exceeded(pricing.Money{}) {
			break
		}
		cost, err := r.charge(tx, s, now.Add(time.Duration(s.spec.ShutdownS)*time.Second+r.lag()).Sub(s.from))
		if err != nil || cost.Cmp(s.committed) >= 0 {
			continue // nothing is saved by it
		}
		if err := errors.Join(r.set(ctx, tx, s, states.ServerStopping, fmt.Sprintf("it was stopped for %s", room)), commit(tx, s, cost)); err != nil {
			return err
		}
		room.Spent = room.Spent.Minus(s.committed).Plus(cost)
	}
	return nil
}
