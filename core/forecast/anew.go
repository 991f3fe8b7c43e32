package forecast

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/simulate"
)

// What core/replan does to a run that falls behind is simulated in a simple form: every few
// minutes it is counted which frames their crews will not have done in time, what other crews
// can take of them, and for those that are left servers are let, within Options.MayLet.
const (
	lookEvery = 5 * time.Minute
	mostLooks = 30
	settles   = 2    // looks after which more are let
	mostSpare = 4    // servers that an offer may let on the way
	keptSpare = 0.05 // part of the time to a deadline, when it is counted what falls behind
)

// withSpares adds to a plan servers that may be let on the way: nobody is booked on them.
func withSpares(p planning.Problem, plan planning.Plan) planning.Plan {
	plan.Servers, plan.Bookings = slices.Clone(plan.Servers), slices.Clone(plan.Bookings)
	for _, o := range p.Offers {
		had := 0
		for _, v := range plan.Servers {
			if v.Offer == o.ID {
				had++
			}
		}
		for n := range min(mostSpare, o.MaxServers-had) {
			v := planning.Server{ID: fmt.Sprintf("%s, on the way %d", o.ID, n+1), Offer: o.ID}
			plan.Servers = append(plan.Servers, v)
			for _, t := range p.Timings {
				if t.Offer == o.ID {
					plan.Bookings = append(plan.Bookings, planning.Booking{Shot: t.Shot, Server: v.ID, Crew: t.Crew})
				}
			}
		}
	}
	return plan
}

// spare is a server that may be let on the way.
type spare struct {
	server int   // place in Servers
	crews  []int // places in Crews
}

// spares finds the servers beyond so many, and lets nobody render there yet.
func (s *setup) spares(beyond int) {
	for i := beyond; i < len(s.Servers); i++ {
		one := spare{server: i}
		for k, c := range s.Booked {
			if c.Server == i {
				one.crews = append(one.crews, k)
				s.Crews[k].State, s.Crews[k].Close = dispatch.Gone, time.Time{}
			}
		}
		s.spare = append(s.spare, one)
	}
	s.inWay = make([][]int, len(s.Crews))
	for i := range s.Crews {
		for k := range s.Crews {
			if a, b := &s.Crews[i], &s.Crews[k]; i != k && a.Host == b.Host && slices.ContainsFunc(a.Devices, func(d string) bool { return slices.Contains(b.Devices, d) }) {
				s.inWay[i] = append(s.inWay[i], k)
			}
		}
		s.byStart = append(s.byStart, i)
	}
	slices.SortStableFunc(s.byStart, func(a, b int) int { return s.Crews[a].Start.Compare(s.Crews[b].Start) })
}

// keep carries a run out, and lets servers where it falls behind.
func (s *simulation) keep() {
	every := max(lookEvery, s.last.Sub(epoch)/(2*mostLooks))
	s.sim.Begin(s)
	rests := 0
	for at := epoch.Add(every); at.Before(s.last); at = at.Add(every) {
		if more := s.sim.Until(at); !more && !s.waits() {
			break
		}
		if rests--; rests <= 0 && s.catchUp(at) {
			rests = settles
		}
	}
	s.sim.Rest()
}

func (s *simulation) waits() bool {
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
}

// catchUp lets servers for what the crews will not have done in time; false: it is not behind,
// or nothing can be let.
func (s *simulation) catchUp(now time.Time) (let bool) {
	at := ms(now)
	s.expect(now)
	for i := range s.shots {
		due := s.shots[i].deadline
		due -= keptSpare * max(0, due-at)
		if behind := s.behind(i, due, at); behind > 0 && s.letFor(i, behind, due, now) {
			let = true
		}
	}
	return let
}

// expect says of each crew when it will be through.
func (s *simulation) expect(now time.Time) {
	at := ms(now)
	for _, i := range s.byStart {
		c, x := &s.sim.Crews[i], &s.expects[i]
		x.frame = s.frame[i] * s.shots[c.Shot].batch.mean * s.upsets(i, s.sim.Shots[c.Shot].Done, now)
		x.ends = math.Max(at, math.Max(ms(c.Start), ms(s.sim.Hosts[c.Host].Up)))
		for _, k := range s.inWay[i] {
			if o := &s.sim.Crews[k]; o.Owed() > 0 && !o.Start.After(c.Start) && (k < i || o.Start.Before(c.Start)) {
				x.ends = math.Max(x.ends, s.expects[k].ends)
			}
		}
		if c.State == dispatch.Gone && !c.Farm {
			x.ends = math.Inf(1)
		} else if c.Owed() > 0 {
			x.ends += float64(c.Owed()) * x.frame
		}
	}
}

