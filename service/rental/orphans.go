package rental

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/service/events"
	"rotanex.example/service/sources"
	"rotanex.example/service/states"
)

// sweepEvery is how often, in real time, a source's list of servers is compared with ours.
const sweepEvery = 30 * time.Second

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// sweepSources sends for the lists of the sources whose turn it is.
func (r *Rental) sweepSources(ctx context.Context) error {
	return r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		wall := r.clock.WallNow()
		names, err := sources.DueForSweep(tx, stock.RentedSource, wall, sweepEvery)
		for _, name := range names {
			err = errors.Join(err, r.jobs.Send(ctx, tx, sweepSource, name))
		}
		return err
	})
}

// sweepSource ends what a source lets to us and we know nothing of, or believe to be
// ended, and enters what it cost.
func (r *Rental) sweepSource(ctx context.Context, source string) error {
	provider, err := r.sources.Servers(ctx, source)
	if err != nil {
		return err
	}
	// Ours are read after theirs: one that was asked for in between is known.
	theirs, failed := provider.List(ctx, r.owner)
	if err := r.sources.Reachable(ctx, source, failed); err != nil || failed != nil {
		return err // the next sweep asks again
	}
	ours, err := standingAt(r.store.WithContext(ctx), source)
	for _, s := range theirs {
		if err == nil && s.State != providers.Stopped && !slices.Contains(ours, s.Name) {
			err = r.endOrphan(ctx, provider, source, s.Name)
		}
	}
	return err
}

func (r *Rental) endOrphan(ctx context.Context, provider providers.Servers, source, name string) error {
	r.log.Warn("a server that nobody knows of is ended", "source", source, "name", name)
	if err := provider.Stop(ctx, name); err != nil && !errors.Is(err, providers.ErrGone) {
		return err
	}
	seen, err := provider.Look(ctx, name)
	if err != nil && !errors.Is(err, providers.ErrGone) {
		return err
	}
	err = r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		run, err := runOf(tx, name)
		if err != nil {
			return err
		}
		charge := sources.Charge{Run: run, Source: source, Place: name, Metered: seen.Metered}
		if seen.Charge != nil {
			charge.Amount = *seen.Charge
		}
		if _, err := r.sources.Enter(tx, charge); err != nil {
			return err
		}
		return r.feed.Write(tx, events.Event{Kind: events.Server, Host: name, State: string(states.ServerStopped), Cause: fmt.Sprintf("%s let it to us and no run has it: it was ended", source)})
	})
	if err != nil {
		return err
	}
	return provider.Delete(ctx, name)
}
