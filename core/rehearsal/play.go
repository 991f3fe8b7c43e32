package rehearsal

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/forecast"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/core/simulate"
)

// Times by which a run is looked at, as service/schedule has them.
const (
	atOnce = time.Minute
	// noticed is how long after a host died the first look that knows of it is.
	noticed = 2 * time.Minute
)

// Plan is the weekend's plan, and what was promised with it.
type Plan struct {
	planning.Plan
	Problem  planning.Problem
	Forecast forecast.Forecast
	Cap      pricing.Money // of what may be spent outside
}

// Plan plans the weekend to be as surely in time as is asked for.
func (w Weekend) Plan(ctx context.Context, confidence float64) (out Plan, err error) {
	problem := w.Problem
	problem.Hosts = slices.Clone(problem.Hosts)
	for i, h := range problem.Hosts {
		problem.Hosts[i] = w.books(h, problem.Start)
	}
	cheapest, err := planning.Solve(ctx, problem, planning.Options{})
	if err != nil {
		return out, err
	}
	contingency := cheapest.Cost // as much again as it would cost if all went as expected
	sure, err := questions.Confidently(ctx, problem, w.Uncertainty, questions.Wanted{Chance: confidence, Contingency: contingency.Float()}, planning.Options{}, func(int, int, string) {})
	if err != nil {
		return out, err
	}
	out.Plan, out.Problem, out.Cap = sure.Plan, sure.Problem, contingency.Plus(planning.AtMost(sure.Problem, sure.Plan))
	out.Forecast, err = forecast.Simulate(ctx, sure.Problem, sure.Plan, w.Uncertainty, deadlines(w.Problem), forecast.Options{Seed: 1, Simulations: 1000, MayLet: contingency.Float()})
	return out, err
}

func deadlines(p planning.Problem) map[string]planning.Millis {
	out := map[string]planning.Millis{}
	for _, s := range p.Shots {
		out[s.ID] = s.Deadline
	}
	return out
}

// Played is how a weekend went.
type Played struct {
	Met      map[string]bool          // by shot: it was in time
	Ends     map[string]time.Duration // by planned shot: after the start; a thousand hours: never
	Finish   time.Duration            // of the last of them
	Cost     float64
	Changes  int
	Moved    int // frames that changes moved to other crews
	Frames   int // of all planned shots
	HalfWay  forecast.Forecast
	HalfDone time.Duration // when that was made
}

// play is a weekend that is being played. It is the chance by which its frames go.
type play struct {
	w       Weekend
	cap     pricing.Money // of what may be spent outside
	r       *rand.Rand
	sim     *simulate.Simulation
	booked  []simulate.Booked // of each of sim.Crews
	began   []time.Time       // the same: the frame in hand, or the last
	first   int               // of sim.Crews, that is booked as things stand
	now     time.Time
	lets    []*let
	done    []finished
	outcome Played
	cost    float64
	asked   replan.Rest // what does not change: uncertainty aside
	noticed map[string]bool
	used    map[string]bool // desks that are their owners'
	looked  time.Time
	finish  time.Time // as was expected then; zero: not known
	changed time.Time
}

// let is a server that is ordered, or is going to be.
type let struct {
	id        string
	terms     planning.Offer
	from, to  time.Time
	up, ended time.Time // it came, and its last frame ended
	failed    time.Time // it was given up for another one; zero: it was not
}

// finished is a frame that is done, or is going to be, and what crew's row it was.
type finished struct {
	replan.Finished
	row planning.Timing
}

