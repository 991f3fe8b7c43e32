package settled

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/store"
)

// charges is how many charges of sources each of the runs has: one more may come long after it ended.
func (k *Kept[T]) charges(ctx context.Context, runs []uuid.UUID) (map[uuid.UUID]int, error) {
	out := map[uuid.UUID]int{}
	_, err := store.Rows(k.store.WithContext(ctx).Raw("SELECT run_id, count(*) FROM charges WHERE run_id = ANY ($1) GROUP BY 1", runs), func(r store.Row) (id uuid.UUID, err error) {
		var n int
		err = r.Scan(&id, &n)
		out[id] = n
		return id, err
	})
	return out, err
}

// stored reads what is kept of runs. What cannot be read counts as not kept.
func (k *Kept[T]) stored(ctx context.Context, runs []uuid.UUID) (map[uuid.UUID]sealed[T], error) {
	out := map[uuid.UUID]sealed[T]{}
	_, err := store.Rows(k.store.WithContext(ctx).Raw("SELECT run_id, seal, what FROM settled WHERE part = $1 AND run_id = ANY ($2)", k.part, runs), func(r store.Row) (id uuid.UUID, err error) {
		var s sealed[T]
		var data []byte
		if err = r.Scan(&id, &s.seal, &data); err == nil && store.Read(data, &s.what) == nil {
			out[id] = s
		}
		return id, err
	})
	return out, err
}

// write writes what is kept of a run. One that is deleted meanwhile keeps nothing.
func (k *Kept[T]) write(ctx context.Context, run uuid.UUID, s sealed[T]) error {
	text, err := store.AsJSON(s.what)
	if err != nil {
		return err
	}
	return k.store.WithContext(ctx).Exec(`INSERT INTO settled (run_id, part, seal, what) SELECT id, $2, $3, $4::json FROM runs WHERE id = $1 AND kind = 'run'
		ON CONFLICT (run_id, part) DO UPDATE SET seal = excluded.seal, what = excluded.what`, run, k.part, s.seal, text).Error
}

// unsettled lists up to so many runs that ended before a time and of which nothing is kept, the latest first, and when the last of them did.
func unsettled(db *gorm.DB, before time.Time, most int) (runs []uuid.UUID, last time.Time, err error) {
	runs, err = store.Rows(db.Raw(`SELECT id, ended_at FROM runs r WHERE kind = 'run' AND ended_at < $1 AND NOT EXISTS (SELECT FROM settled s WHERE s.run_id = r.id)
		ORDER BY ended_at DESC LIMIT $2`, before, most), func(r store.Row) (id uuid.UUID, err error) { return id, r.Scan(&id, &last) })
	return runs, last, err
}
