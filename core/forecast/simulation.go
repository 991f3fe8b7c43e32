package forecast

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"rotanex.example/core/disruptions"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/simulate"
)

// simulation is one simulation of a plan after another, with memory kept between them.
// It is the chance by which a simulated run goes.
type simulation struct {
	*setup
	sim      *simulate.Simulation
	r        *rand.Rand
	off      []float64            // of each timing's first crew, what is drawn for how far it is off
	frame    []float64            // of each crew, its typical time in this simulation, ms
	ends     []float64            // of each server, when its last frame ended
	begins   []float64            // of each server, when it was ordered; late boots do not change it
	charges  []float64            // of each farm
	finish   []float64            // of each shot, when its last frame came home
	slow     [][]disruptions.Slow // of each host
	urgent   []disruptions.Slow   // when more urgent runs have one's own hosts
	heavier  []heavier            // of each shot
	expects  []expected           // of each crew
	hand     []float64            // the same: when its last frame ends, ms
	starts   []float64            // the same: before which it begins none, ms
	unbegun  []float64            // the same: frames that its renderer was started for and has not begun
	work     []work               // of each shot
	active   []int                // crews that take part, by when they are booked
	looks    int
	closes   []float64 // of each server, when it is let no longer; 0: it is not let
	heldEnds []float64 // of each held
	let      float64   // what those cost, as was expected
	cost     float64
}

// heavier is a shot whose frames take so many times as long from one of them on.
type heavier struct {
	from  int
	times float64
}

// work is crews' time that goes into a shot, ms.
type work struct{ rendering, opening float64 }

// ending is how one simulation ended. Times are ms, math.Inf(1) for never.
type ending struct {
	shots    []float64
	work     []work
	held     float64 // when the last of what farms had in hand was done
	heldLate bool
	behind   bool // servers were let at the first look
	cost     float64
}

func newSimulation(s *setup) *simulation {
	return &simulation{
		setup: s, sim: simulate.New(s.Setup), off: make([]float64, len(s.crews)), frame: make([]float64, len(s.crews)),
		ends: make([]float64, len(s.Servers)), begins: make([]float64, len(s.Servers)), charges: make([]float64, len(s.farms)), finish: make([]float64, len(s.shots)),
		slow: make([][]disruptions.Slow, len(s.Hosts)), heavier: make([]heavier, len(s.shots)),
		heldEnds: make([]float64, len(s.held)), expects: make([]expected, len(s.crews)), hand: make([]float64, len(s.crews)), starts: make([]float64, len(s.crews)), unbegun: make([]float64, len(s.crews)), work: make([]work, len(s.shots)), closes: make([]float64, len(s.Servers)),
	}
}

// run simulates the plan once.
func (s *simulation) run(r *rand.Rand) ending {
	s.r, s.cost, s.let = r, s.seats, 0
	clear(s.closes)
	clear(s.charges)
	clear(s.finish)
	clear(s.hand)
	clear(s.unbegun)
	clear(s.work)
	s.sim.Reset()
	s.draw()
	behind := false
	if s.mayLet > 0 {
		behind = s.keep()
	} else {
		s.sim.Run(s)
	}
	out := s.bill()
	out.behind = behind
	return out
}

// draw draws what holds for the whole simulation: how far all times and each are off, how
// late each server boots, how long each farm's queue is.
func (s *simulation) draw() {
	common := 0.0
	if s.common > 0 {
		common = s.r.NormFloat64() * s.common
	}
	for i, c := range s.crews {
		first := s.Booked[i].First
		if first == i {
			s.off[i] = 0
			if c.off > 0 {
				s.off[i] = s.r.NormFloat64() * c.off
			}
		}
		s.frame[i] = c.frame * math.Exp(s.off[first]+common)
	}
	moved := make([]time.Duration, len(s.Servers))
	for i, h := range s.held {
		s.heldEnds[i] = h.ends * math.Exp(s.r.NormFloat64()*heldOff+common)
	}
	for i, v := range s.Servers[:s.planned] {
		boot := s.boots[i]
		late := simulate.Milliseconds(boot.late(s.r))
		if boot.kept.Never > 0 && s.r.Float64() < boot.kept.Never {
			// One that never comes is given up and another is asked for in its place.
			moved[i] = leadtimes.GivenUp(v.Terms.Lead.Duration())
			s.cost += s.rents[i].charge(moved[i])
		}
		s.begins[i] = float64(v.From) + moved[i].Seconds()*1000
		s.ends[i] = s.begins[i]
		s.closes[i] = float64(v.To) + moved[i].Seconds()*1000 - float64(v.Terms.Wrap)
		s.sim.Hosts[v.Host].Up = s.Hosts[v.Host].Up.Add(late + moved[i])
	}
	s.takeBack()
	s.disrupt()
	s.active = append(s.active[:0], s.byStart...)
	for i := range s.sim.Crews {
		s.starts[i] = max(ms(s.sim.Crews[i].Start), ms(s.sim.Hosts[s.sim.Crews[i].Host].Up))
	}
	for i, c := range s.Booked {
		x := &s.sim.Crews[i]
		switch {
		case c.Server >= 0:
			x.Close = x.Close.Add(moved[c.Server])
		case c.Farm >= 0:
			s.sim.Hosts[x.Host].Up = x.Start.Add(simulate.Milliseconds(s.farms[c.Farm].wait.late(s.r)))
		}
	}
}

