package framefiles

import (
	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/store"
)

// Held is so of a file x that frame f has.
const Held = "x.frame_id = f.id AND x.fence = f.fence"

// note notes a file of a frame that a host has under lease; false: it has not.
func note(tx *gorm.DB, host string, f File) (bool, error) {
	done := tx.Exec(`INSERT INTO frame_files AS x (frame_id, name, fence, kind, ending, sha256, bytes, key)
		SELECT id, $3, $2, $4, $5, $6, $7, $8 FROM frames WHERE id = $1 AND fence = $2 AND state = 'rendering' AND host = $9
		ON CONFLICT (frame_id, name) DO UPDATE SET fence = excluded.fence, kind = excluded.kind, ending = excluded.ending, sha256 = excluded.sha256, bytes = excluded.bytes, key = excluded.key
		WHERE x.fence <= excluded.fence`, f.FrameID, f.Fence, f.Name, f.Kind, f.Ending, f.SHA256, f.Bytes, f.Key, host)
	return done.RowsAffected > 0, done.Error
}

// noted reports whether the very same file was noted under this lease before.
func noted(tx *gorm.DB, f File) (same bool, err error) {
	return same, tx.Raw("SELECT EXISTS (SELECT FROM frame_files WHERE frame_id = $1 AND name = $2 AND fence = $3 AND sha256 = $4)", f.FrameID, f.Name, f.Fence, f.SHA256).Row().Scan(&same)
}

// othersOf counts the files of other names that a lease has.
func othersOf(tx *gorm.DB, f File) (n int, err error) {
	return n, tx.Raw("SELECT count(*) FROM frame_files WHERE frame_id = $1 AND fence = $2 AND name <> $3", f.FrameID, f.Fence, f.Name).Row().Scan(&n)
}

// lacking are those of some names that a lease has no file of.
func lacking(tx *gorm.DB, frame, fence int64, wants []string) ([]string, error) {
	return store.Column[string](tx.Raw("SELECT w FROM unnest($3::text[]) w WHERE NOT EXISTS (SELECT FROM frame_files x WHERE x.frame_id = $1 AND x.fence = $2 AND x.name = w)", frame, fence, wants))
}

func of(tx *gorm.DB, frames []int64) (out []File, err error) {
	return out, tx.Raw("SELECT x.* FROM frame_files x JOIN frames f ON "+Held+" WHERE f.id = ANY($1) AND f.state = 'done' ORDER BY x.frame_id, lower(x.name), x.name", frames).Scan(&out).Error
}

// TakeOver gives the files of frames that another run has done to those that a run took over of it.
func TakeOver(tx *gorm.DB, run, from uuid.UUID, shot string, numbers []int) error {
	return tx.Exec(`INSERT INTO frame_files (frame_id, name, fence, kind, ending, sha256, bytes, key)
		SELECT n.id, x.name, x.fence, x.kind, x.ending, x.sha256, x.bytes, x.key
		FROM frames f JOIN frame_files x ON `+Held+` JOIN frames n ON n.run_id = $1 AND n.shot = f.shot AND n.frame = f.frame AND n.fence = f.fence AND n.state = 'done'
		WHERE f.run_id = $2 AND f.shot = $3 AND f.frame = ANY($4) AND f.state = 'done' AND NOT f.warm_up AND f.repeat = 0`, run, from, shot, numbers).Error
}
