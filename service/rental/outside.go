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
	"rotanex.example/service/store"
)

// What is said to sources, as jobs.
const (
	makeServer   = "make server"
	keepImage    = "keep image"
	lookAtServer = "look at server"
	endServer    = "end server"
	sweepSource  = "sweep source"
)

// found reads a server for a job; false if it is not there any more.
func (r *Rental) found(ctx context.Context, key string) (s server, image string, found bool, err error) {
	run, id, err := parseKey(key)
	if err != nil {
		return s, "", false, err
	}
	s, found, err = store.First(r.store.WithContext(ctx).Raw("SELECT "+columns+" WHERE s.run_id = $1 AND s.id = $2", run, id), scan)
	if found {
		err = r.store.WithContext(ctx).Raw("SELECT image FROM servers WHERE run_id = $1 AND id = $2", run, id).Row().Scan(&image)
	}
	return s, image, found, err
}

// from moves a server on if it still is in the state in which the job found it.
func (r *Rental) from(ctx context.Context, s server, state, trouble string, also func(tx *gorm.DB) error) (bool, error) {
	moved := false
	err := r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var now string
		err := tx.Raw("SELECT state FROM servers WHERE run_id = $1 AND id = $2 FOR UPDATE", s.run, s.id).Row().Scan(&now)
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
	if err != nil || !found || s.state != "requested" {
		return err
	}
	if !s.open() || !r.clock.Now().Before(s.paid) {
		// It may stand already: an answer may have got lost. So it is ended, not forgotten.
		_, err := r.from(ctx, s, "ending", "", func(tx *gorm.DB) error { return r.jobs.Send(ctx, tx, endServer, key) })
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err == nil {
		err = r.order(ctx, provider, s, image)
	}
	if no := (*providers.Refused)(nil); errors.As(err, &no) {
		_, err = r.from(ctx, s, "not-started", no.Error(), func(tx *gorm.DB) error {
			err := tx.Exec("UPDATE servers SET started_at = NULL WHERE run_id = $1 AND id = $2", s.run, s.id).Error
			return errors.Join(err, r.forget(tx, s))
		})
		return err
	}
	if err != nil {
		r.log.Warn("asking for a server", "name", s.host, "source", s.spec.Source, "error", err)
		return errors.Join(err, r.sources.Reachable(ctx, s.spec.Source, err))
	}
	_, err = r.from(ctx, s, "starting", "", nil)
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
	return provider.Make(ctx, providers.Order{Name: s.host, Owner: r.owner, Offer: s.offer, Image: image, Service: r.address, JoinToken: secret})
}

// keep keeps the image of the first server of an offer that came up, from which all
// others are made.
func (r *Rental) keep(ctx context.Context, key string) error {
	s, _, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != "up" || s.spec.SetupS == 0 {
		return err
	}
	var kept bool
	err = r.store.WithContext(ctx).Raw("SELECT EXISTS (SELECT FROM images WHERE source = $1 AND offer = $2)", s.spec.Source, s.offer).Row().Scan(&kept)
	if err != nil || kept {
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err != nil {
		return err
	}
	image := "rotanex-" + s.offer
	if err := provider.Keep(ctx, s.host, image); err != nil {
		return err
	}
	err = r.store.WithContext(ctx).Exec("INSERT INTO images (source, offer, image, kept_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", s.spec.Source, s.offer, image, r.clock.Now()).Error
	return err
}

// look asks the source about a server whose agent says nothing.
func (r *Rental) look(ctx context.Context, key string) error {
	s, _, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != "up" {
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err != nil {
		return err
	}
	seen, err := provider.Look(ctx, s.host)
	switch {
	case errors.Is(err, providers.ErrGone), err == nil && seen.State == providers.Stopped:
		_, err = r.from(ctx, s, "stopping", "its source says that it is gone", nil)
	case err == nil:
		err = r.store.WithContext(ctx).Exec("UPDATE servers SET address = $3 WHERE run_id = $1 AND id = $2", s.run, s.id, seen.Address).Error
	}
	return err
}

// end stops a server, enters what its meter said, and lets the source forget it.
func (r *Rental) end(ctx context.Context, key string) error {
	s, _, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != "ending" && s.state != "stopped" {
		return err
	}
	provider, err := r.sources.Servers(ctx, s.spec.Source)
	if err != nil {
		return err
	}
	if s.state == "ending" {
		if err := r.close(ctx, provider, s); err != nil {
			r.log.Warn("ending a server", "name", s.host, "source", s.spec.Source, "error", err)
			return errors.Join(err, r.sources.Reachable(ctx, s.spec.Source, err))
		}
	}
	return provider.Delete(ctx, s.host)
}

func (r *Rental) close(ctx context.Context, provider providers.Servers, s server) error {
	err := provider.Stop(ctx, s.host)
	var seen providers.Server
	if err == nil {
		seen, err = provider.Look(ctx, s.host)
	}
	switch {
	case errors.Is(err, providers.ErrGone):
		// It never stood, or its source has forgotten it: nothing more can be asked.
	case err != nil:
		return err
	case seen.State != providers.Stopped:
		return fmt.Errorf("%s was told to stop and is %s", s.host, seen.State)
	}
	gone := err != nil
	_, err = r.from(ctx, s, "stopped", "", func(tx *gorm.DB) error {
		if !gone {
			run := s.run.String()
			if _, err := r.sources.Enter(tx, sources.Charge{Run: &run, Source: s.spec.Source, Place: s.host, Metered: seen.Metered, Amount: r.amount(s, seen)}); err != nil {
				return err
			}
		}
		err := tx.Exec("UPDATE servers SET stopped_at = $3, image = CASE WHEN $4 = '' THEN image ELSE $4 END WHERE run_id = $1 AND id = $2", s.run, s.id, r.clock.Now(), seen.Image).Error
		return errors.Join(err, r.forget(tx, s))
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
