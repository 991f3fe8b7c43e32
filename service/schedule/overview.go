package schedule

import (
	"context"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/replan"
	"rotanex.example/service/bookings"
	"rotanex.example/service/standing"
)

// overview is what every crew still has to do in all open runs, and when.
func (s *Schedule) overview(ctx context.Context) (now time.Time, work []replan.Work, err error) {
	now = s.Clock.Now()
	db := s.Store.WithContext(ctx)
	inHand, err := standing.Rendering(db)
	if err != nil {
		return now, nil, err
	}
	for _, f := range inHand {
		each := f.FrameS / float64(max(1, f.Nodes))
		left := f.Since.Add(time.Duration(each * float64(f.Frames) * float64(time.Second))).Sub(now)
		if left <= 0 {
			left = time.Duration(each / 4 * float64(time.Second))
		}
		w := replan.Work{Run: f.RunID.String(), Shot: f.Shot, Place: f.Host, Crew: f.Crew, Frames: f.Frames, Takes: left}
		if !f.Farm {
			w.Devices = f.Devices
		}
		work = append(work, w)
	}
	crews, err := bookings.OfOpenRuns(db, s.Clock.WallNow())
	for _, c := range crews {
		if c.Over() {
			continue // what it owes goes to others
		}
		n := c.Frames - c.Taken
		w := replan.Work{Run: c.Run.String(), Shot: c.Shot, Place: c.Host, Crew: c.Name, Frames: n, Takes: time.Duration(n) * c.Frame, Begins: c.Start}
		if !c.Farm {
			w.Devices = c.Devices
		}
		if c.State == dispatch.Gone || c.State == dispatch.Silent {
			w.Lost = c.Said
			if w.Lost == "" {
				w.Lost = "is not heard of"
			}
		}
		work = append(work, w)
	}
	return now, replan.Expect(now, work), err
}
