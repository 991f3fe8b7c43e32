package runs

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"rotanex.example/api"
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

// LeaseFor leases up to n waiting frames to a holder, the last of the shot, and
// returns their numbers in order.
func (q *Runs) LeaseFor(ctx context.Context, tx pgx.Tx, h Holder, n int) ([]int, error) {
	rows, err := tx.Query(ctx, `
		WITH taken AS (
			SELECT id FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND only_on = '{}' AND NOT failed_on @> ARRAY[$3 || '/' || $4]
			ORDER BY frame DESC LIMIT $5 FOR UPDATE SKIP LOCKED),
		leased AS (
			UPDATE frames f SET state = 'leased', fence = fence + 1, host = $3, crew = $4, devices = '[]', booking_id = $6, boot = $7,
			       leased_at = $8, lease_until = $9, progress = 0, sha256 = NULL, bytes = NULL
			FROM taken WHERE f.id = taken.id RETURNING f.frame),
		counted AS (UPDATE bookings SET taken = taken + (SELECT count(*) FROM leased) WHERE id = $6)
		SELECT frame FROM leased ORDER BY frame`,
		h.Run, h.Shot, h.Place, h.Crew, n, h.Booking, h.ID, q.clock.Now(), q.clock.WallNow().Add(LeaseLife))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int])
}

// Renew renews the leases of holders: of the jobs that a query selects.
func (q *Runs) Renew(ctx context.Context, holders string) error {
	_, err := q.store.Pool.Exec(ctx, "UPDATE frames SET lease_until = $1 WHERE state = 'leased' AND lease_until < $2 AND boot IN ("+holders+")",
		q.clock.WallNow().Add(LeaseLife), q.clock.WallNow().Add(LeaseLife/2))
	return err
}

// held returns the leases that a holder has, by frame.
func (q *Runs) heldBy(ctx context.Context, tx pgx.Tx, h Holder) ([]leased, error) {
	rows, err := tx.Query(ctx, "SELECT "+leasedColumns+" FROM frames WHERE boot = $1 AND state = 'leased' ORDER BY id FOR UPDATE", h.ID)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanLeased)
}

// Holds lists the frames that a holder has under lease.
func (q *Runs) Holds(ctx context.Context, h Holder) (out []int, err error) {
	rows, err := q.store.Pool.Query(ctx, "SELECT frame FROM frames WHERE boot = $1 AND state = 'leased' ORDER BY frame", h.ID)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int])
}

// Deliver takes in a holder's frame: its picture is checked and stored, and the
// frame is done. A frame that is not held is left as it is.
func (q *Runs) Deliver(ctx context.Context, h Holder, frame int, file io.Reader, sum string, seconds float64) error {
	var lease, fence int64
	var number Frame
	var spec api.ShotSpec
	err := q.store.Pool.QueryRow(ctx, `SELECT f.id, f.fence, f.run_id, f.shot, f.frame, f.repeat, s.spec FROM frames f JOIN run_shots s USING (run_id, shot)
		WHERE f.boot = $1 AND f.frame = $2 AND f.state = 'leased'`, h.ID, frame).Scan(&lease, &fence, &number.RunID, &number.Shot, &number.Frame, &number.Repeat, &spec)
	if err == pgx.ErrNoRows {
		return nil
	}
	if err != nil {
		return err
	}
	want, err := hex.DecodeString(sum)
	if err != nil || len(want) != sha256.Size {
		return fmt.Errorf("frame %d: %q is no SHA-256", frame, sum)
	}
	size, info, err := q.storeChecked(ctx, blobKey(number, fence), file, want, spec)
	if err != nil {
		return err
	}
	if _, err := q.store.Pool.Exec(ctx, "UPDATE frames SET sha256 = $1, bytes = $2, format = $5 WHERE id = $3 AND fence = $4 AND state = 'leased'", sum, size, lease, fence, info.Format); err != nil {
		return err
	}
	return q.end(ctx, h.Place, lease, fence, api.Result{Boot: h.ID, Outcome: api.ResultOutcomeDone, Sha256: sum, Bytes: size, Measured: api.Measured{Seconds: seconds}})
}

// Fail counts a failed try of a holder's frame, which waits for somebody else then.
func (q *Runs) Fail(ctx context.Context, h Holder, frame int, cause, why string, seconds float64) error {
	return q.letGo(ctx, h, func(tx pgx.Tx, l leased) error {
		if l.frame != frame {
			return nil
		}
		// What it owes shrinks: it will not be asked for this frame again.
		if _, err := tx.Exec(ctx, "UPDATE bookings SET frames = greatest(0, frames - 1) WHERE id = $1", h.Booking); err != nil {
			return err
		}
		return q.fail(ctx, tx, l, cause, why, &api.Measured{Seconds: seconds})
	})
}

// GiveBack lets all of a holder's frames wait for somebody else. It is not their failure.
func (q *Runs) GiveBack(ctx context.Context, h Holder, why string) error {
	err := q.letGo(ctx, h, func(tx pgx.Tx, l leased) error { return q.lose(ctx, tx, l, why) })
	if err == nil {
		_, err = q.store.Pool.Exec(ctx, "UPDATE bookings SET frames = taken WHERE id = $1", h.Booking)
	}
	return err
}

func (q *Runs) letGo(ctx context.Context, h Holder, do func(tx pgx.Tx, l leased) error) error {
	err := pgx.BeginFunc(ctx, q.store.Pool, func(tx pgx.Tx) error {
		all, err := q.heldBy(ctx, tx, h)
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
