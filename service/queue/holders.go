package queue

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
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

// LeaseFor leases up to n waiting frames to a holder, the last of the shot that a farm
// is handed, and returns their numbers in order.
func (q *Queue) LeaseFor(tx *gorm.DB, h Holder, n int) ([]int, error) {
	all, err := kinds(tx, h.Run, h.Shot)
	if err != nil {
		return nil, err
	}
	farm := &dispatch.Crew{Place: dispatch.Place(h.Place, h.Crew)}
	handed := [][2][]string{}
	for _, k := range all {
		if dispatch.Hands(farm, &k) {
			handed = append(handed, [2][]string{append([]string{}, k.FailedOn...), append([]string{}, k.OnlyOn...)})
		}
	}
	which, err := store.AsJSON(handed)
	if err != nil {
		return nil, err
	}
	frames, err := store.Column[int](tx.Raw(`
		WITH taken AS (
			SELECT id FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting'
			  AND jsonb_build_array(failed_on, only_on) IN (SELECT * FROM jsonb_array_elements($10::jsonb))
			ORDER BY frame DESC LIMIT $5 FOR UPDATE SKIP LOCKED),
		leased AS (
			UPDATE frames f SET state = 'rendering', fence = fence + 1, host = $3, crew = $4, devices = '[]', booking_id = $6, boot = $7,
			       leased_at = $8, lease_until = $9, progress = 0, sha256 = NULL, bytes = NULL
			FROM taken WHERE f.id = taken.id RETURNING f.frame)
		SELECT frame FROM leased ORDER BY frame`,
		h.Run, h.Shot, h.Place, h.Crew, n, h.Booking, h.ID, q.clock.Now(), q.clock.WallNow().Add(LeaseLife), which))
	if err != nil {
		return nil, err
	}
	return frames, bookings.Took(tx, h.Booking, len(frames))
}

// Renew renews the leases of holders.
func (q *Queue) Renew(ctx context.Context, holders []uuid.UUID) error {
	if len(holders) == 0 {
		return nil
	}
	return q.store.WithContext(ctx).Exec("UPDATE frames SET lease_until = $1 WHERE state = 'rendering' AND lease_until < $2 AND boot = ANY($3)",
		q.clock.WallNow().Add(LeaseLife), q.clock.WallNow().Add(LeaseLife/2), holders).Error
}

// Holds lists the frames that a holder has under lease.
func (q *Queue) Holds(ctx context.Context, h Holder) ([]int, error) {
	return store.Column[int](q.store.WithContext(ctx).Raw("SELECT frame FROM frames WHERE boot = $1 AND state = 'rendering' ORDER BY frame", h.ID))
}

// Deliver takes in a holder's frame: its picture is checked and stored, and the
// frame is done. A frame that is not held is left as it is.
func (q *Queue) Deliver(ctx context.Context, h Holder, frame int, file io.Reader, sum string, seconds float64) error {
	var f Frame
	var spec shots.Spec
	err := q.store.WithContext(ctx).Raw(`SELECT f.id, f.fence, f.run_id, f.shot, f.frame, f.repeat, s.spec FROM frames f JOIN run_shots s USING (run_id, shot)
		WHERE f.boot = $1 AND f.frame = $2 AND f.state = 'rendering'`, h.ID, frame).Row().Scan(&f.ID, &f.Fence, &f.RunID, &f.Shot, &f.Frame, &f.Repeat, store.JSON(&spec))
	if missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	want, err := hex.DecodeString(sum)
	if err != nil || len(want) != sha256.Size {
		return fmt.Errorf("frame %d: %q is no SHA-256", frame, sum)
	}
	size, info, err := q.pictures.Keep(ctx, f.Key(), file, want, spec.Width, spec.Height)
	if err != nil {
		return err
	}
	if _, err := q.notePicture(ctx, h.Place, f.ID, f.Fence, sum, size, info.Format); err != nil {
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
		if err := bookings.Lessen(tx, h.Booking); err != nil {
			return err
		}
		return q.fail(tx, l, cause, why, &timing.Measurement{Seconds: seconds})
	})
}

// GiveBack lets all of a holder's frames wait for somebody else. It is not their failure.
func (q *Queue) GiveBack(ctx context.Context, h Holder, why string) error {
	err := q.release(ctx, h, func(tx *gorm.DB, l leased) error { return q.lose(tx, l, why) })
	if err == nil {
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
