package planning

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"rotanex.example/core/pricing"
)

func empty(status string, lost []ImpossibleShot) *Plan {
	return &Plan{
		Format: PlanFormat, Status: status, Impossible: lost,
		Servers: []Server{}, Uploads: []Upload{}, ExtraSeats: []ExtraSeat{}, Bookings: []Booking{},
	}
}

// plan writes a layout down as a plan.
func (l *layout) plan(status string) *Plan {
	out := empty(status, []ImpossibleShot{})
	served := map[int]int{}
	for _, x := range l.machines {
		if len(x.jobs) == 0 {
			continue
		}
		u, server := x.unit, ""
		if u.kind == rentedOffer {
			served[x.at]++
			server = fmt.Sprintf("%s#%d", u.id, served[x.at])
			b := x.busy()
			out.Servers = append(out.Servers, Server{server, u.id, b.start - u.rent.lead, b.end + u.rent.wrap})
		}
		jobs := slices.Clone(x.jobs)
		slices.SortFunc(jobs, func(a, b job) int {
			return cmp.Or(cmp.Compare(a.start, b.start), cmp.Compare(a.option, b.option), cmp.Compare(a.end, b.end))
		})
		for _, j := range jobs {
			o := &u.options[j.option]
			b := Booking{Shot: l.m.Shots[o.shot].ID, Frames: j.frames, Start: j.start, End: j.end}
			switch u.kind {
			case ownedHost:
				b.Host, b.Crew = u.id, u.crews[o.crew].id
			case rentedOffer:
				b.Server, b.Crew = server, u.crews[o.crew].id
			default:
				b.Farm, b.Nodes = u.id, j.nodes
			}
			out.Finish = max(out.Finish, j.end+o.home)
			out.Bookings = append(out.Bookings, b)
		}
	}
	for i, source := range l.m.sources {
		for _, s := range l.uploads[i] {
			out.Uploads = append(out.Uploads, Upload{l.m.Shots[s.shot].ID, source, s.start, s.end})
		}
	}
	for i, n := range l.extraSeats() {
		if n > 0 {
			out.ExtraSeats = append(out.ExtraSeats, ExtraSeat{l.m.Licences[i].ID, n})
		}
	}
	out.Cost = Price(l.m.Problem, *out).Total.Rounded()
	return out
}

// Costs is what a plan costs, in parts that are exact; only Total is what is
// paid once rounded.
type Costs struct {
	Total    pricing.Money
	Bookings []pricing.Money          // of each booking: an owned crew's busy time, a farm's charge; none on a server
	Servers  []pricing.Money          // of each server
	Farms    map[string]pricing.Money // of each farm used, with its minimum charge
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
	hosts := ByID(p.Hosts, func(h Host) string { return h.ID })
	farms := ByID(p.Farms, func(f Farm) string { return f.ID })
	offers := ByID(p.Offers, func(o Offer) string { return o.ID })
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
	licences := ByID(p.Licences, func(l Licence) string { return l.ID })
	for _, x := range plan.ExtraSeats {
		c.Seats = c.Seats.Plus(licences[x.Licence].ExtraSeatPrice.Times(int64(x.Seats)))
	}
	c.Total = c.Total.Plus(c.Seats)
	return c
}

// Outside is the part of a plan's cost that is paid to others: servers, farms and
// extra seats.
func Outside(p Problem, plan Plan) pricing.Money {
	c := Price(p, plan)
	out := c.Seats
	for _, s := range c.Servers {
		out = out.Plus(s)
	}
	for _, id := range slices.Sorted(maps.Keys(c.Farms)) {
		out = out.Plus(c.Farms[id])
	}
	return out
}

// Margin is what has to be left of what may be spent beside what a plan costs: for the frames that are in work at once at its
// farms, if they take longer than expected (pricing.Margin).
func Margin(p Problem, plan Plan) (out pricing.Money) {
	type job struct{ farm, shot string }
	frames := map[job]int{}
	for _, b := range plan.Bookings {
		if b.Farm != "" {
			frames[job{b.Farm, b.Shot}] += b.Frames
		}
	}
	for _, f := range p.Farms {
		for _, t := range p.Timings {
			if n := frames[job{f.ID, t.Shot}]; t.Farm == f.ID && n > 0 {
				out = out.Plus(pricing.Margin(f.NodePrice, t.Frame.Duration(), min(n, f.Nodes)))
			}
		}
	}
	return out
}

// AtMost is what a plan may come to outside: what it costs there, and its margin.
func AtMost(p Problem, plan Plan) pricing.Money { return Outside(p, plan).Plus(Margin(p, plan)) }
