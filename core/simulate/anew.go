package simulate

import (
	"slices"
	"time"

	"rotanex.example/core/dispatch"
)

// Begin makes a run ready that is carried on by Until. Reset was called before.
func (s *Simulation) Begin(chance Chance) {
	s.chance = chance
	for i := range s.hosts {
		s.begin(i)
	}
}

// Until carries the run on until a time, at which all that happens then has happened, and
// reports whether anything is to happen after it.
func (s *Simulation) Until(at time.Time) bool { return s.until(at.UnixNano()) }

func (s *Simulation) until(at int64) bool {
	for {
		if len(s.due) == 0 {
			if len(s.queue) == 0 || s.queue[0].at > at {
				break
			}
			s.now = s.queue[0].at
			for len(s.queue) > 0 && s.queue[0].at == s.now {
				s.happen(s.queue.pop())
			}
		}
		s.returnSeats()
		// All that happens at one time has happened before anybody looks.
		slices.Sort(s.due)
		for len(s.due) > 0 {
			host := s.due[0]
			s.due = slices.Delete(s.due, 0, 1)
			s.look(host)
		}
	}
	if at != never {
		s.now = at
	}
	return len(s.queue) > 0
}

// Waiting is how many frames of a shot wait, with those that wait for their inputs.
func (s *Simulation) Waiting(shot int) int { return s.shots[shot].waiting() + s.shots[shot].blocked }

// Held is how many frames a farm's job has in hand.
func (s *Simulation) Held(host int) int {
	return len(s.hosts[host].held) + s.Hosts[host].Nodes - s.hosts[host].idle
}

// Rendering lists the crews, by place in Crews, that have a frame in hand, farms aside.
func (s *Simulation) Rendering() (crews []int) {
	for _, e := range s.queue {
		if e.kind == frameEnds && s.Hosts[e.host].Nodes == 0 {
			crews = append(crews, e.crew)
		}
	}
	slices.Sort(crews)
	return crews
}

// Book changes a run over to other bookings while it goes on. Hosts are told apart by their
// names, those of farms by nothing: each is a job of its own. What crews render stays with
// them and what farms have begun goes on; what else was owed is dropped, and no crew from
// before takes another frame. Hosts that were not up yet and are not among the new ones never
// come. The new crews are put behind the others in Crews, in their order. A simulation that
// was booked anew cannot be reset.
func (s *Simulation) Book(hosts []Host, crews []Crew) {
	at := s.hostsOf(hosts)
	for i := range s.Crews {
		c := &s.Crews[i]
		if c.Frames = c.Taken; c.State != dispatch.Gone {
			c.State, c.Said = dispatch.Gone, "was planned anew"
		}
	}
	first := len(s.Crews)
	for _, c := range crews {
		c.Host, c.ID = at[c.Host], int64(len(s.Crews)+1)
		s.Crews = append(s.Crews, c)
	}
	s.link(first)
	for i := range s.hosts {
		switch h := &s.hosts[i]; {
		case s.Hosts[i].Nodes == 0:
			s.lookAt(i, s.now)
		case len(h.Crews) > 0 && s.Crews[h.at[0]].State == dispatch.Ready:
			s.hand(i)
		}
	}
}

// hostsOf finds the places of hosts, and adds those that are new.
func (s *Simulation) hostsOf(hosts []Host) (at []int) {
	for _, h := range hosts {
		place := -1
		if h.Nodes == 0 {
			place = slices.IndexFunc(s.Hosts, func(x Host) bool { return x.Nodes == 0 && x.Name == h.Name })
		}
		if place < 0 {
			place = len(s.Hosts)
			s.Hosts, s.hosts = append(s.Hosts, h), append(s.hosts, hostRun{})
			for _, p := range s.pools {
				p.held, p.renders, p.waiting = append(p.held, false), append(p.renders, 0), append(p.waiting, false)
			}
			s.empty(place)
			s.upsets(place)
		}
		at = append(at, place)
	}
	return at
}

// link ties the crews from a place on to their hosts and shots: their list may have moved.
// Those before, which take nothing more, are left out.
func (s *Simulation) link(first int) {
	for i := range s.shots {
		s.shots[i].crews, s.shots[i].hosts = s.shots[i].crews[:0], s.shots[i].hosts[:0]
	}
	for i := range s.hosts {
		s.hosts[i].places = s.hosts[i].places[:0]
	}
	for i := range s.Crews {
		c := &s.Crews[i]
		farm := s.Hosts[c.Host].Nodes > 0
		if i < first && !farm {
			continue
		}
		s.hosts[c.Host].places = append(s.hosts[c.Host].places, i)
		shot := &s.shots[c.Shot]
		shot.crews = append(shot.crews, &c.Crew)
		if !slices.Contains(shot.hosts, c.Host) {
			shot.hosts = append(shot.hosts, c.Host)
		}
	}
	for i := range s.hosts {
		s.sort(i)
	}
}

// Come lets those crews of a host take part that are not gone any more, and look from a time on.
func (s *Simulation) Come(host int, at time.Time) {
	for _, i := range s.hosts[host].places {
		if c := s.Crews[i]; c.State != dispatch.Gone {
			s.takePart(i, c)
		}
	}
	s.Hosts[host].Up = at
	s.lookAt(host, at.UnixNano())
}

// Lose takes a host away for good: what it renders waits again.
func (s *Simulation) Lose(host int) {
	h := &s.hosts[host]
	for _, c := range h.Crews {
		c.Frames, c.State, c.Said = c.Taken, dispatch.Gone, "was lost"
	}
	s.giveBack(host)
	for _, at := range h.at {
		s.wake(s.Crews[at].Shot) // others are wanted for what it owed
	}
}

// deskChanges lets a desk be its owner's, or be lent again.
func (s *Simulation) deskChanges(e event) {
	h := &s.hosts[e.host]
	from, to := dispatch.InUse, dispatch.Ready
	if e.fails {
		from, to = to, from
	}
	for i, c := range h.Crews {
		if c.State == from {
			c.State = to
			s.wake(s.Crews[h.at[i]].Shot) // others may be wanted, or not
		}
	}
	if e.fails {
		s.giveBack(e.host)
	} else {
		s.lookAt(e.host, s.now)
	}
}

// giveBack lets what a host renders wait again, as it did before.
func (s *Simulation) giveBack(host int) {
	h := &s.hosts[host]
	h.Busy, h.UsedGB = h.Busy[:0], 0
	all := s.queue
	s.queue = nil
	for _, e := range all {
		if e.kind != frameEnds || e.host != host {
			s.queue.push(e)
			continue
		}
		c := &s.Crews[e.crew]
		c.Taken--
		s.shots[c.Shot].waitAgain(e.frame, e.kindOf)
		if p := s.pools[c.Licence]; p != nil {
			p.renders[host], p.held[host] = 0, false
			s.seatsMayBeFree(p)
		}
		s.wake(c.Shot)
	}
}

// waitAgain lets a frame wait as it did before it was taken.
func (r *shotRun) waitAgain(frame int, before *dispatch.Kind) {
	if before == nil {
		before = &dispatch.Kind{}
	}
	for i := range r.tried {
		if k := &r.tried[i]; slices.Equal(k.FailedOn, before.FailedOn) && slices.Equal(k.OnlyOn, before.OnlyOn) {
			at, _ := slices.BinarySearch(k.frames, frame)
			k.frames = slices.Insert(k.frames, at, frame)
			return
		}
	}
	r.tried = append(r.tried, triedKind{*before, []int{frame}})
}
