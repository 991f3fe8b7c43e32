package forecast

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/promise"
)

// stage is a plan made ready to be played: all looked up once.
type stage struct {
	shots   []stagedShot
	desks   []desk
	servers []stagedServer
	devices int // of all machines together
	farms   []stagedFarm
	seats   float64 // what extra seats cost
}

type stagedShot struct {
	id       string
	frames   int
	deadline float64
	ratios   []float64
	desks    []int // that have a booking of it
}

// desk is a booking, or one node of a farm's booking: it renders one frame at a time.
type desk struct {
	shot     int
	booking  dispatch.Booking
	frame    float64 // ms, typical
	doubt    float64 // standard deviation of the logarithm of frame
	start    float64
	close    float64 // no frame is begun that would run past it
	fails    float64
	price    float64 // of a busy ms, on an owned machine
	perFrame float64 // of a farm
	delivery float64
	devices  []int
	server   int // -1: none
	farm     int // -1: none
}

type stagedServer struct {
	offer     planning.Offer
	from, end float64 // end: of what is paid, less the wrap
	wait      wait
}

type stagedFarm struct {
	least float64
	wait  wait
}

// wait is how long a server's boot or a farm's queue is.
type wait struct {
	lead float64 // ms, as planned
	kept promise.Kept
	seen bool // else it is late, never early
}

