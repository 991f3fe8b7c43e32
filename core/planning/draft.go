package planning

import (
	"maps"
	"slices"

	"rotanex.example/core/pricing"
)

// draft is a plan in the making.
type draft struct {
	plan   Plan
	sentTo map[[2]string]bool // shot, source
}

func empty(status string, lost []ImpossibleShot) *Plan {
	return &Plan{
		Format: PlanFormat, Status: status, Impossible: lost,
		Servers: []Server{}, Uploads: []Upload{}, ExtraSeats: []ExtraSeat{}, Bookings: []Booking{},
	}
}

func (d *draft) book(b Booking, delivery Millis) {
	d.plan.Bookings = append(d.plan.Bookings, b)
	d.plan.Finish = max(d.plan.Finish, b.End+delivery)
}

// sent reports whether the shot's package already goes to the source, and notes
// that from now on it does.
func (d *draft) sent(shot, source string) bool {
	if d.sentTo == nil {
		d.sentTo = map[[2]string]bool{}
	}
	key := [2]string{shot, source}
	was := d.sentTo[key]
	d.sentTo[key] = true
	return was
}

// finished prices the draft and returns it as a plan that meets its deadlines.
func (d *draft) finished(p Problem) *Plan {
	out := empty(Meets, []ImpossibleShot{})
	out.Finish = d.plan.Finish
	out.Servers = append(out.Servers, d.plan.Servers...)
	out.Uploads = append(out.Uploads, d.plan.Uploads...)
	out.Bookings = append(out.Bookings, d.plan.Bookings...)
	out.Cost = Price(p, *out).Total.Rounded()
	return out
}

// Costs is what a plan costs, in parts that are exact; only Total is what is
// paid once rounded.
type Costs struct {
	Total    pricing.Money
	Bookings []pricing.Money          // of each booking: an owned crew's busy time, a farm's charge; none on a server
	Servers  []pricing.Money          // of each server
	Farms    map[string]pricing.Money // of each farm used, with its least charge
	Seats    pricing.Money            // extra seats
}

// Price adds up what a plan costs. The plan's machines must be in the problem.
func Price(p Problem, plan Plan) Costs {
	c := Costs{Farms: map[string]pricing.Money{}}
	timings := map[[4]string]Millis{}
	for _, t := range p.Timings {
		kind, id := t.Place()
		timings[[4]string{t.Shot, kind, id, t.Crew}] = t.Frame
	}
	hosts := index(p.Hosts, func(h Host) string { return h.ID })
	farms := index(p.Farms, func(f Farm) string { return f.ID })
	offers := index(p.Offers, func(o Offer) string { return o.ID })
	for _, b := range plan.Bookings {
		var cost pricing.Money
		switch {
		case b.Host != "":
			for _, crew := range hosts[b.Host].Crews {
				if crew.ID == b.Crew {
					frame := timings[[4]string{b.Shot, "host", b.Host, b.Crew}]
					cost = pricing.PerHour(crew.BusyPrice, (Millis(b.Frames) * frame).Duration())
				}
			}
			c.Total = c.Total.Plus(cost)
		case b.Farm != "":
			f := farms[b.Farm]
			frame := timings[[4]string{b.Shot, "farm", b.Farm, ""}]
			cost = pricing.PerHour(f.NodePrice, (Millis(b.Frames) * frame).Duration()).Plus(f.FramePrice.Times(int64(b.Frames)))
			c.Farms[b.Farm] = c.Farms[b.Farm].Plus(cost)
		}
		c.Bookings = append(c.Bookings, cost)
	}
	for _, id := range slices.Sorted(maps.Keys(c.Farms)) {
		c.Farms[id] = c.Farms[id].Max(farms[id].MinimumCharge)
		c.Total = c.Total.Plus(c.Farms[id])
	}
	for _, s := range plan.Servers {
		charge := offers[s.Offer].Meter().Charge((s.To - s.From).Duration())
		c.Servers = append(c.Servers, charge)
		c.Total = c.Total.Plus(charge)
	}
	licences := index(p.Licences, func(l Licence) string { return l.ID })
	for _, x := range plan.ExtraSeats {
		c.Seats = c.Seats.Plus(licences[x.Licence].ExtraSeatPrice.Times(int64(x.Seats)))
	}
	c.Total = c.Total.Plus(c.Seats)
	return c
}
