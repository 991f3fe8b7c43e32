package forecast

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
	"rotanex.example/core/simulate"
)

// setup is a plan made ready to be simulated: all looked up once.
type setup struct {
	simulate.Setup
	shots   []shot
	crews   []crew   // one for each of Setup.Crews
	servers []server // in the order of the plan
	farms   []farm   // in the order of the problem
	seats   float64  // what extra seats cost
	common  float64  // see Uncertainty.Common
}

type shot struct {
	id       string
	deadline float64 // ms
	ratios   []float64
}

// crew is what is known of a booking beside what the rule looks at.
type crew struct {
	shot     int
	frame    float64 // ms, typical
	off      float64 // standard deviation of the logarithm of frame
	sameAs   int     // the first crew of the same timing: they share what is not known
	fails    float64
	price    float64 // of a busy ms, on an owned machine or a farm's node
	perFrame float64 // of a farm
	delivery float64
	server   int // -1: none
	farm     int // -1: none
}

type server struct {
	offer planning.Offer
	host  int
	from  float64
	wait  wait
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

// builder makes a setup.
type builder struct {
	setup
	p         planning.Problem
	u         Uncertainty
	shotAt    map[string]int
	rows      map[string]planning.Timing
	delivery  map[[2]string]float64
	hostAt    map[string]int // owned hosts and servers, by kind and id
	sharers   map[string]int // the first crew of each timing
	transfers map[[2]string]planning.Millis
}

func newSetup(p planning.Problem, plan planning.Plan, u Uncertainty, deadlines map[string]planning.Millis) (*setup, error) {
	b := &builder{p: p, u: u, shotAt: map[string]int{}, rows: map[string]planning.Timing{}, delivery: map[[2]string]float64{}, hostAt: map[string]int{}, sharers: map[string]int{}, transfers: map[[2]string]planning.Millis{}}
	b.common = u.Common
	b.addShots(deadlines)
	for _, t := range p.Timings {
		b.rows[TimingKey(t)] = t
	}
	for _, t := range p.Transfers {
		b.delivery[[2]string{t.Shot, t.Source}] = float64(t.Delivery)
		b.transfers[[2]string{t.Shot, t.Source}] = t.Upload
	}
	for _, h := range p.Hosts {
		b.addHost("host "+h.ID, simulate.Host{Name: h.ID, MemoryGB: gigabytes(h.RAM)})
	}
	if err := b.addServers(plan); err != nil {
		return nil, err
	}
	for _, f := range p.Farms {
		b.farms = append(b.farms, farm{f.MinimumCharge.Float(), u.wait(f.ID, f.Lead, leadtimes.Queue)})
	}
	for _, x := range plan.Bookings {
		if err := b.addBooking(plan, x); err != nil {
			return nil, err
		}
	}
	b.addReserves(plan)
	b.addSeats(plan)
	return &b.setup, nil
}

func (b *builder) addShots(deadlines map[string]planning.Millis) {
	for i, x := range b.p.Shots {
		b.shotAt[x.ID] = i
		due := x.Deadline
		if v, ok := deadlines[x.ID]; ok {
			due = v
		}
		ratios := b.u.Ratios[x.ID]
		if len(ratios) < 8 {
			ratios = DefaultRatios
		}
		b.shots = append(b.shots, shot{id: x.ID, deadline: float64(due), ratios: ratios})
		b.Shots = append(b.Shots, simulate.Shot{ID: x.ID, Frames: x.Frames})
	}
}

// addSeats counts the plan's extra seats in.
func (b *builder) addSeats(plan planning.Plan) {
	for _, l := range b.p.Licences {
		pool := simulate.Pool{Name: l.ID, Seats: l.Seats}
		for _, x := range plan.ExtraSeats {
			if x.Licence == l.ID {
				pool.Seats += x.Seats
				b.seats += float64(x.Seats) * l.ExtraSeatPrice.Float()
			}
		}
		b.Pools = append(b.Pools, pool)
	}
}

func gigabytes(m *planning.Memory) float64 {
	if m == nil {
		return 0
	}
	return m.GB()
}

func (b *builder) addHost(key string, h simulate.Host) int {
	b.hostAt[key] = len(b.Hosts)
	h.Up = moment(0)
	b.Hosts = append(b.Hosts, h)
	return len(b.Hosts) - 1
}

func (b *builder) addServers(plan planning.Plan) error {
	for _, v := range plan.Servers {
		found := false
		for _, o := range b.p.Offers {
			if o.ID == v.Offer {
				found = true
				host := b.addHost("server "+v.ID, simulate.Host{Name: v.ID, MemoryGB: gigabytes(o.RAM), StaysOn: true})
				b.servers = append(b.servers, server{o, host, float64(v.From), b.u.wait(o.ID, o.Lead, leadtimes.Boot)})
			}
		}
		if !found {
			return missing("offer", v.Offer)
		}
	}
	return nil
}

// addBooking adds a booking of the plan. A farm's becomes a host of its own.
func (b *builder) addBooking(plan planning.Plan, x planning.Booking) error {
	at, ok := b.shotAt[x.Shot]
	if !ok {
		return missing("shot", x.Shot)
	}
	c := crew{shot: at, server: -1, farm: -1}
	d := dispatch.Crew{Name: x.Crew, Frames: x.Frames, Start: moment(float64(x.Start)), End: moment(float64(x.End))}
	row := planning.Timing{Shot: x.Shot, Host: x.Host, Farm: x.Farm, Crew: x.Crew}
	host := -1
	switch {
	case x.Host != "":
		for _, h := range b.p.Hosts {
			if h.ID == x.Host {
				host = b.hostAt["host "+h.ID]
				d.Host = h.ID
				d.Devices, c.price = devices(h.Crews, x.Crew)
				d.Close = closes(h, x.Start, x.End)
			}
		}
	case x.Server != "":
		for i, v := range plan.Servers {
			if v.ID != x.Server {
				continue
			}
			offer := b.servers[i].offer
			c.server, host = i, b.servers[i].host
			row.Offer, d.Host = offer.ID, v.ID
			d.Devices, _ = devices(offer.Crews, x.Crew)
			billed := planning.MillisOf(offer.Meter().Billed((v.To - v.From).Duration()))
			d.Close = moment(float64(v.From + billed - offer.Wrap))
			c.delivery = b.delivery[[2]string{x.Shot, offer.Source}]
		}
	default:
		host = b.addFarmJob(x, &c, &d)
	}
	if host < 0 {
		return missing("machine", x.Host+x.Server+x.Farm)
	}
	return b.addCrew(row, host, c, d)
}

// addFarmJob makes a host of a booking at a farm: its frames are gone as soon as the
// job is begun, early enough for the upload and the queue.
func (b *builder) addFarmJob(x planning.Booking, c *crew, d *dispatch.Crew) int {
	for i, f := range b.p.Farms {
		if f.ID != x.Farm {
			continue
		}
		c.farm, c.price, c.perFrame = i, f.NodePrice.Float()/3_600_000, f.FramePrice.Float()
		c.delivery = b.delivery[[2]string{x.Shot, f.Source}]
		d.Host = f.ID
		begins := max(0, x.Start-f.Lead) - b.transfers[[2]string{x.Shot, f.Source}]
		host := b.addHost(fmt.Sprintf("job %d", len(b.Hosts)), simulate.Host{Name: f.ID, Nodes: x.Nodes, Begins: moment(float64(max(0, begins)))})
		b.Hosts[host].Up = d.Start
		return host
	}
	return -1
}

// addCrew adds a crew of which all but its times is known.
func (b *builder) addCrew(row planning.Timing, host int, c crew, d dispatch.Crew) error {
	key := TimingKey(row)
	t, ok := b.rows[key]
	if !ok {
		return missing("timing", key)
	}
	at := len(b.crews)
	first, seen := b.sharers[key]
	if !seen {
		b.sharers[key], first = at, at
	}
	c.sameAs, c.frame, c.off, c.fails = first, float64(t.Frame), b.u.Typical[key], DefaultFails
	if v, ok := b.u.Fails[row.Host+row.Offer+row.Farm]; ok {
		c.fails = v
	}
	x := b.p.Shots[c.shot]
	d.ID, d.Shot, d.Place, d.MemoryGB, d.Licence = int64(at+1), x.ID, dispatch.Place(d.Host, d.Name), x.RAM.GB(), x.Licence
	d.Frame = t.Frame.Duration() / time.Duration(max(1, b.Hosts[host].Nodes))
	if c.farm >= 0 {
		d.Licence = "" // farms bring their own
	}
	b.crews = append(b.crews, c)
	b.Crews = append(b.Crews, simulate.Crew{Crew: d, Host: host, Shot: c.shot})
	return nil
}

func devices(crews []planning.Crew, id string) ([]string, float64) {
	for _, c := range crews {
		if c.ID == id {
			return c.Devices, c.BusyPrice.Float() / 3_600_000
		}
	}
	return nil, 0
}

// closes is when the window of a host ends in which a booking lies.
func closes(h planning.Host, start, end planning.Millis) (at time.Time) {
	for _, w := range h.Windows {
		if w[0] <= start && end <= w[1] {
			at = moment(float64(w[1]))
		}
	}
	return at
}

// mostReserves is how many crews that the plan does not need are simulated at most:
// each asks again and again whether it may help.
const mostReserves = 400

// addReserves adds what a run adds to its plan: crews of owned hosts that could render
// a shot and are not booked for it, in each stretch in which they are free until the
// last deadline. They take frames only when the others will not reach them.
func (b *builder) addReserves(plan planning.Plan) {
	booked := map[planning.Timing]bool{}
	for _, x := range plan.Bookings {
		booked[planning.Timing{Shot: x.Shot, Host: x.Host, Crew: x.Crew}] = true
	}
	last := plan.Finish
	for _, x := range b.shots {
		last = max(last, planning.Millis(x.deadline))
	}
	type reserve struct {
		row planning.Timing
		at  planning.Host
		w   [2]planning.Millis
	}
	var found []reserve
	for _, t := range b.p.Timings {
		if t.Host == "" || booked[planning.Timing{Shot: t.Shot, Host: t.Host, Crew: t.Crew}] {
			continue
		}
		for _, h := range b.p.Hosts {
			for _, w := range h.Windows {
				if h.ID == t.Host && max(0, w[0]) < min(w[1], last) {
					found = append(found, reserve{t, h, w})
				}
			}
		}
	}
	if len(found) > mostReserves {
		return
	}
	for _, x := range found {
		c := crew{shot: b.shotAt[x.row.Shot], server: -1, farm: -1}
		d := dispatch.Crew{Host: x.at.ID, Name: x.row.Crew, Start: moment(float64(max(0, x.w[0]))), End: moment(float64(min(x.w[1], last))), Close: moment(float64(x.w[1]))}
		d.Devices, c.price = devices(x.at.Crews, x.row.Crew)
		_ = b.addCrew(x.row, b.hostAt["host "+x.at.ID], c, d) // the row is one of the problem's
	}
}

// moment turns milliseconds of the problem into a time that the rule reckons with.
func moment(ms float64) time.Time { return time.UnixMilli(int64(math.Min(ms, 1e12))).UTC() }
