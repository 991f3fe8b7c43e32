package simulate

import "slices"

// feed is a shot that needs the frames of another: its own number k needs that one's k - home.
type feed struct{ shot, home int }

// block lets the frames of a shot wait for their inputs, but those whose inputs are all home.
func (s *Simulation) block(shot int) {
	r, x := &s.shots[shot], &s.setup.Shots[shot]
	r.blocked = 0
	if x.After == nil {
		return
	}
	r.fresh, r.needs = r.fresh[:0], slices.Grow(r.needs[:0], x.Frames)[:x.Frames]
	for n := range r.needs {
		r.needs[n] = 0
		for _, a := range x.After {
			if n >= a.Home {
				r.needs[n]++
			}
		}
		if r.needs[n] == 0 {
			r.fresh = append(r.fresh, n)
		} else {
			r.blocked++
		}
	}
}

// bring brings a frame home that other shots need.
func (s *Simulation) bring(e event, c *Crew) {
	switch {
	case s.shots[c.Shot].feeds == nil:
	case c.Home > 0:
		s.queue.push(event{at: s.now + int64(c.Home), kind: frameHome, host: e.host, crew: e.crew, frame: e.frame})
	default:
		s.frameHome(c.Shot, e.frame)
	}
}

// frameHome lets frames wait for a crew that have all their inputs with this one.
func (s *Simulation) frameHome(shot, frame int) {
	for _, f := range s.shots[shot].feeds {
		r, n := &s.shots[f.shot], frame+f.home
		if n >= len(r.needs) {
			continue
		}
		if r.needs[n]--; r.needs[n] > 0 {
			continue
		}
		r.blocked--
		// In its place among those that wait: what is before next is taken.
		at, _ := slices.BinarySearch(r.fresh[r.next:r.end], n)
		r.fresh = slices.Insert(r.fresh[:r.end], r.next+at, n)
		r.end++
		s.wake(f.shot)
	}
}
