package bookings

import (
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/starts"
)

// InStart is how many frames of a kind a crew's next start takes.
func (c *Crowds) InStart(tx *gorm.DB, wall, now time.Time, crew *Crew, k *dispatch.Kind) (int, error) {
	own := starts.Crew{Opening: crew.Opening, Frame: crew.Frame}
	if crew.Trial || k.Tried || starts.Enough(own.Opening, own.Frame) == 1 {
		return 1, nil
	}
	rows, waiting, err := c.Of(tx, wall, crew.Run, crew.Shot)
	if err != nil {
		return 0, err
	}
	last, err := lastBegins(tx, crew.Run, crew.Shot)
	if err != nil {
		return 0, err
	}
	n := starts.Frames(own, beside(crew, rows, last, now), waiting)
	if owed := crew.Owed(); owed > 0 {
		n = min(n, owed)
	}
	if !crew.Close.IsZero() {
		n = min(n, int(crew.Close.Sub(now)/crew.Frame))
	}
	return max(1, n), nil
}

// beside are those who render the shot beside a crew, or owe frames of it: last is when the last frame begins that each has under
// lease.
func beside(crew *Crew, rows []*Crew, last map[int64]time.Time, now time.Time) (out []starts.Crew) {
	for _, o := range rows {
		comes, will := o.Comes(now)
		begins, renders := last[o.ID]
		if o.Shares(&crew.Crew) || o.Frame <= 0 || !renders && !(will && o.Owed() > 0) {
			continue
		}
		x := starts.Crew{Opening: o.Opening, Frame: o.Frame}
		if will {
			x.Free = max(0, comes.Sub(now))
		}
		if renders {
			x.Free = max(x.Free, begins.Add(o.Frame).Sub(now))
		}
		out = append(out, x)
	}
	return out
}