// behind is how many frames of a shot nobody will have done by a time: those that are over
// with their crews, less what others have room for.
func (s *simulation) behind(shot int, due, at float64) int {
	over, owed := 0, 0
	for i := range s.sim.Crews {
		c, x := &s.sim.Crews[i], &s.expects[i]
		if x.over = 0; c.Shot != shot || c.Farm || c.State == dispatch.Gone {
			continue
		}
		owed += c.Owed()
		by := due
		if !c.Close.IsZero() {
			by = math.Min(by, ms(c.Close))
		}
		if c.Owed() > 0 && x.ends > by {
			x.over = min(c.Owed(), int(math.Ceil((x.ends-by)/x.frame)))
			over += x.over
		}
	}
	over += max(0, s.sim.Waiting(shot)-s.atFarms(shot)-owed) // that nobody has
	for i := range s.sim.Crews {
		if c := &s.sim.Crews[i]; over > 0 && c.Shot == shot && !c.Farm && s.expects[i].over == 0 {
			over -= s.room(i, over, due, at)
		}
	}
	return over
}

// atFarms is how many frames of a shot wait for farms that have not taken them yet.
func (s *simulation) atFarms(shot int) (n int) {
	for i := range s.sim.Crews {
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
	if c.State == dispatch.Gone || from >= due {
		return 0
	}
	n := min(most, int((due-from)/x.frame))
	x.ends = from + float64(n)*x.frame
	for _, k := range s.inWay[i] {
		s.expects[k].ends = math.Max(s.expects[k].ends, x.ends)
	}
	return n
}

// letFor lets servers for so many frames of a shot that are to be done by a time, the cheapest
// first, while the money lasts.
func (s *simulation) letFor(shot, frames int, due float64, now time.Time) (let bool) {
	for frames > 0 {
		best, takes, price := -1, 0, math.Inf(1)
		for i, v := range s.spare {
			if s.used[i] {
				continue
			}
			rate := s.rate(v, shot)
			terms := s.Servers[v.server].Terms
			n := min(frames, int((due-ms(now)-float64(terms.Lead))*rate))
			if n <= 0 {
				continue
			}
			lasts := float64(terms.Lead+terms.Wrap) + float64(n)/rate
			costs := terms.Meter().Charge(simulate.Milliseconds(lasts)).Float()
			if s.let+costs <= s.mayLet && costs/float64(n) < price {
				best, takes, price = i, n, costs/float64(n)
			}
		}
		if best < 0 {
			return let
		}
		s.let += price * float64(takes)
		s.open(best, shot, takes, now)
		s.takeOver(shot, takes)
		frames, let = frames-takes, true
	}
	return let
}

// rate is how many frames of a shot a server renders a ms, all its crews that do not get in
// each other's way together.
func (s *simulation) rate(v spare, shot int) (rate float64) {
	for _, i := range s.crewsFor(v, shot) {
		rate += 1 / s.expects[i].frame
	}
	return rate
}

// crewsFor are the crews of a server for a shot, the fastest first of those that share devices.
func (s *simulation) crewsFor(v spare, shot int) (out []int) {
	fastest := slices.Clone(v.crews)
	slices.SortFunc(fastest, func(a, b int) int { return cmp.Compare(s.expects[a].frame, s.expects[b].frame) })
	for _, i := range fastest {
		if s.Crews[i].Shot == shot && !slices.ContainsFunc(s.inWay[i], func(k int) bool { return slices.Contains(out, k) }) {
			out = append(out, i)
		}
	}
	return out
}

// open lets a server render so many frames of a shot, once it has booted.
func (s *simulation) open(i, shot, frames int, now time.Time) {
	v := s.spare[i]
	s.used[i] = true
	boot := s.boots[v.server]
	terms := s.Servers[v.server].Terms
	up := now.Add(terms.Lead.Duration() + simulate.Milliseconds(boot.late(s.r)))
	s.begins[v.server], s.ends[v.server] = ms(now), ms(up)
	rate, crews := s.rate(v, shot), s.crewsFor(v, shot)
	works := simulate.Milliseconds(float64(frames) / rate)
	paid := terms.Meter().Billed(terms.Lead.Duration() + works + terms.Wrap.Duration())
	closes := up.Add(paid - terms.Lead.Duration() - terms.Wrap.Duration())
	for _, k := range crews {
		part := int(math.Ceil(float64(frames) / s.expects[k].frame / rate))
		c := &s.sim.Crews[k]
		c.State, c.Start, c.End, c.Close, c.Frames = dispatch.Ready, up, up.Add(works), closes, part
	}
	s.sim.Come(s.Servers[v.server].Host, up)
}

// takeOver takes so many frames of a shot off the crews that will not have done them in time.
func (s *simulation) takeOver(shot, frames int) {
	for i := range s.sim.Crews {
		if c, x := &s.sim.Crews[i], &s.expects[i]; c.Shot == shot && x.over > 0 {
			n := min(x.over, frames)
			c.Frames, x.over, frames = c.Frames-n, x.over-n, frames-n
		}
	}
}
