package queue

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
	"rotanex.example/service/turn"
)

// Frames of a shot that needs those of others (a composite, of its passes) are blocked until all of theirs are done. To the rule
// they do not wait; to whoever counts they do. What gives up a frame gives up those that needed it.

// inputFailed is the cause of a frame that was given up because one that it needs was.
const inputFailed = "input-failed"

// unmet is so of a frame f of shot s that needs one of its run that is not done.
const unmet = `EXISTS (SELECT FROM jsonb_array_elements_text(s.spec->'after') a JOIN run_shots x ON x.run_id = f.run_id AND x.shot = a
	WHERE NOT EXISTS (SELECT FROM frames i WHERE i.run_id = f.run_id AND i.shot = a AND i.frame = f.frame AND i.state = 'done'))`

// Block lets the waiting frames of a run wait for those that they need.
func Block(tx *gorm.DB, run uuid.UUID) error {
	if err := tx.Exec(`UPDATE frames f SET state = 'blocked' FROM run_shots s WHERE f.run_id = $1 AND s.run_id = $1 AND s.shot = f.shot AND f.state = 'waiting' AND `+unmet, run).Error; err != nil {
		return err
	}
	_, err := blockedForEver(tx, run)
	return err
}

// arrived lets frames wait that have all that they need with a frame that is done, and says whether there are any. Those that need
// it are locked first: of two inputs that are done at once, the second sees the first.
func arrived(tx *gorm.DB, l leased) (any bool, err error) {
	if !l.chained {
		return false, nil
	}
	ids, err := store.Column[int64](tx.Raw(`SELECT f.id FROM frames f JOIN run_shots s USING (run_id, shot)
		WHERE f.run_id = $1 AND f.frame = $2 AND f.state = 'blocked' AND jsonb_exists(s.spec->'after', $3) ORDER BY f.id FOR UPDATE OF f`, l.run, l.frame, l.shot))
	if err != nil || len(ids) == 0 {
		return false, err
	}
	done := tx.Exec(`UPDATE frames f SET state = 'waiting' FROM run_shots s WHERE s.run_id = f.run_id AND s.shot = f.shot AND f.id = ANY($1) AND NOT `+unmet, ids)
	return done.RowsAffected > 0, done.Error
}

// giveUpBlocked gives up what needed a frame that was given up.
func (q *Queue) giveUpBlocked(tx *gorm.DB, l leased) error {
	if !l.chained {
		return nil
	}
	lost, err := blockedForEver(tx, l.run)
	for _, f := range lost {
		f.run = l.run
		err = errors.Join(err, q.feed.Write(tx, f.event(events.Event{At: q.clock.Now(), State: string(Failed), Cause: inputFailed})))
	}
	return err
}

// blockedForEver gives up blocked frames of which one that they need was given up, and those that need them in turn.
func blockedForEver(tx *gorm.DB, run uuid.UUID) (all []leased, err error) {
	for {
		some, err := store.Rows(tx.Raw(`UPDATE frames f SET state = 'failed', cause = $2 FROM run_shots s WHERE f.run_id = $1 AND s.run_id = $1 AND s.shot = f.shot AND f.state = 'blocked'
			AND EXISTS (SELECT FROM jsonb_array_elements_text(s.spec->'after') a JOIN frames i ON i.run_id = $1 AND i.shot = a AND i.frame = f.frame WHERE i.state = 'failed')
			RETURNING f.shot, f.frame`, run, inputFailed), func(row store.Row) (l leased, err error) { return l, row.Scan(&l.shot, &l.frame) })
		if err != nil || len(some) == 0 {
			return all, err
		}
		all = append(all, some...)
	}
}

// InputOf is where the picture is, or a file beside it, of the frame of another shot that one needs which a host has under lease; and
// of how many bytes.
func (q *Queue) InputOf(ctx context.Context, host string, lease, fence int64, shot, file string) (key string, size int64, err error) {
	var f Frame
	err = q.store.WithContext(ctx).Raw(`SELECT i.* FROM frames f JOIN run_shots s USING (run_id, shot), `+turn.Inputs+` i
		WHERE f.id = $1 AND f.fence = $2 AND f.host = $3 AND f.state = 'rendering' AND i.shot = $4`, lease, fence, host, shot).Take(&f).Error
	if store.Missing(err) {
		err = httpapi.Conflict(fmt.Sprintf("lease %d with fence %d is not held any more, or its frame needs none of %s that is done", lease, fence, shot))
	}
	switch {
	case err != nil:
		return "", 0, err
	case file == "":
		return f.Key(), *f.Bytes, nil
	}
	x, err := q.files.Named(ctx, f.ID, file)
	return x.Key, x.Bytes, err
}
