package standing

import (
	"context"

	"github.com/google/uuid"

	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
)

// Reference is a finished frame that somebody else rendered.
type Reference struct {
	Frame int
	Host  string
	Key   string // of its picture
}

// References returns up to n finished pictures of a holder's shot, with the same
// settings, that were rendered elsewhere, in its run or before: trials' too. The nearest
// to a frame comes first.
func (s *Standing) References(ctx context.Context, h queue.Holder, frame, n int) ([]Reference, error) {
	found, err := alike(s.store.WithContext(ctx), h, frame, n)
	var out []Reference
	for _, f := range found {
		out = append(out, Reference{f.Frame, *f.Host, f.Key()})
	}
	return out, err
}

// PictureOf is the key of the picture of a finished frame that can be looked at; pictures.ErrNoPicture: it has none.
func (s *Standing) PictureOf(ctx context.Context, run uuid.UUID, shot string, number int) (string, error) {
	var f queue.Frame
	found := s.store.WithContext(ctx).Where("run_id = ? AND shot = ? AND frame = ? AND NOT warm_up AND repeat = 0 AND state = 'done'", run, shot, number).Limit(1).Find(&f)
	if found.Error == nil && (found.RowsAffected == 0 || !f.Seen.Shown(f.Format)) {
		return "", pictures.ErrNoPicture
	}
	return f.Key(), found.Error
}
