package planning

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"slices"
)

// Check decides whether a plan is valid for a problem and whether it states its
// cost and finish rightly. It shares no arithmetic with the solver, so that a
// slip there cannot pass here. The error joins every violation found, each
// beginning with its rule.
func Check(p Problem, plan Plan) error {
	c := newChecker(p, plan)
	if plan.Status == Impossible {
		if len(plan.Bookings) > 0 || len(plan.Impossible) == 0 {
			c.fault("status: impossible needs a list of shots and no bookings")
		}
	} else {
		c.checkFrames()
		c.checkBookings()
		c.checkServers()
		c.checkUnits()
		c.checkUploads()
		c.checkSeats()
		c.checkInputs()
	}
	c.checkStatement()
	return errors.Join(c.faults...)
}

// placed is a booking with everything that the rules ask about it looked up.
type placed struct {
	Booking
	name     string // for messages
	unit     string // kind and id of the machine
	crew     Crew
	shot     Shot
	host     Host
	offer    Offer
	farm     Farm
	server   Server
	frame    Millis
	source   string
	transfer Transfer
}

func (b placed) home() Millis { return b.End + b.transfer.Delivery }

type checker struct {
	p        Problem
	plan     Plan
	faults   []error
	servers  map[string]Server
	offers   map[string]Offer
	bookings []placed
}

func (c *checker) fault(format string, args ...any) {
	c.faults = append(c.faults, fmt.Errorf(format, args...))
}

func newChecker(p Problem, plan Plan) *checker {
	c := &checker{p: p, plan: plan, servers: map[string]Server{}}
	c.offers = ByID(p.Offers, func(o Offer) string { return o.ID })
	shots := ByID(p.Shots, func(s Shot) string { return s.ID })
	hosts := ByID(p.Hosts, func(h Host) string { return h.ID })
	farms := ByID(p.Farms, func(f Farm) string { return f.ID })
	transfers := ByID(p.Transfers, func(t Transfer) string { return t.Shot + "\x00" + t.Source })
	timings := ByID(p.Timings, func(t Timing) string {
		kind, id := t.Place()
		return t.Shot + "\x00" + kind + "\x00" + id + "\x00" + t.Crew
	})
	for _, s := range plan.Servers {
		if _, twice := c.servers[s.ID]; twice {
			c.fault("rule 7: server %s is listed twice", s.ID)
		}
		if _, known := c.offers[s.Offer]; !known {
			c.fault("rule 7: no offer %s", s.Offer)
			continue
		}
		c.servers[s.ID] = s
	}
	for _, b := range plan.Bookings {
		x := placed{Booking: b, name: fmt.Sprintf("%s on %s %s from %v", b.Shot, b.Where(), b.Crew, b.Start.Duration())}
		kind, id, crews := "", "", []Crew(nil)
		switch {
		case b.Host != "" && b.Server == "" && b.Farm == "":
			x.host = hosts[b.Host]
			kind, id, crews = "host", b.Host, x.host.Crews
		case b.Server != "" && b.Host == "" && b.Farm == "":
			x.server = c.servers[b.Server]
			x.offer = c.offers[x.server.Offer]
			kind, id, crews, x.source = "offer", x.server.Offer, x.offer.Crews, x.offer.Source
		case b.Farm != "" && b.Host == "" && b.Server == "":
			x.farm = farms[b.Farm]
			kind, id, x.source = "farm", b.Farm, x.farm.Source
		default:
			c.fault("format: booking of %s needs exactly one of host, server, farm", b.Shot)
			continue
		}
		row, ok := timings[b.Shot+"\x00"+kind+"\x00"+id+"\x00"+b.Crew]
		if !ok {
			c.fault("rule 2: no timings row for %s", x.name)
			continue
		}
		if b.Frames < 1 || (kind == "farm" && b.Nodes < 1) {
			c.fault("rule 1: %s: frames and nodes are whole numbers above 0", x.name)
			continue
		}
		x.unit, x.frame, x.shot = kind+" "+b.Where(), row.Frame, shots[b.Shot]
		x.transfer = transfers[b.Shot+"\x00"+x.source]
		if kind == "host" {
			x.transfer = Transfer{}
		}
		for _, crew := range crews {
			if crew.ID == b.Crew {
				x.crew = crew
			}
		}
		c.bookings = append(c.bookings, x)
	}
	return c
}

