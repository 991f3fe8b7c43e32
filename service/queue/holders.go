package queue

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
)

// Holder holds leases on behalf of somebody who has no agent of ours: a farm's job.
// Its id stands where an agent's boot does; while it lives it renews them with Renew.
type Holder struct {
	ID      uuid.UUID
	Run     uuid.UUID
	Shot    string
	Place   string // that counts as the host
	Crew    string
	Booking int64
}

// Deliver takes in a holder's frame: its picture is checked and stored, and the
// frame is done. A frame that is not held is left as it is.
func (q *Queue) Deliver(ctx context.Context, h Holder, frame int, file io.Reader, sum string, seconds float64) error {
	f, spec, found, err := q.heldBy(ctx, h.ID, frame)
	if err != nil || !found {
		return err
	}
	want, err := hex.DecodeString(sum)
	if err != nil || len(want) != sha256.Size {
		return fmt.Errorf("frame %d: %q is no SHA-256", frame, sum)
	}
	if _, _, err := q.keep(ctx, f, spec, h.Place, want, file); err != nil {
		return err
	}
	return q.End(ctx, h.Place, f.ID, f.Fence, Result{Boot: h.ID, SHA256: sum, Measured: timing.Measurement{Seconds: seconds}})
}

// Fail counts a failed try of a holder's frame, which waits for somebody else then.
func (q *Queue) Fail(ctx context.Context, h Holder, frame int, cause, why string, seconds float64) error {
	return q.release(ctx, h, func(tx *gorm.DB, l leased) error {
		if l.frame != frame {
			return nil
		}
		return errors.Join(bookings.Lessen(tx, h.Booking), q.fail(tx, l, cause, why, &timing.Measurement{Seconds: seconds}))
	})
}

// GiveBack lets frames of a holder wait for somebody else, all of them where none are named. It is not their failure.
func (q *Queue) GiveBack(ctx context.Context, h Holder, why string, frames ...int) error {
	err := q.release(ctx, h, func(tx *gorm.DB, l leased) error {
		if len(frames) > 0 && !slices.Contains(frames, l.frame) {
			return nil
		}
		return errors.Join(bookings.Lessen(tx, h.Booking), q.handBack(tx, l, why))
	})
	if err == nil && len(frames) == 0 {
		err = bookings.OneOwesNothing(q.store.WithContext(ctx), h.Booking)
	}
	return err
}

// release ends leases of a holder, each as do says.
func (q *Queue) release(ctx context.Context, h Holder, do func(tx *gorm.DB, l leased) error) error {
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		all, err := leases(tx, "boot = $1 ORDER BY id FOR UPDATE", h.ID)
		for _, l := range all {
			if err == nil {
				err = do(tx, l)
			}
		}
		return err
	})
	if err == nil {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}
