package simulate

import (
	"fmt"
	"math"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
)

// Planned is a plan of a problem made ready to be carried out: all looked up once.
type Planned struct {
	Setup
	Booked  []Booked // of each of Setup.Crews
	Servers []Server // in the order of the plan
}

// Booked is what is known of a crew's booking beside what the rule looks at.
type Booked struct {
	Row      planning.Timing // of the problem
	First    int             // the first crew of the same row
	Price    float64         // of a busy ms, on an owned machine or a farm's node
	PerFrame float64         // of a farm
	Delivery planning.Millis // of the shot's last frame, from where it is rendered
	Server   int             // place in Servers; -1: none
	Farm     int             // place in the problem's Farms; -1: none
}

// Server is a server that the plan lets.
type Server struct {
	planning.Server
	Terms planning.Offer
	Host  int // place in Setup.Hosts
}

// Plan makes a plan ready to be carried out, the problem's start being at a time. It adds
// what a run adds to its plan, crews of owned hosts that are not booked and help out, while
// there are no more than 400 of them. An error says what the plan books that the problem
// does not have.
func Plan(p planning.Problem, plan planning.Plan, start time.Time) (*Planned, error) {
	b := &builder{p: p, start: start, shotAt: map[string]int{}, rows: map[planning.Timing]planning.Millis{}, hostAt: map[string]int{}, sharers: map[planning.Timing]int{}, transfers: map[[2]string]planning.Transfer{}}
	for i, x := range p.Shots {
		b.shotAt[x.ID] = i
		b.Shots = append(b.Shots, Shot{ID: x.ID, Frames: x.Frames})
	}
	for i, x := range p.Shots {
		for _, id := range x.After {
			b.Shots[i].After = append(b.Shots[i].After, After{b.shotAt[id], x.Home[id]})
		}
	}
	for _, t := range p.Timings {
		b.rows[row(t)] = t.Frame
	}
	for _, t := range p.Transfers {
		b.transfers[[2]string{t.Shot, t.Source}] = t
	}
	for _, h := range p.Hosts {
		b.addHost("host "+h.ID, Host{Name: h.ID, MemoryGB: gigabytes(h.RAM)})
	}
	if err := b.addServers(plan); err != nil {
		return nil, err
	}
	for _, x := range plan.Bookings {
		if err := b.addBooking(plan, x); err != nil {
			return nil, err
		}
	}
	b.addReserves(plan)
	for _, l := range p.Licences {
		pool := Pool{Name: l.ID, Seats: l.Seats}
		for _, x := range plan.ExtraSeats {
			if x.Licence == l.ID {
				pool.Seats += x.Seats
			}
		}
		b.Pools = append(b.Pools, pool)
	}
	return &b.Planned, nil
}

// builder makes a plan ready.
type builder struct {
	Planned
	p         planning.Problem
	start     time.Time
	shotAt    map[string]int
	rows      map[planning.Timing]planning.Millis // by row
	hostAt    map[string]int                      // owned hosts and servers, by kind and id
	sharers   map[planning.Timing]int             // the first crew of each row
	transfers map[[2]string]planning.Transfer     // by shot and source
}

// row is which timing it is, without how long a frame takes.
func row(t planning.Timing) planning.Timing {
	t.Frame = 0
	return t
}

func gigabytes(m *planning.Memory) float64 {
	if m == nil {
		return 0
	}
	return m.GB()
}

// moment is a time of the problem as one that the rule reckons with.
func (b *builder) moment(at planning.Millis) time.Time {
	return b.start.Add(min(at, 1e12).Duration())
}

func (b *builder) addHost(key string, h Host) int {
	b.hostAt[key] = len(b.Hosts)
	h.Up = b.start
	b.Hosts = append(b.Hosts, h)
	return len(b.Hosts) - 1
}

func (b *builder) addServers(plan planning.Plan) error {
	offers := planning.ByID(b.p.Offers, func(o planning.Offer) string { return o.ID })
	for _, v := range plan.Servers {
		o, found := offers[v.Offer]
		if !found {
			return missing("offer", v.Offer)
		}
		host := b.addHost("server "+v.ID, Host{Name: v.ID, MemoryGB: gigabytes(o.RAM), StaysOn: true})
		b.Hosts[host].Up = b.moment(v.From + o.Lead)
		b.Servers = append(b.Servers, Server{v, o, host})
	}
	return nil
}