func (c *checker) checkFrames() {
	done := map[string]int{}
	for _, b := range c.bookings {
		done[b.Shot] += b.Frames
	}
	for _, s := range c.p.Shots {
		if done[s.ID] != s.Frames {
			c.fault("rule 1: %s: %d frames booked of %d", s.ID, done[s.ID], s.Frames)
		}
	}
}

func (c *checker) checkBookings() {
	for _, b := range c.bookings {
		rounds := Millis(b.Frames)
		if b.Farm != "" {
			rounds = Millis((b.Frames + b.Nodes - 1) / b.Nodes)
		}
		if b.End-b.Start < rounds*b.frame {
			c.fault("rule 3: %s: %d frames need %v", b.name, b.Frames, (rounds * b.frame).Duration())
		}
		if b.Host != "" && !slices.ContainsFunc(b.host.Windows, func(w [2]Millis) bool { return w[0] <= b.Start && b.End <= w[1] }) {
			c.fault("rule 6: %s: outside the open hours", b.name)
		}
		if b.Server != "" && (b.Start < b.server.From+b.offer.Lead || b.End > b.server.To-b.offer.Wrap) {
			c.fault("rule 7: %s: outside the server's usable time", b.name)
		}
		if b.Farm != "" && b.Start < b.farm.Lead {
			c.fault("rule 8: %s: before the farm's lead time", b.name)
		}
		if b.Start < max(0, b.shot.Ready) {
			c.fault("rule 9: %s: before the shot is ready", b.name)
		}
		if c.plan.Status == Meets && b.home() > b.shot.Deadline {
			c.fault("rule 12: %s: home at %v, deadline %v", b.name, b.home().Duration(), b.shot.Deadline.Duration())
		}
	}
}

func (c *checker) checkServers() {
	count := map[string]int{}
	for _, s := range c.servers {
		count[s.Offer]++
		if s.From < 0 || s.To <= s.From {
			c.fault("rule 7: server %s exists from %v to %v", s.ID, s.From.Duration(), s.To.Duration())
		}
	}
	for id, n := range count {
		if n > c.offers[id].MaxServers {
			c.fault("rule 7: %s: %d servers, at most %d", id, n, c.offers[id].MaxServers)
		}
	}
}

// load is a weight over [start, end).
type load struct {
	start, end Millis
	weight     int64
}

// peak returns the greatest sum of weights at any moment.
func peak(loads []load) int64 {
	type edge struct {
		at     Millis
		change int64
	}
	var edges []edge
	for _, l := range loads {
		if l.end > l.start {
			edges = append(edges, edge{l.start, l.weight}, edge{l.end, -l.weight})
		}
	}
	// Ends come before starts at the same moment: touching does not overlap.
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.change, b.change)) })
	var level, top int64
	for _, e := range edges {
		level += e.change
		top = max(top, level)
	}
	return top
}

func (c *checker) checkUnits() {
	memory, devices, nodes := map[string][]load{}, map[string][]load{}, map[string][]load{}
	limit, room := map[string]Memory{}, map[string]int{}
	for _, b := range c.bookings {
		if b.Farm != "" {
			nodes[b.Farm] = append(nodes[b.Farm], load{b.Start, b.End, int64(b.Nodes)})
			room[b.Farm] = b.farm.Nodes
			continue
		}
		for _, d := range b.crew.Devices {
			devices[b.unit+" device "+d] = append(devices[b.unit+" device "+d], load{b.Start, b.End, 1})
		}
		ram := b.host.RAM
		if b.Server != "" {
			ram = b.offer.RAM
		}
		if ram != nil {
			limit[b.unit] = *ram
			memory[b.unit] = append(memory[b.unit], load{b.Start, b.End, int64(b.shot.RAM)})
		}
	}
	for device, loads := range devices {
		if peak(loads) > 1 {
			c.fault("rule 4: %s renders two frames at once", device)
		}
	}
	for unit, loads := range memory {
		if peak(loads) > int64(limit[unit]) {
			c.fault("rule 5: %s: more host memory in use than it has", unit)
		}
	}
	for farm, loads := range nodes {
		if peak(loads) > int64(room[farm]) {
			c.fault("rule 8: %s: more nodes in use than it has", farm)
		}
	}
}

