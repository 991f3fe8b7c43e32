// Package removal takes away what nobody needs any more: runs out of lists, and runs, shots, hosts and sources for good. What
// something still rests on is not removed, and what was paid stays.
package removal

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/access"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/jobs"
	"rotanex.example/service/licences"
	"rotanex.example/service/packages"
	"rotanex.example/service/queue"
	"rotanex.example/service/runs"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
)

// Removal removes.
type Removal struct {
	store *store.Store
	feed  *events.Feed
	jobs  *jobs.Jobs
}

// deleteFrames is the job that deletes what a deleted run leaves.
const deleteFrames = "delete frames"

// New makes it.
func New(s *store.Store, f *events.Feed, j *jobs.Jobs) *Removal {
	r := &Removal{s, f, j}
	j.OnSlow(deleteFrames, r.frames)
	return r
}

// once does something in a transaction in which nothing is in the way of it; if something is, it is a conflict.
func (r *Removal) once(ctx context.Context, inTheWay func(tx *gorm.DB) (string, error), do ...func(tx *gorm.DB) error) error {
	err := r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		why, err := inTheWay(tx)
		if err == nil && why != "" {
			err = httpapi.Conflict(why)
		}
		for _, one := range do {
			if err == nil {
				err = one(tx)
			}
		}
		return err
	})
	if err == nil {
		r.feed.Wake(events.Changes)
	}
	return err
}

// Archive takes a run that is over out of lists, or puts it back.
func (r *Removal) Archive(ctx context.Context, run uuid.UUID, archived bool) error {
	return r.once(ctx, func(tx *gorm.DB) (string, error) { return ofRun(tx, run) }, func(tx *gorm.DB) error { return runs.Archive(tx, run, archived) })
}

// Run deletes a run that is over. It is none any more at once; its frames, tries and plans for its rest are deleted behind that.
// Its pictures are deleted by rule, if no other run has taken them over; what it cost stays with its sources.
func (r *Removal) Run(ctx context.Context, run uuid.UUID) error {
	return r.once(ctx, func(tx *gorm.DB) (string, error) { return ofRun(tx, run) },
		func(tx *gorm.DB) error { return runs.Delete(tx, run) },
		func(tx *gorm.DB) error { return r.jobs.Send(ctx, tx, deleteFrames, run.String()) })
}

// Sweep has deleted what is left of runs that were never begun.
func (r *Removal) Sweep(ctx context.Context) error {
	return r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		left, err := runs.Abandoned(tx)
		for _, run := range left {
			err = errors.Join(err, r.jobs.Send(ctx, tx, deleteFrames, run.String()))
		}
		return err
	})
}

// step is how many frames are deleted at once.
const step = 1000

// frames deletes what a deleted run leaves, a step at a time, so that nobody waits for it.
func (r *Removal) frames(ctx context.Context, key string) error {
	run, err := uuid.Parse(key)
	for n := int64(step); err == nil && n == step; {
		n, err = queue.Delete(r.store.WithContext(ctx), run, step)
	}
	if err != nil {
		return err
	}
	return runs.Forget(r.store.WithContext(ctx), run)
}

// Shot deletes a shot and its passes, with their packages. Its times and the runs that it was in stay.
func (r *Removal) Shot(ctx context.Context, name string) error {
	return r.once(ctx, func(tx *gorm.DB) (string, error) { return ofShot(tx, name) },
		func(tx *gorm.DB) error { return packages.Delete(tx, name) },
		func(tx *gorm.DB) error { return gone(shots.Delete(tx, name))("shot", name) })
}

// Host deletes a host of one's own, with its agent's credential.
func (r *Removal) Host(ctx context.Context, name string) error {
	return r.once(ctx, func(tx *gorm.DB) (string, error) { return ofHost(tx, name) },
		func(tx *gorm.DB) error { return gone(hosts.Delete(tx, name))("host", name) },
		func(tx *gorm.DB) error { return errors.Join(access.ForgetHost(tx, name), licences.Forget(tx, name)) })
}

// Source deletes a source, with its offers and tiers. What was charged there stays.
func (r *Removal) Source(ctx context.Context, name string) error {
	return r.once(ctx, func(tx *gorm.DB) (string, error) { return ofSource(tx, name) },
		func(tx *gorm.DB) error { return gone(sources.Delete(tx, name))("source", name) },
		func(tx *gorm.DB) error { return hosts.DeleteOffers(tx, name) })
}

// gone makes of what was not there a problem that says so.
func gone(was bool, err error) func(kind, name string) error {
	return func(kind, name string) error {
		if err == nil && !was {
			err = httpapi.NotFound(fmt.Sprintf("there is no %s %q; rotanex %ss list shows them", kind, name, kind))
		}
		return err
	}
}
