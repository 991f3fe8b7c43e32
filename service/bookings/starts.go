package bookings

import (
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/starts"
)

// InStart is how many frames of a kind a crew's next start takes; several is whether its agent renders more than one in a start.
func (c *Crowds) InStart(tx *gorm.DB, wall, now time.Time, several bool, crew *Crew, k *dispatch.Kind) (int, error) {
	own := starts.Crew{Opening: crew.Opening, Frame: crew.Frame}
	if !several || crew.Trial || k.Tried || starts.Enough(own.Opening, own.Frame) == 1 {
		return 1, nil
	}
	rows, waiting, err := c.Of(tx, wall, crew.Run, crew.Shot)
	if err != nil {
		return 0, err
	}
	leased, err := underLease(tx, crew.Run, crew.Shot)
	if err != nil {
		return 0, err
	}
	n := starts.Frames(own, beside(crew, rows, leased, now), waiting)
	if owed := crew.Owed(); owed > 0 {
		n = min(n, owed)
	}
	if !crew.Close.IsZero() {
		n = min(n, int(crew.Close.Sub(now)/crew.Frame))
	}
	return max(1, n), nil
}

// beside are those who render the shot beside a crew, or owe frames of it.
func beside(crew *Crew, rows []*Crew, leased map[int64]inHand, now time.Time) (out []starts.Crew) {
	for _, o := range rows {
		comes, will := o.Comes(now)
		hand, renders := leased[o.ID]
		if o.Shares(&crew.Crew) || o.Frame <= 0 || !renders && !(will && o.Owed() > 0) {
			continue
		}
		x := starts.Crew{Opening: o.Opening, Frame: o.Frame}
		if will {
			x.Free = max(0, comes.Sub(now))
		}
		if renders {
			last := hand.last
			if hand.begun != nil { // its frames may take longer than was expected
				if at := hand.begun.Add(time.Duration(hand.unbegun) * o.Frame); at.After(last) {
					last = at
				}
			}
			x.Free = max(x.Free, last.Add(o.Frame).Sub(now))
		}
		out = append(out, x)
	}
	return out
}

// Shift is how many frames bookings give up that their starts have not begun, for a crew that has nothing left to do and by the
// rule may have them.
func Shift(tx *gorm.DB, wall, now time.Time, crew *Crew) (map[int64]int, error) {
	if crew.Opening <= 0 || crew.Frame <= 0 || crew.Trial {
		return nil, nil
	}
	leased, err := underLease(tx, crew.Run, crew.Shot)
	held := false
	for _, x := range leased {
		held = held || x.unbegun > 0
	}
	if err != nil || !held {
		return nil, err
	}
	rows, err := OfRun(tx, wall, crew.Run, crew.Shot)
	if err != nil {
		return nil, err
	}
	var holders []starts.Holder
	var of []*Crew
	for _, o := range rows {
		if hand := leased[o.ID]; hand.unbegun > 0 && hand.begun != nil && !o.Shares(&crew.Crew) {
			free := hand.begun.Add(o.Frame).Sub(now)
			if free < 0 {
				free = o.Frame / 4 // it takes longer than was expected
			}
			holders, of = append(holders, starts.Holder{Crew: starts.Crew{Free: free, Frame: o.Frame}, Unbegun: hand.unbegun}), append(of, o)
		}
	}
	out, total := map[int64]int{}, 0
	for i, n := range starts.Shift(starts.Crew{Opening: crew.Opening, Frame: crew.Frame}, holders) {
		if n > 0 {
			out[of[i].ID] = n
			of[i].Taken, total = of[i].Taken-n, total+n
		}
	}
	if total == 0 || dispatch.Takes(&crew.Crew, &dispatch.Kind{Waiting: total}, Rule(rows), total, now).When != dispatch.Now {
		return nil, nil
	}
	return out, nil
}
