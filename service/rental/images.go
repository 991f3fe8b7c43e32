package rental

import (
	"context"
	"errors"

	"rotanex.example/core/version"
	"rotanex.example/providers"
	"rotanex.example/service/states"
)

// keep keeps the image of the first server of an offer that came up, from which all
// others are made.
func (r *Rental) keep(ctx context.Context, key string) error {
	s, _, found, err := r.found(ctx, key)
	if err != nil || !found || s.state != states.ServerUp || s.spec.SetupS == 0 {
		return err
	}
	kept, err := hasImage(r.store.WithContext(ctx), s)
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
	return keepImageOf(r.store.WithContext(ctx), s, image, r.clock.Now())
}

// renewImages forgets the images whose agents cannot work with this service any more: the next server of their offers is set up
// anew, and its image kept under the same name.
func (r *Rental) renewImages(ctx context.Context) error {
	tx := r.store.WithContext(ctx)
	all, err := images(tx)
	for _, i := range all {
		if apart := version.Apart(i.agent, version.Ours); apart != nil {
			r.log.Info("an image is not used any more", "offer", i.offer, "source", i.source, "why", apart)
			err = errors.Join(err, forgetImage(tx, i.source, i.offer))
		}
	}
	return err
}

// orderBlank asks once more, without its image, for a server that was refused: the source may not have that any more.
func (r *Rental) orderBlank(ctx context.Context, provider providers.Servers, s server) error {
	if err := r.order(ctx, provider, s, ""); err != nil {
		return err
	}
	tx := r.store.WithContext(ctx)
	return errors.Join(s.note(tx, "image", ""), forgetImage(tx, s.spec.Source, s.offer))
}
