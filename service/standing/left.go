package standing

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/bookings"
	"rotanex.example/service/queue"
)

// Stranded is frames that nobody is left for: nothing goes on there by itself.
type Stranded struct {
	Shot   string
	Frames int
	Why    string
}

// Stranded lists what of a run's waiting frames nobody is left for, by shot.
func (s *Standing) Stranded(ctx context.Context, run uuid.UUID) (out []Stranded, err error) {
	tx := s.store.WithContext(ctx)
	all, err := bookings.OfRun(tx, s.clock.WallNow(), run, "")
	if err != nil {
		return nil, err
	}
	waiting, err := bookings.KindsOfRun(tx, run)
	if err != nil {
		return nil, err
	}
	for _, shot := range shotsOf(all) {
		at := Stranded{Shot: shot}
		var why []string // each once
		for _, k := range waiting[shot] {
			yes, no := dispatch.Left(&k, bookings.OfShot(all, shot), s.clock.Now())
			if yes {
				continue
			}
			if !k.Tried {
				if k.Waiting, err = neverTried(tx, run, shot); err != nil {
					return nil, err
				}
			}
			at.Frames += k.Waiting
			why = append(why, slices.DeleteFunc(no, func(x string) bool { return slices.Contains(why, x) })...)
		}
		if at.Frames > 0 {
			at.Why = dispatch.Few(why)
			out = append(out, at)
		}
	}
	return out, nil
}

// shotsOf lists the shots that crews are booked for, in order.
func shotsOf(all []*bookings.Crew) []string {
	var out []string
	for _, c := range all {
		out = append(out, c.Shot)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Untie lets frames of a run that ran out of memory go to whom a new plan books, where
// nobody is left of those that they were tied to: the plan knows by now what they need.
func (s *Standing) Untie(tx *gorm.DB, run uuid.UUID) error {
	all, err := bookings.OfRun(tx, s.clock.WallNow(), run, "")
	if err != nil {
		return err
	}
	for _, shot := range shotsOf(all) {
		waiting, err := bookings.WaitingKinds(tx, run, shot)
		if err != nil {
			return err
		}
		for _, k := range waiting {
			if left, _ := dispatch.Left(&k, bookings.OfShot(all, shot), s.clock.Now()); left || len(k.OnlyOn) == 0 {
				continue
			}
			if err := queue.Untie(tx, run, shot, k.OnlyOn); err != nil {
				return err
			}
		}
	}
	return nil
}

// Alone is what of a run's waiting frames only one host is left for, and how long that
// takes it: by what it has shown it can do, or was expected to.
func (s *Standing) Alone(tx *gorm.DB, run uuid.UUID, host string) (frames int, takes time.Duration, err error) {
	all, err := bookings.OfRun(tx, s.clock.WallNow(), run, "")
	if err != nil {
		return 0, 0, err
	}
	known, err := paces(tx, run, host)
	if err != nil {
		return 0, 0, err
	}
	var own, others []*bookings.Crew
	for _, c := range all {
		if c.Host != host {
			others = append(others, c)
		} else if c.Excluded == "" {
			c.Close = time.Time{} // it would stay
			own = append(own, c)
		}
	}
	seconds := 0.0
	seen := map[string]bool{}
	for _, c := range own {
		if seen[c.Shot] {
			continue
		}
		seen[c.Shot] = true
		waiting, err := bookings.WaitingKinds(tx, run, c.Shot)
		if err != nil {
			return 0, 0, err
		}
		n := 0
		for _, k := range waiting {
			elsewhere, _ := dispatch.Left(&k, bookings.OfShot(others, c.Shot), s.clock.Now())
			here, _ := dispatch.Left(&k, bookings.OfShot(own, c.Shot), s.clock.Now())
			if !elsewhere && here {
				n += k.Waiting
			}
		}
		if n > 0 {
			frames += n
			seconds += lasts(n, own, c.Shot, known)
		}
	}
	return frames, time.Duration(seconds * float64(time.Second)), nil
}

// lasts is how many seconds frames of a shot take crews that work side by side.
func lasts(n int, crews []*bookings.Crew, shot string, paces map[string]float64) float64 {
	rate, slowest := 0.0, 0.0
	counted := map[string]bool{}
	for _, c := range crews {
		if c.Shot != shot || counted[c.Name] {
			continue
		}
		counted[c.Name] = true
		pace := max(c.Pace, paces[shot+" "+c.Name], 0.001)
		rate, slowest = rate+1/pace, max(slowest, pace)
	}
	return float64(n)/rate + slowest
}
