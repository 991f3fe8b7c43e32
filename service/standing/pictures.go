package standing

import (
	"context"
	"errors"
	"image"

	"github.com/google/uuid"

	"rotanex.example/service/queue"
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
	found, err := alike(s.store.WithContext(ctx), h, frame, n)
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
