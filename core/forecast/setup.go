package forecast

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"rotanex.example/core/desks"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
	"rotanex.example/core/simulate"
)

// setup is a plan made ready to be simulated.
type setup struct {
	*simulate.Planned
	shots   []shot
	crews   []crew  // one for each of Crews
	boots   []wait  // of the plan's servers
	farms   []farm  // in the order of the problem
	seats   float64 // what extra seats cost
	common  float64 // see Uncertainty.Common
	desks   []desk
	upset   disruptions.Rates
	own     []int // places in Hosts of those that may be slowed or lost
	held    []held
	planned int // of Servers: the others may be let on the way
	lets    []letting
	mayLet  float64   // see Options.MayLet
	rents   []rent    // of Servers
	inWay   [][]int   // of each crew, the crews of its host that use one of its devices
	byStart []int     // crews that are planned for, by when they are booked
	byDue   []int     // shots, by their deadlines
	awayFor []float64 // of each host, how long the owner of a desk stays: ms
	due     time.Time // when the last shot is due
	last    time.Time // until when what happens to hosts is drawn
}

// desk is a host that is taken back now and then.
type desk struct {
	host   int // place in Hosts
	habits desks.Habits
}

// held is what farms have in hand of a shot.
type held struct {
	shot           int     // place in shots; -1: nothing else of it is left
	ends, deadline float64 // ms
}

type shot struct {
	id       string
	deadline float64 // ms
	batch    batch
	known    float64 // the part of it of which it is known how long its frames take
}

// crew is what is not known for sure of a booking.
type crew struct {
	frame float64 // ms, typical
	off   float64 // standard deviation of the logarithm of frame
	fails float64
	opens opening
}

type farm struct {
	least float64
	wait  wait
}

// wait is how long a server's boot or a farm's queue is.
type wait struct {
	lead float64 // ms, as planned
	kept leadtimes.Kept
	seen bool // else it is late, never early
}

func (u Uncertainty) wait(id string, lead planning.Millis, assumed float64) wait {
	if kept, ok := u.Waits[id]; ok {
		return wait{float64(lead), kept, true}
	}
	return wait{float64(lead), leadtimes.Kept{Typical: 1, Spread: assumed}, false}
}

// late draws by how much the wait is longer than planned. Who is early waits for the
// planned time.
func (w wait) late(r *rand.Rand) float64 {
	z := r.NormFloat64()
	if !w.seen {
		z = math.Abs(z)
	}
	return math.Max(0, w.lead*(w.kept.Typical*math.Exp(z*w.kept.Spread)-1))
}

// epoch is the problem's start in a simulation.
var epoch = time.UnixMilli(0).UTC()

func newSetup(p planning.Problem, plan planning.Plan, u Uncertainty, deadlines map[string]planning.Millis, mayLet float64) (*setup, error) {
	p.Shots = slices.Clone(p.Shots)
	for i := range p.Shots {
		if due, ok := deadlines[p.Shots[i].ID]; ok {
			p.Shots[i].Deadline = due
		}
	}
	p, plan, sizes := batched(p, plan)
	servers := len(plan.Servers)
	if mayLet > 0 {
		plan = withSpares(p, plan)
	}
	planned, err := simulate.Plan(p, plan, epoch)
	if err != nil {
		return nil, err
	}
	s := &setup{Planned: planned, common: u.Common, upset: u.Disruptions, planned: servers, mayLet: mayLet}
	s.addShots(p, u, sizes)
	s.addCrews(u)
	for _, h := range u.Held {
		at := slices.IndexFunc(s.shots, func(x shot) bool { return x.id == h.Shot })
		s.held = append(s.held, held{at, float64(h.Ends), float64(h.Deadline)})
	}
	due := planning.Millis(0)
	for _, x := range p.Shots {
		due = max(due, x.Deadline)
	}
	s.due, s.last = epoch.Add(due.Duration()), epoch.Add(2*max(due, plan.Finish).Duration())
	if mayLet > 0 {
		s.lettings()
	}
	for _, f := range p.Farms {
		s.farms = append(s.farms, farm{f.MinimumCharge.Float(), u.wait(f.ID, f.Lead, leadtimes.Queue)})
	}
	for _, l := range p.Licences {
		for _, x := range plan.ExtraSeats {
			if x.Licence == l.ID {
				s.seats += float64(x.Seats) * l.ExtraSeatPrice.Float()
			}
		}
	}
	return s, nil
}

func (s *setup) addShots(p planning.Problem, u Uncertainty, sizes []float64) {
	for i, x := range p.Shots {
		one, ratios := shot{id: x.ID, deadline: float64(x.Deadline), known: 1}, u.Ratios[x.ID]
		if len(ratios) < 8 {
			ratios, one.known = DefaultRatios, u.Rendered[x.ID]
		}
		one.batch = newBatch(ratios, sizes[i])
		s.shots = append(s.shots, one)
	}
}

// addCrews adds what is not known of crews, of servers and of one's own hosts.
func (s *setup) addCrews(u Uncertainty) {
	for i, c := range s.Booked {
		one := crew{frame: float64(c.Row.Frame), off: u.Typical[TimingKey(c.Row)], fails: DefaultFails}
		if v, ok := u.Fails[c.Row.Host+c.Row.Offer+c.Row.Farm]; ok {
			one.fails = v
		}
		if c.Farm < 0 {
			one.opens = openingOf(u.Starts[TimingKey(c.Row)], one.frame, s.shots[s.Crews[i].Shot].batch.size)
		}
		s.crews = append(s.crews, one)
	}
	for _, v := range s.Servers {
		s.rents = append(s.rents, rentOf(v.Terms.Meter()))
		s.boots = append(s.boots, u.wait(v.Offer, v.Terms.Lead, leadtimes.Boot))
	}
	for i, h := range s.Hosts {
		switch habits, is := u.Desks[h.Name]; {
		case h.Nodes > 0 || h.StaysOn: // not one's own
		case is:
			s.desks = append(s.desks, desk{i, habits})
		default:
			s.own = append(s.own, i)
		}
	}
}
