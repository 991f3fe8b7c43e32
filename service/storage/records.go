package storage

import (
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/framefiles"
	"rotanex.example/service/store"
)

// sizeOf is about how many rows a table has, and what it takes on the disk.
func sizeOf(tx *gorm.DB, table string) (rows, bytes int64, err error) {
	err = tx.Raw("SELECT greatest(c.reltuples, s.n_live_tup, 0)::bigint, pg_total_relation_size(c.oid) FROM pg_class c JOIN pg_stat_user_tables s ON s.relid = c.oid WHERE c.relname = $1 AND c.relkind = 'r'", table).Row().Scan(&rows, &bytes)
	return rows, bytes, err
}

// prunedSoFar is how many of a kind were deleted, and when any were last.
type prunedSoFar struct {
	Rows int64      `json:"rows"`
	At   *time.Time `json:"at"`
}

const prunedPrefix = "pruned "

func readPruned(tx *gorm.DB) (map[string]prunedSoFar, error) {
	out := map[string]prunedSoFar{}
	rows, err := store.Rows(tx.Raw("SELECT substr(key, length($1) + 1), value FROM settings WHERE starts_with(key, $1)", prunedPrefix), func(row store.Row) (x [2]string, err error) {
		return x, row.Scan(&x[0], &x[1])
	})
	for _, r := range rows {
		var p prunedSoFar
		if json.Unmarshal([]byte(r[1]), &p) == nil {
			out[r[0]] = p
		}
	}
	return out, err
}

func notePruned(tx *gorm.DB, kind string, n int64, at time.Time) error {
	all, err := readPruned(tx)
	if err != nil {
		return err
	}
	text, err := json.Marshal(prunedSoFar{all[kind].Rows + n, &at})
	if err != nil {
		return err
	}
	return store.SetSetting(tx, prunedPrefix+kind, string(text))
}

// unusedPictures are those of some keys that are neither a frame's picture nor a file beside it. Frames of long ago do not say their key; it is
// runs/RUN/SHOT/FRAME and what follows.
func unusedPictures(tx *gorm.DB, keys []string) ([]string, error) {
	return store.Column[string](tx.Raw(`SELECT k FROM unnest($1::text[]) AS k
		WHERE NOT EXISTS (SELECT FROM frames WHERE picture = k)
		  AND NOT EXISTS (SELECT FROM frame_files x JOIN frames f ON `+framefiles.Held+` WHERE x.key = k AND f.state IN ('done', 'rendering'))
		  AND NOT EXISTS (SELECT FROM frames f WHERE f.picture = '' AND coalesce(f.from_run, f.run_id)::text = split_part(k, '/', 2) AND f.shot = split_part(k, '/', 3)
			AND f.frame::text = ltrim(split_part(split_part(k, '/', 4), '-', 1), '0') AND f.state IN ('done', 'rendering'))`, keys))
}
