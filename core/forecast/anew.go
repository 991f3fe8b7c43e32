package forecast

import (
	"math"
	"time"

	"rotanex.example/core/dispatch"
)

// What core/replan does to a run that falls behind is simulated in a simple form: every few
// minutes it is counted which frames their crews will not have done in time, what other crews
// can take of them, and for those that are left servers are let, within Options.MayLet; not before
// that has to be, as most of what falls behind early is made up for by what goes better than expected.
const (
	settles   = 10 * time.Minute // after which more are let
	mostSpare = 4                // servers that an offer may let on the way
	keptSpare = 0.05             // part of the time to a deadline, when it is counted what falls behind
	uneven    = 0.5              // of a frame, that a crew has to have spare for its last, as frames differ
	waits     = 0.2              // nothing is let until all servers would take this part of the time left
)

// How often a run is looked at where nothing has happened: what is noticed so late costs no more
// than a fiftieth of the time that is left, but in long runs.
const (
	lookSoonest = 5 * time.Minute
	lookLatest  = 20 * time.Minute
	lookPart    = 50
)

// LookAfter is how long after a look at a run the next one is, where nothing has happened
// meanwhile, by how long it is expected to take still; 0: that is not known.
func LookAfter(left time.Duration) time.Duration {
	return min(max(lookSoonest, left/lookPart), lookLatest)
}

// keep carries a run out, and lets servers where it falls behind; true: it was at the first look.
func (s *simulation) keep() (behind bool) {
	s.sim.Begin(s)
	after := func(at time.Time) time.Time {
		return at.Add(LookAfter(s.due.Sub(at).Abs()))
	}
	first, rests := after(epoch), epoch
	for at := first; at.Before(s.last); at = after(at) {
		if more := s.sim.Until(at); !more && !s.anyWaits() {
			break
		}
		if !at.Before(rests) && s.catchUp(at) {
			rests, behind = at.Add(settles), behind || at.Equal(first)
		}
	}
	s.sim.Rest()
	return behind
}

func (s *simulation) anyWaits() bool {
	for i := range s.shots {
		if s.sim.Waiting(i) > 0 {
			return true
		}
	}
	return false
}

// expected is how things stand with a crew.
type expected struct {
	ends  float64 // ms: it is through with what it owes
	frame float64 // ms, as it takes them now
	over  int     // frames that it will not have done in time
	look  int     // at which this was reckoned
}

// catchUp lets servers for what the crews will not have done in time; false: it is not behind,
// or nothing can be let.
func (s *simulation) catchUp(now time.Time) (let bool) {
	at, takes := ms(now), 0.0
	s.expect(now)
	for _, i := range s.byDue {
		due := s.shots[i].deadline
		due -= keptSpare * max(0, due-at)
		behind := s.behind(i, due, at)
		if behind <= 0 {
			continue
		}
		lead, rate := s.spare(i, now)
		if takes += float64(behind) / rate; lead+takes >= waits*(due-at) && s.letFor(i, behind, due, now) {
			let = true
		}
	}
	return let
}

// expect says of each crew when it will be through. Of those that share devices, whose booking
// begins first renders first.
func (s *simulation) expect(now time.Time) {
	s.looks++
	at, urgent := ms(now), ms(now.Add(s.waitsFor(now)))
	for _, i := range s.active {
		c, x := &s.sim.Crews[i], &s.expects[i]
		x.look, x.frame = s.looks, s.frameNow(i, now)
		if c.State == dispatch.Gone && !c.Farm {
			x.ends = math.Inf(1)
			continue
		}
		x.ends = math.Max(s.starts[i], s.hand[i])
		for _, k := range s.inWay[i] {
			x.ends = math.Max(x.ends, s.hand[k])
			if before := &s.expects[k]; before.look == s.looks && s.sim.Crews[k].Owed() > 0 {
				x.ends = math.Max(x.ends, before.ends)
			}
		}
		from := at
		if of := s.Booked[i]; of.Server < 0 && of.Farm < 0 {
			from = urgent
		}
		if c.State == dispatch.InUse {
			from += s.awayFor[c.Host]
		}
		x.ends = math.Max(x.ends, from) + float64(c.Owed())*x.frame
	}
}

// frameNow is what a frame takes a crew as things are: ms.
func (s *simulation) frameNow(i int, now time.Time) float64 {
	shot := s.Crews[i].Shot
	return s.frame[i] * s.shots[shot].batch.mean * s.upsets(i, s.sim.Shots[shot].Done, now)
}

// behind is how many frames of a shot nobody will have done by a time: those that are over
// with their crews, less what others have room for.
func (s *simulation) behind(shot int, due, at float64) int {
	over, owed := 0, 0
	for _, i := range s.active {
		c, x := &s.sim.Crews[i], &s.expects[i]
		if x.over = 0; c.Shot != shot || c.Farm || c.State == dispatch.Gone {
			continue
		}
		owed += c.Owed()
		by := due
		if !c.Close.IsZero() {
			by = math.Min(by, ms(c.Close))
		}
		if by -= uneven * x.frame; c.Owed() > 0 && x.ends > by {
			x.over = min(c.Owed(), int(math.Ceil((x.ends-by)/x.frame)))
			over += x.over
		}
	}
	over += s.sim.Waiting(shot) - s.atFarms(shot) - owed // that nobody owes; below 0: owed, but others took them
	for _, i := range s.active {
		if c := &s.sim.Crews[i]; over > 0 && c.Shot == shot && !c.Farm && s.expects[i].over == 0 {
			over -= s.room(i, over, due, at)
		}
	}
	return over
}

// atFarms is how many frames of a shot wait for farms that have not taken them yet.
func (s *simulation) atFarms(shot int) (n int) {
	for _, i := range s.active {
		if c := &s.sim.Crews[i]; c.Shot == shot && c.Farm && c.State != dispatch.Gone {
			n += c.Owed()
		}
	}
	return n
}

// room is how many of so many frames a crew can take over by a time, and takes that time of
// its devices.
func (s *simulation) room(i, most int, due, at float64) int {
	c, x := &s.sim.Crews[i], &s.expects[i]
	from := math.Max(x.ends, at)
	for _, k := range s.inWay[i] {
		if s.sim.Crews[k].Owed() > 0 || s.expects[k].over > 0 {
			from = math.Max(from, s.expects[k].ends)
		}
	}
	if !c.Close.IsZero() {
		due = math.Min(due, ms(c.Close))
	}
	if due -= uneven * x.frame; c.State == dispatch.Gone || from >= due {
		return 0
	}
	n := min(most, int((due-from)/x.frame))
	x.ends = from + float64(n)*x.frame
	for _, k := range s.inWay[i] {
		s.expects[k].ends = math.Max(s.expects[k].ends, x.ends)
	}
	return n
}
