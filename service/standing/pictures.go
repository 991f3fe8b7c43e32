package standing

import (
	"context"
	"errors"
	"image"

	"github.com/google/uuid"

	"rotanex.example/service/queue"
	"rotanex.example/service/store"
)

// Reference is a finished frame that somebody else rendered.
type Reference struct {
	Frame   int
	Host    string
	Picture image.Image
}

// References returns up to n finished pictures of a holder's shot, with the same
// settings, that were rendered elsewhere, in its run or before: trials' too. The nearest
// to a frame comes first.
func (s *Standing) References(ctx context.Context, h queue.Holder, frame, n int) ([]Reference, error) {
	found, err := store.Rows(s.store.WithContext(ctx).Raw(`
		WITH own AS (SELECT spec FROM run_shots WHERE run_id = $1 AND shot = $2)
		SELECT f.run_id, f.shot, f.frame, f.repeat, f.fence, f.host FROM frames f JOIN run_shots s USING (run_id, shot), own
		WHERE f.shot = $2 AND f.state = 'done' AND f.from_run IS NULL AND NOT f.warm_up AND f.format <> 'exr' AND f.host <> $3
		  AND (s.spec->>'scene', s.spec->>'width', s.spec->>'height', coalesce(s.spec->'settings', '{}')) = (own.spec->>'scene', own.spec->>'width', own.spec->>'height', coalesce(own.spec->'settings', '{}'))
		ORDER BY abs(f.frame - $4), f.done_at DESC LIMIT $5`, h.Run, h.Shot, h.Place, frame, n), func(row store.Row) (f queue.Frame, err error) {
		err = row.Scan(&f.RunID, &f.Shot, &f.Frame, &f.Repeat, &f.Fence, &f.Host)
		return f, err
	})
	var out []Reference
	for _, f := range found {
		if img, err := s.pictures.Decode(ctx, f.Key()); err == nil { // what cannot be looked at is left out
			out = append(out, Reference{f.Frame, *f.Host, img})
		}
	}
	return out, err
}

// ErrNoPicture says that a frame has no picture that could be looked at.
var ErrNoPicture = errors.New("there is no picture of the frame that decodes")

// Image decodes the picture of a finished frame.
func (s *Standing) Image(ctx context.Context, run uuid.UUID, shot string, number int) (image.Image, error) {
	var f queue.Frame
	found := s.store.WithContext(ctx).Where("run_id = ? AND shot = ? AND frame = ? AND NOT warm_up AND repeat = 0 AND state = 'done'", run, shot, number).Limit(1).Find(&f)
	if found.Error != nil {
		return nil, found.Error
	}
	if found.RowsAffected == 0 || f.Format == "exr" {
		return nil, ErrNoPicture
	}
	return s.pictures.Decode(ctx, f.Key())
}