// addBooking adds a booking of the plan. A farm's becomes a host of its own.
func (b *builder) addBooking(plan planning.Plan, x planning.Booking) error {
	if _, ok := b.shotAt[x.Shot]; !ok {
		return missing("shot", x.Shot)
	}
	c := Booked{Server: -1, Farm: -1, Row: planning.Timing{Shot: x.Shot, Host: x.Host, Farm: x.Farm, Crew: x.Crew}}
	d := dispatch.Crew{Name: x.Crew, Frames: x.Frames, Start: b.moment(x.Start), End: b.moment(x.End)}
	host := -1
	switch {
	case x.Host != "":
		for _, h := range b.p.Hosts {
			if h.ID == x.Host {
				host = b.hostAt["host "+h.ID]
				d.Host = h.ID
				d.Devices, c.Price = devices(h.Crews, x.Crew)
				d.Close = b.closes(h, x.Start, x.End)
			}
		}
	case x.Server != "":
		for i, v := range b.Servers {
			if v.ID != x.Server {
				continue
			}
			c.Server, host = i, v.Host
			c.Row.Offer, d.Host = v.Offer, v.ID
			d.Devices, _ = devices(v.Terms.Crews, x.Crew)
			billed := planning.MillisOf(v.Terms.Meter().Billed((v.To - v.From).Duration()))
			d.Close = b.moment(v.From + billed - v.Terms.Wrap)
			c.Delivery = b.transfers[[2]string{x.Shot, v.Terms.Source}].Delivery
		}
	default:
		host = b.addFarmJob(x, &c, &d)
	}
	if host < 0 {
		return missing("machine", x.Where())
	}
	return b.addCrew(host, c, d)
}

// addFarmJob makes a host of a booking at a farm: its frames are gone as soon as the
// job is begun, early enough for the upload and the queue.
func (b *builder) addFarmJob(x planning.Booking, c *Booked, d *dispatch.Crew) int {
	for i, f := range b.p.Farms {
		if f.ID != x.Farm {
			continue
		}
		sent := b.transfers[[2]string{x.Shot, f.Source}]
		c.Farm, c.Price, c.PerFrame = i, f.NodePrice.Float()/3_600_000, f.FramePrice.Float()
		c.Delivery = sent.Delivery
		d.Host = f.ID
		begins := max(0, x.Start-f.Lead) - sent.Upload
		host := b.addHost(fmt.Sprintf("job %d", len(b.Hosts)), Host{Name: f.ID, Nodes: x.Nodes, Begins: b.moment(max(0, begins))})
		b.Hosts[host].Up = d.Start
		return host
	}
	return -1
}

// addCrew adds a crew of which all but its times is known.
func (b *builder) addCrew(host int, c Booked, d dispatch.Crew) error {
	at := len(b.Booked)
	frame, ok := b.rows[c.Row]
	if !ok {
		kind, id := c.Row.Place()
		return missing("timing", c.Row.Shot+" "+kind+" "+id+"/"+c.Row.Crew)
	}
	if _, seen := b.sharers[c.Row]; !seen {
		b.sharers[c.Row] = at
	}
	c.First = b.sharers[c.Row]
	c.Row.Frame = frame
	shot := b.shotAt[c.Row.Shot]
	x := b.p.Shots[shot]
	d.ID, d.Shot, d.Place, d.MemoryGB, d.Licence = int64(at+1), x.ID, dispatch.Place(d.Host, d.Name), x.RAM.GB(), x.Licence
	d.Frame = frame.Duration() / time.Duration(max(1, b.Hosts[host].Nodes))
	d.Priority, d.Due = dispatch.Priority(x.Priority), b.moment(x.Deadline-c.Delivery)
	if c.Farm >= 0 {
		d.Farm, d.Licence = true, "" // farms bring their own
	}
	b.Booked = append(b.Booked, c)
	b.Crews = append(b.Crews, Crew{Crew: d, Host: host, Shot: shot, Home: c.Delivery.Duration()})
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
func (b *builder) closes(h planning.Host, start, end planning.Millis) (at time.Time) {
	for _, w := range h.Hours() {
		if w[0] <= start && end <= w[1] {
			at = b.moment(w[1])
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
	for _, x := range b.p.Shots {
		last = max(last, x.Deadline)
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
			for _, w := range h.Hours() {
				if h.ID == t.Host && max(0, w[0]) < min(w[1], last) {
					found = append(found, reserve{row(t), h, w})
				}
			}
		}
	}
	if len(found) > mostReserves {
		return
	}
	for _, x := range found {
		c := Booked{Server: -1, Farm: -1, Row: x.row}
		d := dispatch.Crew{Host: x.at.ID, Name: x.row.Crew, Start: b.moment(max(0, x.w[0])), End: b.moment(min(x.w[1], last)), Close: b.moment(x.w[1])}
		d.Devices, c.Price = devices(x.at.Crews, x.row.Crew)
		_ = b.addCrew(b.hostAt["host "+x.at.ID], c, d) // the row is one of the problem's
	}
}

func missing(what, id string) error {
	return fmt.Errorf("the plan books %s %q, which its problem does not have", what, id)
}

// Milliseconds is a length of time, of which very long ones are cut.
func Milliseconds(ms float64) time.Duration {
	return time.Duration(math.Min(ms, 1e12) * float64(time.Millisecond))
}
