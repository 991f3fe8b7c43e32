package queue

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/hosts"
	"rotanex.example/service/store"
)

// stands says how the machine of a booking stands, as the rule looks at it.
func (c *crewRow) stands(wall time.Time) (dispatch.State, string) {
	if c.job != nil {
		switch *c.job {
		case "planned":
			return dispatch.Coming, ""
		case "not-started":
			return dispatch.Gone, "was not given the job"
		}
		return dispatch.Gone, "has its job: it takes no more frames"
	}
	up := c.seen != nil && wall.Sub(*c.seen) < hosts.Lost
	if c.server != nil {
		switch *c.server {
		case "planned", "requested", "starting":
			return dispatch.Coming, ""
		case "not-started":
			return dispatch.Gone, "was never made"
		case "up":
			if !up {
				return dispatch.Silent, ""
			}
		default:
			return dispatch.Gone, "is ended"
		}
	}
	switch {
	case !c.known:
		return dispatch.Gone, "is not in the stock any more"
	case c.drains:
		return dispatch.Gone, "is draining"
	case !up:
		return dispatch.Gone, "is not heard of"
	}
	return dispatch.Ready, ""
}

// Stranded is frames that nobody is left for: nothing goes on there by itself.
type Stranded struct {
	Shot   string
	Frames int
	Why    string
}

// Stranded lists what of a run's waiting frames nobody is left for, by shot.
func (q *Queue) Stranded(ctx context.Context, run uuid.UUID) (out []Stranded, err error) {
	tx := q.store.WithContext(ctx)
	shots, err := store.Column[string](tx.Raw("SELECT DISTINCT shot FROM bookings WHERE run_id = $1 ORDER BY shot", run))
	if err != nil {
		return nil, err
	}
	all, err := q.crews(tx, "b.run_id = $1", run)
	if err != nil {
		return nil, err
	}
	for _, shot := range shots {
		waiting, err := counted(tx, run, shot)
		if err != nil {
			return nil, err
		}
		at := Stranded{Shot: shot}
		var why []string
		for _, k := range waiting {
			yes, no := dispatch.Left(&k, ofShot(all, shot), q.clock.Now())
			if !yes {
				at.Frames += k.Waiting
				why = append(why, no...)
			}
		}
		if at.Frames > 0 {
			at.Why = dispatch.Few(distinct(why))
			out = append(out, at)
		}
	}
	return out, nil
}

func distinct(all []string) (out []string) {
	seen := map[string]bool{}
	for _, s := range all {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return out
}

func ofShot(all []*crewRow, shot string) (out []*dispatch.Crew) {
	for _, c := range all {
		if c.Shot == shot {
			out = append(out, &c.Crew)
		}
	}
	return out
}

// counted is kinds with how many wait of each.
func counted(tx *gorm.DB, run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	all, err := kinds(tx, run, shot)
	if err != nil || len(all) == 0 {
		return all, err
	}
	fresh, err := countWaiting(tx, run, shot)
	for _, k := range all {
		if k.Tried {
			fresh -= k.Waiting
		}
	}
	for i := range all {
		if !all[i].Tried {
			all[i].Waiting = fresh
		}
	}
	return all, err
}

// Untie lets frames of a run that ran out of memory go to whom a new plan books, where
// nobody is left of those that they were tied to: the plan knows by now what they need.
func (q *Queue) Untie(tx *gorm.DB, run uuid.UUID) error {
	all, err := q.crews(tx, "b.run_id = $1", run)
	if err != nil {
		return err
	}
	for _, shot := range distinct(shotsOf(all)) {
		waiting, err := kinds(tx, run, shot)
		if err != nil {
			return err
		}
		for _, k := range waiting {
			if left, _ := dispatch.Left(&k, ofShot(all, shot), q.clock.Now()); left || len(k.OnlyOn) == 0 {
				continue
			}
			tied, err := store.AsJSON(k.OnlyOn)
			if err != nil {
				return err
			}
			err = tx.Exec("UPDATE frames SET only_on = '[]' WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND only_on = $3::jsonb", run, shot, tied).Error
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func shotsOf(all []*crewRow) (out []string) {
	for _, c := range all {
		out = append(out, c.Shot)
	}
	return out
}

// Alone is what of a run's waiting frames only one host is left for, and how long that
// takes it: by what it has shown it can do, or was expected to.
func (q *Queue) Alone(tx *gorm.DB, run uuid.UUID, host string) (frames int, takes time.Duration, err error) {
	all, err := q.crews(tx, "b.run_id = $1", run)
	if err != nil {
		return 0, 0, err
	}
	paces, err := q.paces(tx, run, host)
	if err != nil {
		return 0, 0, err
	}
	var own, others []*crewRow
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
		waiting, err := counted(tx, run, c.Shot)
		if err != nil {
			return 0, 0, err
		}
		n := 0
		for _, k := range waiting {
			elsewhere, _ := dispatch.Left(&k, ofShot(others, c.Shot), q.clock.Now())
			here, _ := dispatch.Left(&k, ofShot(own, c.Shot), q.clock.Now())
			if !elsewhere && here {
				n += k.Waiting
			}
		}
		if n > 0 {
			frames += n
			seconds += lasts(n, own, c.Shot, paces)
		}
	}
	return frames, time.Duration(seconds * float64(time.Second)), nil
}

// lasts is how many seconds frames of a shot take crews that work side by side.
func lasts(n int, crews []*crewRow, shot string, paces map[string]float64) float64 {
	rate, slowest := 0.0, 0.0
	counted := map[string]bool{}
	for _, c := range crews {
		if c.Shot != shot || counted[c.Name] {
			continue
		}
		counted[c.Name] = true
		pace := max(c.pace, paces[shot+" "+c.Name], 0.001)
		rate, slowest = rate+1/pace, max(slowest, pace)
	}
	return float64(n)/rate + slowest
}

// paces is what finished frames took a host's crews in a run, by shot and crew.
func (q *Queue) paces(tx *gorm.DB, run uuid.UUID, host string) (map[string]float64, error) {
	type pace struct {
		key     string
		seconds float64
	}
	all, err := store.Rows(tx.Raw(`SELECT f.shot || ' ' || a.crew, avg(a.seconds) FROM tries a JOIN frames f ON f.id = a.frame_id
		WHERE a.run_id = $1 AND a.host = $2 AND a.outcome = 'done' GROUP BY 1`, run, host), func(row store.Row) (p pace, err error) {
		return p, row.Scan(&p.key, &p.seconds)
	})
	out := map[string]float64{}
	for _, p := range all {
		out[p.key] = p.seconds
	}
	return out, err
}