// mostAway is how often a desk is taken back in one simulation at most.
const mostAway = 500

// takeBack draws when desks are their owners': after times that know nothing of each other.
func (s *simulation) takeBack() {
	for _, d := range s.desks {
		h := &s.sim.Hosts[d.host]
		h.Away = h.Away[:0:0]
		for at := h.Up; len(h.Away) < mostAway; {
			from := at.Add(time.Duration(s.r.ExpFloat64() * float64(d.habits.Every)))
			at = from.Add(time.Duration(s.r.ExpFloat64() * float64(d.habits.For)))
			if from.After(s.last) {
				break
			}
			h.Away = append(h.Away, simulate.Away{From: from, To: at})
		}
	}
}

// disrupt draws when hosts are slowed and lost, and which shots grow heavier.
func (s *simulation) disrupt() {
	for _, i := range s.own {
		h := &s.sim.Hosts[i]
		s.slow[i] = s.upset.DrawSlow(s.slow[i][:0], s.r, h.Up, s.last)
		h.Lost = s.upset.DrawLost(s.r, h.Up, s.last)
	}
	s.urgent = s.upset.DrawUrgent(s.urgent[:0], s.r, epoch, s.last)
	for i, x := range s.shots {
		from, times := s.upset.DrawHeavier(s.r, x.known)
		s.heavier[i] = heavier{int(from * float64(s.Setup.Shots[i].Frames)), times}
	}
}

// upsets is how many times as long a frame takes that a crew begins, by what happens to its
// host and its shot.
func (s *simulation) upsets(at, frame int, now time.Time) float64 {
	times := 1.0
	for _, x := range s.slow[s.Crews[at].Host] {
		if !now.Before(x.From) && now.Before(x.To) {
			times = x.Times
		}
	}
	if h := s.heavier[s.Crews[at].Shot]; frame >= h.from {
		times *= h.times
	}
	return times
}

// waitsFor is how long a frame waits on one of one's own hosts for more urgent runs.
func (s *simulation) waitsFor(now time.Time) time.Duration {
	for _, x := range s.urgent {
		if !now.Before(x.From) && now.Before(x.To) {
			return x.To.Sub(now)
		}
	}
	return 0
}

// Try implements simulate.Chance: it draws how long a frame takes and whether it fails,
// and counts what that costs.
func (s *simulation) Try(at, frame int, now time.Time) (time.Duration, bool) {
	c, of, shot := &s.crews[at], &s.Booked[at], s.Crews[at].Shot
	batch := &s.shots[shot].batch
	length, failed := batch.draw(s.r, c.fails)
	opens := s.opens(at, batch.size, ms(now))
	length = length*c.opens.own(batch.size) + opens
	scale := s.frame[at] * s.upsets(at, frame, now)
	length *= scale
	s.work[shot].rendering, s.work[shot].opening = s.work[shot].rendering+length, s.work[shot].opening+opens*scale
	takes := simulate.Milliseconds(length)
	if of.Server < 0 && of.Farm < 0 {
		takes += s.waitsFor(now)
	}
	end := ms(now.Add(takes))
	if s.hand[at] = end; failed {
		s.unbegun[at] = 0 // its renderer ended with it
	}
	switch {
	case of.Farm >= 0:
		if !failed {
			s.charges[of.Farm] += of.Price*length + of.PerFrame*batch.size
		}
	case of.Server >= 0:
		s.ends[of.Server] = math.Max(s.ends[of.Server], end)
	}
	if of.Farm < 0 {
		s.cost += of.Price * length
	}
	if !failed && (of.Farm >= 0 || of.Server >= 0) { // what a desk of one's own has in hand may be given back
		s.finish[shot] = math.Max(s.finish[shot], end+float64(of.Delivery))
	}
	return takes, failed
}

// opens is what opening the scene takes of a crew that begins frames now, over their typical
// time. A renderer that has nothing to do is ended.
func (s *simulation) opens(at int, size, now float64) float64 {
	if s.hand[at] < now {
		s.unbegun[at] = 0
	}
	begun, unbegun := s.crews[at].opens.begun(size, s.unbegun[at])
	s.unbegun[at] = unbegun
	return begun * s.crews[at].opens.takes
}

func (s *simulation) bill() ending {
	out := ending{shots: make([]float64, len(s.shots)), work: slices.Clone(s.work), cost: s.cost}
	for i := range s.shots {
		out.shots[i] = math.Max(s.finish[i], ms(s.sim.Shots[i].Finish))
		if s.sim.Shots[i].Left > 0 {
			out.shots[i] = math.Inf(1)
		}
	}
	for i, h := range s.held {
		ends := s.heldEnds[i]
		out.held, out.heldLate = math.Max(out.held, ends), out.heldLate || ends > h.deadline
		if h.shot >= 0 {
			out.shots[h.shot] = math.Max(out.shots[h.shot], ends)
		}
	}
	for i := range s.Servers {
		out.cost += s.charge(i)
	}
	for i, charge := range s.charges {
		if charge > 0 {
			out.cost += math.Max(charge, s.farms[i].least)
		}
	}
	return out
}

// ms is a time of a simulation; 0 for one that never was.
func ms(t time.Time) float64 {
	if t.IsZero() {
		return 0
	}
	return float64(t.Sub(epoch).Milliseconds())
}