func (c *checker) checkUploads() {
	ends, busy := map[string]Millis{}, map[string][]load{}
	shots := ByID(c.p.Shots, func(s Shot) string { return s.ID })
	need := map[string]Millis{}
	for _, t := range c.p.Transfers {
		need[t.Shot+"\x00"+t.Source] = t.Upload
	}
	for _, u := range c.plan.Uploads {
		key := u.Shot + "\x00" + u.Source
		if _, twice := ends[key]; twice {
			c.fault("rule 10: upload of %s to %s is listed twice", u.Shot, u.Source)
		}
		if u.End-u.Start != need[key] || u.Start < max(0, shots[u.Shot].Ready) {
			c.fault("rule 10: upload of %s to %s: wrong length or before the shot is ready", u.Shot, u.Source)
		}
		ends[key] = u.End
		busy[u.Source] = append(busy[u.Source], load{u.Start, u.End, 1})
	}
	for source, loads := range busy {
		if peak(loads) > 1 {
			c.fault("rule 10: two uploads to %s overlap", source)
		}
	}
	for _, b := range c.bookings {
		if b.transfer.Upload == 0 {
			continue
		}
		if end, ok := ends[b.Shot+"\x00"+b.source]; !ok || b.Start < end {
			c.fault("rule 10: %s: before its package is there", b.name)
		}
	}
}

func (c *checker) checkSeats() {
	type holder struct{ licence, unit string }
	held := map[holder]load{}
	for _, b := range c.bookings {
		if b.shot.Licence == "" || b.Farm != "" {
			continue
		}
		key := holder{b.shot.Licence, b.unit}
		if l, ok := held[key]; ok {
			held[key] = load{min(l.start, b.Start), max(l.end, b.End), 1}
		} else {
			held[key] = load{b.Start, b.End, 1}
		}
	}
	licences := ByID(c.p.Licences, func(l Licence) string { return l.ID })
	seats := map[string]int{}
	for _, x := range c.plan.ExtraSeats {
		seats[x.Licence] += x.Seats
		if x.Seats < 1 || seats[x.Licence] > licences[x.Licence].ExtraSeats {
			c.fault("rule 11: %s: %d extra seats, at most %d", x.Licence, x.Seats, licences[x.Licence].ExtraSeats)
		}
	}
	for _, l := range c.p.Licences {
		var loads []load
		for _, key := range slices.SortedFunc(maps.Keys(held), func(a, b holder) int { return cmp.Compare(a.unit, b.unit) }) {
			if key.licence == l.ID {
				loads = append(loads, held[key])
			}
		}
		if int(peak(loads)) > l.Seats+seats[l.ID] {
			c.fault("rule 11: %s: %d seats held, has %d", l.ID, peak(loads), l.Seats+seats[l.ID])
		}
	}
}

// checkInputs holds what waits for frames of others against when those come home: inputs as early
// as their bookings allow, what waits for them as late as its own allow.
func (c *checker) checkInputs() {
	arrivals, starts := map[string][]Millis{}, map[string][]Millis{}
	for _, b := range c.bookings {
		each := 1
		if b.Farm != "" {
			each = b.Nodes
		}
		for i := range b.Frames {
			round := Millis(i/each+1) * b.frame
			arrivals[b.Shot] = append(arrivals[b.Shot], b.Start+round+b.transfer.Delivery)
			starts[b.Shot] = append(starts[b.Shot], b.End-round)
		}
	}
	for _, s := range c.p.Shots {
		for _, id := range s.After {
			home, waiting := slices.Sorted(slices.Values(arrivals[id])), slices.Sorted(slices.Values(starts[s.ID]))
			there := min(s.Home[id], len(waiting))
			for i := range min(len(home), len(waiting)-there) {
				if waiting[there+i] < home[i] {
					c.fault("rule 14: %s: frame %d of %d starts at %v, when %d of %s are home, the next at %v", s.ID, there+i+1, s.Frames, waiting[there+i].Duration(), there+i, id, home[i].Duration())
					break
				}
			}
		}
	}
}