func (d Doubts) wait(id string, lead planning.Millis, assumed float64) wait {
	if kept, ok := d.Waits[id]; ok {
		return wait{float64(lead), kept, true}
	}
	return wait{float64(lead), promise.Kept{Typical: 1, Spread: assumed}, false}
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

func newStage(p planning.Problem, plan planning.Plan, d Doubts, deadlines map[string]planning.Millis) (*stage, error) {
	s := &stage{}
	shotAt, rows := map[string]int{}, map[string]planning.Timing{}
	for i, x := range p.Shots {
		shotAt[x.ID] = i
		due := x.Deadline
		if v, ok := deadlines[x.ID]; ok {
			due = v
		}
		ratios := d.Ratios[x.ID]
		if len(ratios) < 8 {
			ratios = DefaultRatios
		}
		s.shots = append(s.shots, stagedShot{id: x.ID, frames: x.Frames, deadline: float64(due), ratios: ratios})
	}
	for _, t := range p.Timings {
		rows[TimingKey(t)] = t
	}
	delivery := map[[2]string]float64{}
	for _, t := range p.Transfers {
		delivery[[2]string{t.Shot, t.Source}] = float64(t.Delivery)
	}
	device := map[string]int{}
	use := func(machine string, crews []planning.Crew, crew string) (list []int, price float64) {
		for _, c := range crews {
			if c.ID != crew {
				continue
			}
			price = c.BusyPrice.Float() / 3_600_000
			for _, name := range c.Devices {
				key := machine + "\x00" + name
				if _, ok := device[key]; !ok {
					device[key] = len(device)
				}
				list = append(list, device[key])
			}
		}
		return list, price
	}
	serverAt := map[string]int{}
	for _, v := range plan.Servers {
		found := false
		for _, o := range p.Offers {
			if o.ID == v.Offer {
				serverAt[v.ID], found = len(s.servers), true
				billed := planning.MillisOf(o.Meter().Billed((v.To - v.From).Duration()))
				s.servers = append(s.servers, stagedServer{o, float64(v.From), float64(v.From + billed - o.Wrap), d.wait(o.ID, o.Lead, promise.Boot)})
			}
		}
		if !found {
			return nil, missing("offer", v.Offer)
		}
	}
	farmAt := map[string]int{}
	for _, f := range p.Farms {
		farmAt[f.ID] = len(s.farms)
		s.farms = append(s.farms, stagedFarm{f.MinimumCharge.Float(), d.wait(f.ID, f.Lead, promise.Queue)})
	}
	for _, b := range plan.Bookings {
		i, ok := shotAt[b.Shot]
		if !ok {
			return nil, missing("shot", b.Shot)
		}
		x := desk{shot: i, start: float64(b.Start), server: -1, farm: -1, close: 1e15}
		row := planning.Timing{Shot: b.Shot, Host: b.Host, Farm: b.Farm, Crew: b.Crew}
		nodes := 1
		switch {
		case b.Host != "":
			for _, h := range p.Hosts {
				if h.ID != b.Host {
					continue
				}
				x.devices, x.price = use("host "+h.ID, h.Crews, b.Crew)
				for _, w := range h.Windows {
					if w[0] <= b.Start && b.End <= w[1] {
						x.close = float64(w[1])
					}
				}
			}
		case b.Server != "":
			x.server = serverAt[b.Server]
			offer := s.servers[x.server].offer
			row.Offer = offer.ID
			x.devices, _ = use("server "+b.Server, offer.Crews, b.Crew)
			x.close = s.servers[x.server].end
			x.delivery = delivery[[2]string{b.Shot, offer.Source}]
		default:
			x.farm = farmAt[b.Farm]
			nodes = b.Nodes
			for _, f := range p.Farms {
				if f.ID == b.Farm {
					x.price, x.perFrame = f.NodePrice.Float()/3_600_000, f.FramePrice.Float()
					x.delivery = delivery[[2]string{b.Shot, f.Source}]
				}
			}
		}
		t, ok := rows[TimingKey(row)]
		if !ok {
			return nil, missing("timing", TimingKey(row))
		}
		x.frame, x.doubt, x.fails = float64(t.Frame), d.Typical[TimingKey(t)], DefaultFails
		if v, ok := d.Fails[row.Host+row.Offer+row.Farm]; ok {
			x.fails = v
		}
		for n := range nodes {
			share := b.Frames / nodes
			if n < b.Frames%nodes {
				share++
			}
			y := x
			if b.Farm != "" {
				y.devices = []int{len(device)}
				device[fmt.Sprintf("farm %d", len(device))] = len(device)
			}
			y.booking = dispatch.Booking{Frames: share, Start: moment(x.start), End: moment(float64(b.End)), Frame: time.Duration(x.frame) * time.Millisecond, Live: true}
			s.shots[i].desks = append(s.shots[i].desks, len(s.desks))
			s.desks = append(s.desks, y)
		}
	}
	s.addReserves(p, plan, shotAt, use, d)
	s.devices = len(device)
	for _, x := range plan.ExtraSeats {
		for _, l := range p.Licences {
			if l.ID == x.Licence {
				s.seats += float64(x.Seats) * l.ExtraSeatPrice.Float()
			}
		}
	}
	return s, nil
}

// mostReserves is how many crews that the plan does not need are played at most: each
// asks again and again whether it may help.
const mostReserves = 400

// addReserves adds what a run adds to its plan: crews of owned hosts that could render
// a shot and are not booked for it, in each stretch in which they are free until the
// last deadline. They take frames only when the others will not reach them.
func (s *stage) addReserves(p planning.Problem, plan planning.Plan, shotAt map[string]int, use func(string, []planning.Crew, string) ([]int, float64), d Doubts) {
	booked := map[planning.Timing]bool{}
	for _, b := range plan.Bookings {
		booked[planning.Timing{Shot: b.Shot, Host: b.Host, Crew: b.Crew}] = true
	}
	last := plan.Finish
	for _, x := range s.shots {
		last = max(last, planning.Millis(x.deadline))
	}
	var found []desk
	for _, t := range p.Timings {
		if t.Host == "" || booked[planning.Timing{Shot: t.Shot, Host: t.Host, Crew: t.Crew}] {
			continue
		}
		for _, h := range p.Hosts {
			if h.ID != t.Host {
				continue
			}
			for _, w := range h.Windows {
				start, end := max(0, w[0]), min(w[1], last)
				if start >= end {
					continue
				}
				x := desk{shot: shotAt[t.Shot], start: float64(start), close: float64(w[1]), server: -1, farm: -1, frame: float64(t.Frame), doubt: d.Typical[TimingKey(t)], fails: DefaultFails}
				x.devices, x.price = use("host "+h.ID, h.Crews, t.Crew)
				if v, ok := d.Fails[h.ID]; ok {
					x.fails = v
				}
				x.booking = dispatch.Booking{Start: moment(x.start), End: moment(float64(end)), Frame: time.Duration(x.frame) * time.Millisecond, Live: true}
				found = append(found, x)
			}
		}
	}
	if len(found) > mostReserves {
		return
	}
	for _, x := range found {
		s.shots[x.shot].desks = append(s.shots[x.shot].desks, len(s.desks))
		s.desks = append(s.desks, x)
	}
}