// Play plays the weekend by a plan and a policy. Nobody answers what is proposed.
func (w Weekend) Play(ctx context.Context, plan Plan, policy replan.Policy, confidence float64) (Played, error) {
	p := &play{w: w, cap: plan.Cap, r: rand.New(rand.NewPCG(w.Seed, 11)), now: w.Problem.Start, noticed: map[string]bool{}, used: map[string]bool{}, looked: w.Problem.Start}
	p.asked = replan.Rest{Deadlines: deadlines(w.Problem), Wanted: confidence, Policy: policy, AcceptProofs: true, Planned: plan.Cost}
	p.outcome.Met, p.outcome.Ends = map[string]bool{}, map[string]time.Duration{}
	for _, s := range w.Problem.Shots {
		p.outcome.Frames += s.Frames
	}
	if err := p.begin(plan); err != nil {
		return p.outcome, err
	}
	latest := 72 * time.Hour
	for minutes := 0; !p.over() && time.Duration(minutes)*time.Minute < latest; minutes++ {
		p.now = w.Problem.Start.Add(time.Duration(minutes) * time.Minute)
		p.sim.Until(p.now)
		happened, err := p.happens()
		if err != nil {
			return p.outcome, err
		}
		if err := p.look(ctx, happened); err != nil {
			return p.outcome, err
		}
	}
	p.end()
	return p.outcome, nil
}

func (p *play) begin(plan Plan) error {
	planned, err := p.prepare(plan.Problem, plan.Plan, "")
	if err != nil {
		return err
	}
	if x := p.w.urgent; x != nil {
		planned.Shots = append(planned.Shots, simulate.Shot{ID: x.shot.ID, Frames: x.shot.Frames})
	}
	p.booked, p.began = planned.Booked, make([]time.Time, len(planned.Booked))
	p.sim = simulate.New(planned.Setup)
	p.sim.Reset()
	p.sim.Begin(p)
	return nil
}

// prepare makes a plan ready to be carried out from now on, with the truth about its servers
// and farms. Servers get names that no other plan's have.
func (p *play) prepare(problem planning.Problem, plan planning.Plan, mark string) (*simulate.Planned, error) {
	plan.Servers, plan.Bookings = slices.Clone(plan.Servers), slices.Clone(plan.Bookings)
	for i := range plan.Servers {
		plan.Servers[i].ID += mark
	}
	for i, b := range plan.Bookings {
		if b.Server != "" {
			plan.Bookings[i].Server += mark
		}
	}
	problem.Shots = slices.Clone(problem.Shots)
	for i, x := range problem.Shots { // the real ones, where the problem's keep time spare
		problem.Shots[i].Deadline = p.due(x.ID) - planning.MillisOf(p.now.Sub(p.w.Problem.Start))
	}
	planned, err := simulate.Plan(problem, plan, p.now)
	if err != nil {
		return nil, err
	}
	p.lets = slices.DeleteFunc(p.lets, func(v *let) bool { return v.from.After(p.now) })
	for i, v := range planned.Servers {
		one := &let{id: v.ID, terms: v.Terms, from: p.now.Add(v.From.Duration()), to: p.now.Add(v.To.Duration())}
		lead := v.Terms.Lead.Duration()
		moved := time.Duration(0)
		if p.r.Float64() < p.w.truth.never {
			moved = leadtimes.GivenUp(lead)
			one.failed = one.from.Add(moved)
			p.cost += v.Terms.Meter().Charge(moved).Float()
			one.from, one.to = one.from.Add(moved), one.to.Add(moved)
		}
		late := max(1, p.w.truth.boot[v.Offer]*lognormal(p.r, 1, 0.2))
		one.up = one.from.Add(time.Duration(float64(lead) * late))
		planned.Hosts[v.Host].Up, one.ended = one.up, one.up
		p.lets = append(p.lets, one)
		for k, c := range planned.Booked {
			if c.Server == i {
				planned.Crews[k].Close = planned.Crews[k].Close.Add(moved)
			}
		}
	}
	for i, h := range planned.Hosts {
		planned.Hosts[i].Away = p.w.desks[h.Name].away
	}
	for k, c := range planned.Booked {
		if c.Farm >= 0 {
			lead, late := problem.Farms[c.Farm].Lead.Duration(), max(1, p.w.truth.queue[c.Row.Farm]*lognormal(p.r, 1, 0.3))
			host := &planned.Hosts[planned.Crews[k].Host]
			host.Up = host.Up.Add(time.Duration(float64(lead) * (late - 1)))
		}
	}
	return planned, nil
}

// over reports whether every frame is done or given up.
func (p *play) over() bool {
	for i, s := range p.w.Problem.Shots {
		if p.sim.Shots[i].Done+p.sim.Shots[i].Left < s.Frames {
			return false
		}
	}
	return p.w.urgent == nil || p.sim.Shots[p.urgentAt()].Done+p.sim.Shots[p.urgentAt()].Left == p.w.urgent.shot.Frames
}

