package forecast

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/simulate"
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

// letting is a server that is let, or may be on the way.
type letting struct {
	server int     // place in Servers
	crews  [][]int // of each shot, places in Crews: the fastest of those that share devices
}

// rent is what a server costs. It is reckoned in floats: a forecast is none of anybody's bills.
type rent struct {
	pricing.Meter
	hourly, fee float64
}

func rentOf(m pricing.Meter) rent { return rent{m, m.Price.Float(), m.Fee.Float()} }

func (r rent) charge(lasts time.Duration) float64 { return r.Billed(lasts).Hours()*r.hourly + r.fee }

// lettings finds the servers, and what a run that is kept has to know of crews. Nobody renders yet
// on servers that the plan does not let.
func (s *setup) lettings() {
	for i := range s.Crews {
		var beside []int
		for k := range s.Crews {
			if i != k && s.Crews[i].Shares(&s.Crews[k].Crew) {
				beside = append(beside, k)
			}
		}
		s.inWay = append(s.inWay, beside)
		if of := s.Booked[i].Server; of < s.planned {
			s.byStart = append(s.byStart, i)
		} else {
			s.Crews[i].State, s.Crews[i].Close = dispatch.Gone, time.Time{}
		}
	}
	slices.SortStableFunc(s.byStart, func(a, b int) int { return s.Crews[a].Start.Compare(s.Crews[b].Start) })
	for i := range s.Servers {
		s.lets = append(s.lets, letting{i, s.fastest(i)})
	}
	for i := range s.shots {
		s.byDue = append(s.byDue, i)
	}
	slices.SortStableFunc(s.byDue, func(a, b int) int { return cmp.Compare(s.shots[a].deadline, s.shots[b].deadline) })
	s.awayFor = make([]float64, len(s.Hosts))
	for _, d := range s.desks {
		s.awayFor[d.host] = float64(planning.MillisOf(d.habits.For))
	}
}

// fastest are a server's crews for each shot, the fastest of those that share devices.
func (s *setup) fastest(server int) [][]int {
	out := make([][]int, len(s.shots))
	var all []int
	for k, c := range s.Booked {
		if c.Server == server {
			all = append(all, k)
		}
	}
	slices.SortStableFunc(all, func(a, b int) int { return cmp.Compare(s.crews[a].frame, s.crews[b].frame) })
	for _, i := range all {
		shot := s.Crews[i].Shot
		if !slices.ContainsFunc(out[shot], func(k int) bool { return s.Crews[i].Shares(&s.Crews[k].Crew) }) {
			out[shot] = append(out[shot], i)
		}
	}
	return out
}

// letFor lets servers for so many frames of a shot that are to be done by a time, or for longer,
// the cheapest first, while the money lasts.
func (s *simulation) letFor(shot, frames int, due float64, now time.Time) (let bool) {
	for frames > 0 {
		var best stretch
		price := math.Inf(1)
		for _, v := range s.lets {
			x := s.stretchOf(v, shot, frames, due, now)
			if x.frames > 0 && s.let+x.costs <= s.mayLet && x.costs/float64(x.frames) < price {
				best, price = x, x.costs/float64(x.frames)
			}
		}
		if best.frames == 0 {
			return let
		}
		s.let += best.costs
		s.open(best, shot, now)
		s.takeOver(shot, best.frames)
		frames, let = frames-best.frames, true
	}
	return let
}

// stretch is for how long a server is let for some frames, times in ms.
type stretch struct {
	of          letting
	frames      int
	again       bool // it is let anew, rather than for longer
	from, until float64
	costs       float64 // more than without
}

