package rental

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/providers"
	"rotanex.example/service/access"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/licences"
	"rotanex.example/service/sources"
	"rotanex.example/service/states"
)

// What is said to sources, as jobs.
const (
	makeServer    = "make server"
	keepImage     = "keep image"
	lookAtServer  = "look at server"
	endServer     = "end server"
	prolongServer = "prolong server"
	sweepSource   = "sweep source"
)

// from moves a server on if it still is in the state in which the job found it.
func (r *Rental) from(ctx context.Context, s server, state states.Server, trouble string, also func(tx *gorm.DB) error) (bool, error) {
	moved := false
	err := r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		now, err := lockState(tx, s)
		if err != nil || now != s.state {
			return err
		}
		if also != nil {
			if err := also(tx); err != nil {
				return err
			}
		}
		moved = true
		return r.set(ctx, tx, s, state, trouble)
	})
	if moved && err == nil {
		r.feed.Wake(events.Changes, events.Work)
	}
	return moved, err
}

func (r *Rental) make(ctx context.Context, key string) error {
	s, image, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != states.ServerRequested {
		return err
	}
	if !s.open() || !r.clock.Now().Before(s.paid) {
		// It may stand already: an answer may have got lost. So it is ended, not forgotten.
		_, err := r.from(ctx, s, states.ServerEnding, "", func(tx *gorm.DB) error { return r.jobs.Send(ctx, tx, endServer, key) })
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err == nil {
		err = r.order(ctx, provider, s, image)
	}
	no := (*providers.Refused)(nil)
	if errors.As(err, &no) && image != "" {
		err = r.orderBlank(ctx, provider, s)
	}
	if errors.As(err, &no) {
		_, err = r.from(ctx, s, states.ServerNotStarted, no.Error(), func(tx *gorm.DB) error {
			return errors.Join(s.note(tx, "started_at", nil), r.forget(tx, s))
		})
		return err
	}
	if err != nil {
		r.log.Warn("asking for a server", "name", s.host, "source", s.spec.Source, "error", err)
		return errors.Join(err, r.sources.Reachable(ctx, s.spec.Source, err))
	}
	_, err = r.from(ctx, s, states.ServerStarting, "", nil)
	return err
}

func (r *Rental) order(ctx context.Context, provider providers.Servers, s server, image string) error {
	if err := r.hosts.Put(ctx, s.spec.Server(s.host), true); err != nil {
		return err
	}
	_, secret, err := r.access.JoinToken(ctx, s.host)
	if err != nil {
		return err
	}
	return provider.Make(ctx, providers.Order{Name: s.host, Owner: r.owner, Offer: s.offer, Image: image, Service: r.address, JoinToken: secret, LastsS: s.lasts().Seconds()})
}

// look asks the source about a server whose agent says nothing.
func (r *Rental) look(ctx context.Context, key string) error {
	s, _, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != states.ServerUp {
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err != nil {
		return err
	}
	seen, err := provider.Look(ctx, s.host)
	switch {
	case errors.Is(err, providers.ErrGone), err == nil && seen.State == providers.Stopped:
		_, err = r.from(ctx, s, states.ServerStopping, "its source says that it is gone", nil)
	case err == nil:
		err = s.note(r.store.WithContext(ctx), "address", seen.Address)
	}
	return err
}

// end stops a server, enters what its meter said, and lets the source forget it.
func (r *Rental) end(ctx context.Context, key string) error {
	s, _, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != states.ServerEnding && s.state != states.ServerStopped {
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err != nil {
		return err
	}
	if s.state == states.ServerEnding {
		if err := r.close(ctx, provider, s); err != nil {
			r.log.Warn("ending a server", "name", s.host, "source", s.spec.Source, "error", err)
			return errors.Join(err, r.sources.Reachable(ctx, s.spec.Source, err))
		}
	}
	return provider.Delete(ctx, s.host)
}

func (r *Rental) close(ctx context.Context, provider providers.Servers, s server) error {
	// It may be gone, or be known no more: its meter is asked for all the same.
	err := provider.Stop(ctx, s.host)
	if err != nil && !errors.Is(err, providers.ErrGone) {
		return err
	}
	seen, err := provider.Look(ctx, s.host)
	known := !errors.Is(err, providers.ErrGone)
	switch {
	case !known:
		err = nil
	case err != nil:
		return err
	case seen.State != providers.Stopped:
		return fmt.Errorf("%s was told to stop and is %s", s.host, seen.State)
	}
	charge := sources.Charge{Run: new(s.run.String()), Source: s.spec.Source, Place: s.host, Metered: seen.Metered, Amount: r.amount(s, seen)}
	if !known && s.up != nil {
		// It was let to us, whatever its source remembers: it is charged for as long as we know that it stood.
		charge.Metered = max(0, r.clock.Now().Sub(s.from).Seconds())
		charge.Amount = s.spec.Meter().Charge(seconds(charge.Metered))
	}
	_, err = r.from(ctx, s, states.ServerStopped, "", func(tx *gorm.DB) error {
		if known || s.up != nil {
			if _, err := r.sources.Enter(tx, charge); err != nil {
				return err
			}
		}
		return errors.Join(stopped(tx, s, r.clock.Now(), seen.Image), r.forget(tx, s))
	})
	return err
}

// amount is what the source's meter says, or where it has none, what the offer's
// prices come to.
func (r *Rental) amount(s server, seen providers.Server) pricing.Money {
	if seen.Charge != nil {
		return *seen.Charge
	}
	return s.spec.Meter().Charge(seconds(seen.Metered))
}

// forget takes a server's place out of the stock, its agent's credential and its seats.
func (*Rental) forget(tx *gorm.DB, s server) error {
	return errors.Join(hosts.ForgetServer(tx, s.host), access.ForgetHost(tx, s.host), licences.Forget(tx, s.host))
}
