package finished

import (
	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/results"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/queue"
	"rotanex.example/service/store"
)

// framesOf counts the frames of a run.
func framesOf(tx *gorm.DB, run uuid.UUID) (n int, err error) {
	return n, tx.Raw("SELECT count(*) FROM frames WHERE run_id = $1 AND NOT warm_up AND repeat = 0", run).Row().Scan(&n)
}

// finishedOf reads the finished frames of a run with their files, in the order of shots and numbers.
func finishedOf(tx *gorm.DB, run uuid.UUID) ([]results.Frame, error) {
	return store.Rows(tx.Raw(`SELECT f.run_id, f.shot, f.frame, f.repeat, f.fence, f.from_run, f.picture, f.sha256, f.bytes, f.format, coalesce(s.spec->>'pass_of', ''), coalesce(s.spec->>'pass', ''),
			(SELECT json_agg(json_build_object('name', x.name, 'ending', x.ending, 'sha256', x.sha256, 'bytes', x.bytes, 'key', x.key) ORDER BY lower(x.name), x.name) FROM frame_files x WHERE `+framefiles.Held+`)
		FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.run_id = $1 AND f.state = 'done' AND NOT f.warm_up AND f.repeat = 0 ORDER BY f.shot, f.frame`, run), func(row store.Row) (out results.Frame, err error) {
		var f queue.Frame
		var beside []results.File
		if err = row.Scan(&f.RunID, &f.Shot, &f.Frame, &f.Repeat, &f.Fence, &f.FromRun, &f.Picture, &f.SHA256, &f.Bytes, &f.Format, &out.PassOf, &out.Pass, store.JSON(&beside)); err != nil {
			return out, err
		}
		out.Shot, out.Number = f.Shot, f.Frame
		out.Files = append([]results.File{{Ending: f.Format, SHA256: *f.SHA256, Bytes: *f.Bytes, Key: f.Key()}}, beside...)
		return out, nil
	})
}