// stretchOf is what a server takes for up to so many frames of a shot, as many as it has done
// by a time.
func (s *simulation) stretchOf(of letting, shot, frames int, due float64, now time.Time) stretch {
	terms, at := s.Servers[of.server].Terms, ms(now)
	costs := func(lasts float64) float64 {
		return s.rents[of.server].charge(simulate.Milliseconds(lasts + float64(terms.Wrap)))
	}
	x := stretch{of: of, again: s.closes[of.server] <= at, from: s.closes[of.server]}
	begins, had := s.begins[of.server], 0.0
	if x.again {
		begins, x.from = at, at+float64(terms.Lead)
	}
	rate := s.rate(of, shot, now)
	if x.frames = min(frames, int((due-x.from)*rate)); x.frames <= 0 {
		return x
	}
	if !x.again {
		had = costs(x.from - begins)
	}
	x.until = x.from + float64(x.frames)/rate
	x.costs = costs(x.until-begins) - had
	return x
}

// rate is how many frames of a shot a server renders a ms, all its crews that do not get in
// each other's way together.
func (s *simulation) rate(of letting, shot int, now time.Time) (rate float64) {
	for _, i := range of.crews[shot] {
		rate += 1 / s.frameNow(i, now)
	}
	return rate
}

// spare is how many frames of a shot all servers together that may be let render a ms, and how long
// the first of them takes to come and to do two, as no frame is done in parts.
func (s *simulation) spare(shot int, now time.Time) (lead, rate float64) {
	lead = math.Inf(1)
	for _, of := range s.lets {
		if s.closes[of.server] > ms(now) {
			continue
		}
		if more := s.rate(of, shot, now); more > 0 {
			two := 2 * float64(len(of.crews[shot])) / more
			lead, rate = math.Min(lead, float64(s.Servers[of.server].Terms.Lead)+two), rate+more
		}
	}
	return lead, rate
}

// open lets a server render for a stretch, once it has booted.
func (s *simulation) open(x stretch, shot int, now time.Time) {
	server := x.of.server
	terms := s.Servers[server].Terms
	up := s.sim.Hosts[s.Servers[server].Host].Up
	if x.again {
		s.cost += s.charge(server) // of the time before, if it was let then
		up = now.Add(terms.Lead.Duration() + simulate.Milliseconds(s.boots[server].late(s.r)))
		s.begins[server], s.ends[server] = ms(now), ms(up)
	}
	wrap := terms.Wrap.Duration()
	paid := terms.Meter().Billed(simulate.Milliseconds(x.until-s.begins[server]) + wrap)
	closes := epoch.Add(simulate.Milliseconds(s.begins[server]) + paid - wrap)
	if x.again { // a late boot is not the server's fault: it is let for as long as it takes
		closes = closes.Add(up.Sub(now) - terms.Lead.Duration())
	}
	s.closes[server] = ms(closes)
	rate := s.rate(x.of, shot, now)
	for _, k := range x.of.crews[shot] {
		part := int(math.Ceil(float64(x.frames) / s.frameNow(k, now) / rate))
		c := &s.sim.Crews[k]
		if c.State == dispatch.Gone || x.again {
			c.State, c.Start, c.Frames = dispatch.Ready, up, c.Taken
		}
		c.End, c.Close, c.Frames = closes, closes, c.Frames+part
		s.starts[k] = ms(up)
		if !slices.Contains(s.active, k) {
			s.active = append(s.active, k)
		}
	}
	s.sim.Come(s.Servers[server].Host, up)
}

// charge is what a server costs for as long as it was let last.
func (s *simulation) charge(server int) float64 {
	if s.closes[server] == 0 {
		return 0
	}
	lasts := simulate.Milliseconds(math.Max(s.ends[server]-s.begins[server], 0))
	return s.rents[server].charge(lasts + s.Servers[server].Terms.Wrap.Duration())
}

// takeOver takes so many frames of a shot off the crews that will not have done them in time.
func (s *simulation) takeOver(shot, frames int) {
	for _, i := range s.active {
		if c, x := &s.sim.Crews[i], &s.expects[i]; c.Shot == shot && x.over > 0 {
			n := min(x.over, frames)
			c.Frames, x.over, frames = c.Frames-n, x.over-n, frames-n
		}
	}
}