// cost adds the plan up from the prices, as fractions of hours in whole milliseconds.
func (c *checker) cost() *big.Rat {
	const hour = 3_600_000
	total := new(big.Rat)
	add := func(to, price *big.Rat, num, den int64) { to.Add(to, new(big.Rat).Mul(price, big.NewRat(num, den))) }
	farms := map[string]*big.Rat{}
	for _, b := range c.bookings {
		switch work := int64(b.Frames) * int64(b.frame); {
		case b.Host != "":
			add(total, b.crew.BusyPrice.Rat(), work, hour)
		case b.Farm != "":
			if farms[b.Farm] == nil {
				farms[b.Farm] = new(big.Rat)
			}
			add(farms[b.Farm], b.farm.NodePrice.Rat(), work, hour)
			add(farms[b.Farm], b.farm.FramePrice.Rat(), int64(b.Frames), 1)
		}
	}
	for _, f := range c.p.Farms {
		if charge := farms[f.ID]; charge != nil {
			if least := f.MinimumCharge.Rat(); charge.Cmp(least) < 0 {
				charge = least
			}
			total.Add(total, charge)
		}
	}
	for _, s := range c.servers {
		o := c.offers[s.Offer]
		step := int64(1000)
		if o.Increment != nil {
			step = int64(*o.Increment)
		}
		billed := (int64(s.To-s.From) + step - 1) / step * step
		billed = max(billed, int64(o.Minimum))
		add(total, o.Price.Rat(), billed, hour)
		total.Add(total, o.Fee.Rat())
	}
	for _, x := range c.plan.ExtraSeats {
		for _, l := range c.p.Licences {
			if l.ID == x.Licence {
				add(total, l.ExtraSeatPrice.Rat(), int64(x.Seats), 1)
			}
		}
	}
	return total
}

func (c *checker) checkStatement() {
	cost := c.cost()
	// Half up to hundredths: floor(100 cost + 1/2) / 100.
	hundredths := new(big.Rat).Add(new(big.Rat).Mul(cost, big.NewRat(100, 1)), big.NewRat(1, 2))
	rounded := new(big.Rat).SetFrac(new(big.Int).Div(hundredths.Num(), hundredths.Denom()), big.NewInt(100))
	if rounded.Cmp(c.plan.Cost.Rat()) != 0 {
		c.fault("cost: the plan says %s, it costs %s", c.plan.Cost, rounded.FloatString(2))
	}
	var finish, late Millis
	for _, b := range c.bookings {
		finish = max(finish, b.home())
		late = max(late, b.home()-b.shot.Deadline)
	}
	if finish != c.plan.Finish {
		c.fault("finish: the plan says %v, it is %v", c.plan.Finish.Duration(), finish.Duration())
	}
	over := c.p.Budget != nil && rounded.Cmp(c.p.Budget.Rat()) > 0
	switch c.plan.Status {
	case Meets, Late:
		if over {
			c.fault("rule 13: cost %s, budget %s", c.plan.Cost, c.p.Budget)
		}
		if c.plan.Status == Late && late <= 0 {
			c.fault("status: late, yet no deadline is missed")
		}
	case OverBudget:
		if !over {
			c.fault("status: over-budget, yet inside the budget")
		}
	case Impossible:
	default:
		c.fault("status: %q is none", c.plan.Status)
	}
	if late <= 0 && c.plan.Status != Impossible && c.plan.CostBound.Rat().Cmp(rounded) > 0 {
		c.fault("cost_bound: %s is above the plan's own cost %s", c.plan.CostBound, c.plan.Cost)
	}
}
