package simulate

import (
	"slices"
	"time"

	"rotanex.example/core/dispatch"
)

// whenever is later than any booking begins.
var whenever = time.Unix(1<<40, 0)

func (r *shotRun) waiting() int {
	n := r.end - r.next
	for _, k := range r.tried {
		n += len(k.frames)
	}
	return n
}

// kindsOf lists the kinds of a shot's waiting frames, the one with the first frame first.
func (s *Simulation) kindsOf(shot int) []dispatch.Kind {
	r := &s.shots[shot]
	out := r.kinds[:0]
	if r.next < r.end {
		out = append(out, dispatch.Kind{Waiting: r.end - r.next, First: int64(r.fresh[r.next])})
	}
	for _, k := range r.tried {
		k.Waiting, k.First = len(k.frames), int64(k.frames[0])
		out = append(out, k.Kind)
	}
	if len(out) > 1 {
		slices.SortFunc(out, func(a, b dispatch.Kind) int { return int(a.First - b.First) })
	}
	r.kinds = out
	return out
}

// remove takes a frame out of the waiting ones, and says of what kind it was; nil: it was
// never tried.
func (r *shotRun) remove(frame int) *dispatch.Kind {
	for i := range r.tried {
		k := &r.tried[i]
		at, found := slices.BinarySearch(k.frames, frame)
		if !found {
			continue
		}
		kind := k.Kind
		if k.frames = slices.Delete(k.frames, at, at+1); len(k.frames) == 0 {
			r.tried = slices.Delete(r.tried, i, i+1)
		}
		return &kind
	}
	r.next++
	return nil
}

// putBack lets a frame wait that was of a kind before it failed at a place.
func (r *shotRun) putBack(frame int, before *dispatch.Kind, place string) {
	if before == nil {
		before = &dispatch.Kind{}
	}
	on := append(slices.Clone(before.FailedOn), place)
	for i := range r.tried {
		if k := &r.tried[i]; slices.Equal(k.FailedOn, on) && slices.Equal(k.OnlyOn, before.OnlyOn) {
			at, _ := slices.BinarySearch(k.frames, frame)
			k.frames = slices.Insert(k.frames, at, frame)
			return
		}
	}
	r.tried = append(r.tried, triedKind{dispatch.Kind{FailedOn: on, OnlyOn: before.OnlyOn, Tried: true}, []int{frame}})
}

// takeLast takes up to what a farm was booked for, from the end of the shot, and
// returns it in order.
func (r *shotRun) takeLast(farm *dispatch.Crew) []heldFrame {
	numbers := slices.Clone(r.fresh[r.next:r.end])
	for _, k := range r.tried {
		if dispatch.Hands(farm, &k.Kind) {
			numbers = append(numbers, k.frames...)
		}
	}
	slices.Sort(numbers)
	numbers = numbers[max(0, len(numbers)-farm.Owed()):]
	out := make([]heldFrame, len(numbers))
	for i, n := range slices.Backward(numbers) {
		out[i].number = n
		if r.next < r.end && n == r.fresh[r.end-1] {
			r.end--
			continue
		}
		out[i].kindOf = r.remove(n)
	}
	return out
}

// The queue as the rule asks for it.

// Kinds implements dispatch.Queue.
func (s *Simulation) Kinds(c *dispatch.Crew) ([]dispatch.Kind, error) {
	return s.kindsOf(s.shotOf(c)), nil
}

// Others implements dispatch.Queue.
func (s *Simulation) Others(c *dispatch.Crew) ([]*dispatch.Crew, int, error) {
	r := &s.shots[s.shotOf(c)]
	return r.crews, r.waiting(), nil
}

// place is a crew's place in Crews.
func (s *Simulation) place(c *dispatch.Crew) int {
	h := &s.hosts[s.looking]
	for i, x := range h.Crews {
		if x == c {
			return h.at[i]
		}
	}
	return -1
}

func (s *Simulation) shotOf(c *dispatch.Crew) int { return s.Crews[s.place(c)].Shot }

// Take implements dispatch.Queue.
func (s *Simulation) Take(c *dispatch.Crew, k *dispatch.Kind) (int, error) {
	crew, frame := s.place(c), int(k.First)
	kind := s.shots[s.Crews[crew].Shot].remove(frame)
	if k.Waiting == 1 {
		s.kindIsGone()
	}
	shot := s.Crews[crew].Shot
	s.fewerWait(shot)
	if len(s.shots[shot].tried) > 0 {
		s.wake(shot) // this crew reaches one less of those that not everybody may have
	}
	if p := s.pools[c.Licence]; p != nil {
		p.held[s.looking] = true
		p.renders[s.looking]++
	}
	takes, fails := s.chance.Try(crew, frame, s.time())
	s.queue.push(event{at: s.now + int64(takes), kind: frameEnds, host: s.looking, crew: crew, frame: frame, fails: fails, kindOf: kind})
	return 1, nil
}

// Pool implements dispatch.Queue.
func (s *Simulation) Pool(c *dispatch.Crew) (dispatch.Pool, bool, error) {
	p := s.pools[c.Licence]
	if p == nil {
		return dispatch.Pool{}, false, nil
	}
	out := dispatch.Pool{Name: p.Name, Total: p.Seats, Mine: p.held[s.looking]}
	now := s.time()
	for host := range s.hosts {
		switch {
		case host == s.looking:
		case p.held[host]:
			out.Held++
		case s.Hosts[host].Nodes == 0 && !s.Hosts[host].Up.After(now) && s.wants(host, p.Name, now):
			out.Wanted++
		}
	}
	return out, true, nil
}

// wants reports whether a crew of a host wants a seat whose booking has begun by a time.
func (s *Simulation) wants(host int, pool string, by time.Time) bool {
	h := &s.hosts[host]
	for i, c := range h.Crews {
		if c.Licence == pool && !c.Start.After(by) && dispatch.Wants(c, s.kindsOf(s.Crews[h.at[i]].Shot)) {
			return true
		}
	}
	return false
}

// returnSeats takes back the seats of hosts that do not keep theirs.
func (s *Simulation) returnSeats() {
	for _, p := range s.pools {
		for host, held := range p.held {
			if held && p.renders[host] == 0 && !s.wants(host, p.Name, whenever) {
				p.held[host] = false
				s.seatsMayBeFree(p)
			}
		}
	}
}

// seatsMayBeFree lets hosts look again that found no seat of a pool.
func (s *Simulation) seatsMayBeFree(p *poolRun) {
	for host := range p.waiting {
		if p.waiting[host] && host != s.looking {
			p.waiting[host] = false
			s.lookAt(host, s.now)
		}
	}
}
