package replan

import (
	"fmt"
	"slices"
	"strings"

	"rotanex.example/core/planning"
)

// Part is one run's share of a problem in which the open work of several runs is planned
// together.
type Part struct {
	Problem  planning.Problem // of its rest, or of a run that is to begin
	Priority int              // of the run
	Plan     planning.Plan    // what it has booked now; empty for a run that is to begin
}

// Together makes one problem of parts: own hosts are there for all of them, when every part has
// them free; seats are shared. The first part may let what the others leave of each offer and
// farm: they keep as many servers and nodes as they have booked. Shots, offers and farms are
// named for their parts. It is the cheapest plan of all that is asked for, whatever single parts
// ask.
func Together(parts []Part) planning.Problem {
	out := planning.Problem{Format: planning.ProblemFormat, Start: parts[0].Problem.Start, Currency: parts[0].Problem.Currency, Goal: planning.Cheapest}
	for _, p := range parts {
		if p.Problem.Start.After(out.Start) {
			out.Start = p.Problem.Start
		}
	}
	servers, nodes := map[string]int{}, map[string]int{}
	for i, p := range slices.Backward(parts) { // the first has what is left
		p.Problem = later(p.Problem, planning.MillisOf(out.Start.Sub(p.Problem.Start)))
		hosts := planning.ByID(out.Hosts, func(h planning.Host) string { return h.ID })
		for _, h := range p.Problem.Hosts {
			if had, known := hosts[h.ID]; known {
				at := slices.IndexFunc(out.Hosts, func(x planning.Host) bool { return x.ID == h.ID })
				out.Hosts[at] = shared(had, h)
			} else {
				out.Hosts = append(out.Hosts, h)
			}
		}
		for _, l := range p.Problem.Licences {
			if !slices.ContainsFunc(out.Licences, func(x planning.Licence) bool { return x.ID == l.ID }) {
				out.Licences = append(out.Licences, l)
			}
		}
		for _, s := range p.Problem.Shots {
			s.ID, s.Priority, s.After = named(i, s.ID), p.Priority, slices.Clone(s.After)
			for k, id := range s.After {
				s.After[k] = named(i, id)
			}
			out.Shots = append(out.Shots, s)
		}
		for _, o := range p.Problem.Offers {
			o.MaxServers = share(i, o.MaxServers, p.lets(o.ID), o.ID, servers)
			if o.ID = named(i, o.ID); o.MaxServers > 0 {
				out.Offers = append(out.Offers, o)
			}
		}
		for _, f := range p.Problem.Farms {
			f.Nodes = share(i, f.Nodes, p.nodes(f.ID), f.ID, nodes)
			if f.ID = named(i, f.ID); f.Nodes > 0 {
				out.Farms = append(out.Farms, f)
			}
		}
		for _, t := range p.Problem.Transfers {
			t.Shot = named(i, t.Shot)
			out.Transfers = append(out.Transfers, t)
		}
		out.Timings = append(out.Timings, timingsOf(i, p.Problem, out)...)
	}
	out.Shots = planning.Linked(out.Shots)
	slices.SortStableFunc(out.Hosts, func(a, b planning.Host) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// share is how many of what there is a part may have: what it has booked, and the first, which
// is the last to be asked, what that leaves.
func share(part, all, booked int, of string, taken map[string]int) int {
	if part == 0 {
		return all - taken[of]
	}
	n := min(all, booked)
	taken[of] += n
	return n
}

// named is the name of a part's shot, offer or farm among all.
func named(part int, id string) string { return fmt.Sprintf("%d.%s", part, id) }

// timingsOf are a part's timings, where what they are of is there for it.
func timingsOf(part int, p, all planning.Problem) (out []planning.Timing) {
	for _, t := range p.Timings {
		t.Shot = named(part, t.Shot)
		if t.Offer != "" {
			t.Offer = named(part, t.Offer)
			if !slices.ContainsFunc(all.Offers, func(o planning.Offer) bool { return o.ID == t.Offer }) {
				continue
			}
		}
		if t.Farm != "" {
			t.Farm = named(part, t.Farm)
			if !slices.ContainsFunc(all.Farms, func(f planning.Farm) bool { return f.ID == t.Farm }) {
				continue
			}
		}
		out = append(out, t)
	}
	return out
}

// lets is how many servers of an offer the part has planned.
func (p Part) lets(offer string) (n int) {
	for _, v := range p.Plan.Servers {
		if v.Offer == offer {
			n++
		}
	}
	return n
}

// nodes is how many of a farm's nodes the part has booked.
func (p Part) nodes(farm string) (n int) {
	for _, b := range p.Plan.Bookings {
		if b.Farm == farm {
			n = max(n, b.Nodes)
		}
	}
	return n
}

// later is a problem counted from so much later.
func later(p planning.Problem, by planning.Millis) planning.Problem {
	p.Start = p.Start.Add(by.Duration())
	p.Shots, p.Hosts = slices.Clone(p.Shots), slices.Clone(p.Hosts)
	for i := range p.Shots {
		p.Shots[i].Ready, p.Shots[i].Deadline = max(0, p.Shots[i].Ready-by), max(1, p.Shots[i].Deadline-by)
	}
	for i := range p.Hosts {
		p.Hosts[i].Windows = counted(p.Hosts[i].Windows, by)
		if p.Hosts[i].Open != nil {
			p.Hosts[i].Open = counted(p.Hosts[i].Open, by)
		}
	}
	return p
}

func counted(windows [][2]planning.Millis, by planning.Millis) [][2]planning.Millis {
	out := [][2]planning.Millis{}
	for _, w := range windows {
		if w = [2]planning.Millis{max(0, w[0]-by), w[1] - by}; w[0] < w[1] {
			out = append(out, w)
		}
	}
	return out
}

// shared is a host that two parts have: free when both have it free, with the crews of both.
func shared(a, b planning.Host) planning.Host {
	a.Windows = both(a.Windows, b.Windows)
	if a.Open != nil || b.Open != nil {
		a.Open = both(a.Hours(), b.Hours())
	}
	a.Crews = slices.Clone(a.Crews)
	for _, c := range b.Crews {
		if !slices.ContainsFunc(a.Crews, func(x planning.Crew) bool { return x.ID == c.ID }) {
			a.Crews = append(a.Crews, c)
		}
	}
	return a
}

// both are the times that two lists of windows have in common.
func both(a, b [][2]planning.Millis) [][2]planning.Millis {
	out := [][2]planning.Millis{}
	for _, x := range a {
		for _, y := range b {
			if w := [2]planning.Millis{max(x[0], y[0]), min(x[1], y[1])}; w[0] < w[1] {
				out = append(out, w)
			}
		}
	}
	return out
}

// Apart gives each part what a plan of the problem of them all has for it, counted from its own
// start and priced by itself. Extra seats are hired by the first.
func Apart(parts []Part, problem planning.Problem, plan planning.Plan) []planning.Plan {
	out := make([]planning.Plan, len(parts))
	for i, p := range parts {
		by := planning.MillisOf(problem.Start.Sub(p.Problem.Start))
		one := planning.Plan{Format: planning.PlanFormat, Status: planning.Meets}
		own := func(id *string) bool {
			rest, is := strings.CutPrefix(*id, named(i, ""))
			*id = rest
			return is
		}
		if i == 0 {
			one.ExtraSeats = plan.ExtraSeats
		}
		for _, u := range plan.Uploads {
			if own(&u.Shot) {
				u.Start, u.End = u.Start+by, u.End+by
				one.Uploads = append(one.Uploads, u)
			}
		}
		for _, v := range plan.Servers {
			if own(&v.Offer) {
				v.ID, v.From, v.To = strings.TrimPrefix(v.ID, named(i, "")), v.From+by, v.To+by
				one.Servers = append(one.Servers, v)
			}
		}
		due := map[string]planning.Millis{}
		for _, s := range p.Problem.Shots {
			due[s.ID] = s.Deadline
		}
		for _, b := range plan.Bookings {
			if !own(&b.Shot) {
				continue
			}
			b.Farm, b.Server = strings.TrimPrefix(b.Farm, named(i, "")), strings.TrimPrefix(b.Server, named(i, ""))
			b.Start, b.End = b.Start+by, b.End+by
			one.Bookings = append(one.Bookings, b)
			one.Finish = max(one.Finish, b.End)
			if b.End > due[b.Shot] {
				one.Status = planning.Late
			}
		}
		one.Cost = planning.Price(p.Problem, one).Total.Rounded()
		out[i] = one
	}
	return out
}
