package events

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/store"
)

// Write adds an event in a transaction of GORM. Call Wake once it is committed.
func (f *Feed) Write(tx *gorm.DB, e Event) error {
	row, err := f.row(e)
	if err != nil {
		return err
	}
	return tx.Exec("INSERT INTO events (run_id, data, at) VALUES (?, ?, ?)", row...).Error
}

// Now returns the position after everything that can be read now.
func (f *Feed) Now(ctx context.Context) (p Position, err error) {
	err = f.store.WithContext(ctx).Raw("SELECT pg_snapshot_xmin(pg_current_snapshot())::text::bigint").Row().Scan(&p.xid)
	return p, err // ids begin at 1, so the position is before any event of that transaction
}

// After returns events after the position, at most a batch, of one run or all.
func (f *Feed) After(ctx context.Context, p Position, run *uuid.UUID) ([]Entry, error) {
	return store.Rows(f.store.WithContext(ctx).Raw(`
		SELECT xid, id, coalesce(run_id::text, ''), data FROM events
		WHERE (xid, id) > ($1, $2) AND xid < pg_snapshot_xmin(pg_current_snapshot())::text::bigint
		  AND ($3::uuid IS NULL OR run_id = $3)
		ORDER BY xid, id LIMIT $4`, p.xid, p.id, run, Batch), func(row store.Row) (e Entry, err error) {
		return e, row.Scan(&e.xid, &e.id, &e.Run, store.JSON(&e.Data))
	})
}

// notify tells every process.
func notify(tx *gorm.DB, payload string) error {
	return tx.Exec("SELECT pg_notify($1, $2)", channel, payload).Error
}

// Restored numbers the events of a backup anew: transactions have other numbers in the database that it is in now.
func Restored(tx *gorm.DB) error {
	return tx.Exec("UPDATE events SET xid = pg_current_xact_id()::text::bigint").Error
}

// Prune deletes up to so many events of before a time, and says how many there were.
func Prune(tx *gorm.DB, before time.Time, most int) (int64, error) {
	return store.Prune(tx, "events", "at < ?", before, most)
}