func (p *play) urgentAt() int { return len(p.w.Problem.Shots) }

// letOf is a server by its name; nil: it is none.
func (p *play) letOf(host string) *let {
	for _, v := range p.lets {
		if v.id == host {
			return v
		}
	}
	return nil
}

// Try implements simulate.Chance, by the truth.
func (p *play) Try(at, frame int, now time.Time) (time.Duration, bool) {
	b, c := p.booked[at], &p.sim.Crews[at]
	row := unframed(b.Row)
	v := p.letOf(c.Crew.Host)
	if v != nil {
		row.Host, row.Offer = "", v.terms.ID
	}
	length := p.w.believed(row) * p.w.truth.frame[row] * forecast.DefaultRatios[p.r.IntN(len(forecast.DefaultRatios))]
	if times, heavy := p.w.truth.heavy[row.Shot]; heavy && frame >= p.framesOf(c.Crew.Shot)/2 {
		length *= times
	}
	for _, u := range p.w.truth.used {
		if since := now.Sub(p.w.Problem.Start); u.host == row.Host && since >= u.from && since < u.to {
			length *= u.times
		}
	}
	fails := p.r.Float64() < p.w.truth.fails[row.Host+row.Offer+row.Farm]
	if fails {
		length *= p.r.Float64()
	}
	takes := simulate.Milliseconds(length)
	p.began[at] = now
	if v != nil {
		v.ended = latest(v.ended, now.Add(takes))
	} else {
		p.cost += b.Price*length + b.PerFrame
	}
	if !fails && row.Farm == "" {
		p.done = append(p.done, finished{replan.Finished{Shot: c.Crew.Shot, Host: c.Crew.Host, Crew: c.Name, Seconds: takes.Seconds(), Ended: now.Add(takes)}, row})
	}
	return takes, fails
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (p *play) framesOf(shot string) int {
	for _, s := range p.w.Problem.Shots {
		if s.ID == shot {
			return s.Frames
		}
	}
	return p.w.urgent.shot.Frames
}

// believed is what a frame of a row was believed to take beforehand: ms.
func (w Weekend) believed(row planning.Timing) float64 {
	all := w.Problem.Timings
	if w.urgent != nil && row.Shot == w.urgent.shot.ID {
		all = w.urgent.timings
	}
	for _, t := range all {
		if unframed(t) == row {
			return float64(t.Frame)
		}
	}
	return 0
}

// end sums up.
func (p *play) end() {
	out := &p.outcome
	for i, s := range p.w.Problem.Shots {
		x := p.sim.Shots[i]
		after := x.Finish.Sub(p.w.Problem.Start)
		whole := x.Done == s.Frames
		out.Met[s.ID] = whole && after <= s.Deadline.Duration()
		if out.Ends[s.ID] = after; !whole {
			out.Ends[s.ID] = 1000 * time.Hour
		}
		out.Finish = max(out.Finish, out.Ends[s.ID])
	}
	if x := p.w.urgent; x != nil {
		s := p.sim.Shots[p.urgentAt()]
		out.Met[x.shot.ID] = s.Done == x.shot.Frames && s.Finish.Sub(p.w.Problem.Start) <= x.comes+x.shot.Deadline.Duration()
	}
	for _, v := range p.lets {
		if !v.from.After(p.now) {
			p.cost += v.terms.Meter().Charge(v.ended.Sub(v.from) + v.terms.Wrap.Duration()).Float()
		}
	}
	out.Cost = p.cost
}

func (p *play) mark() string { return fmt.Sprintf(" %d", p.outcome.Changes) }

// owes lists the crews that are booked as things stand, of the urgent shot or of the others.
func (p *play) owes(urgent bool) (places []int) {
	for k := p.first; k < len(p.sim.Crews); k++ {
		if c := &p.sim.Crews[k]; (c.Shot == p.urgentAt()) == urgent && c.State != dispatch.Gone {
			places = append(places, k)
		}
	}
	return places
}
