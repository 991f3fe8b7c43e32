package main

import (
	"fmt"
	"math/rand/v2"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// drawn is a problem that can be solved exactly: up to so many shots that take a part more time than there is on one's own hosts,
// offers of whole hours, quarters, minutes or seconds, and for a single shot a farm, uploads and deliveries.
func drawn(r *rand.Rand, shots int) planning.Problem {
	money := func(low, high float64) pricing.Money {
		return pricing.MustMoney(fmt.Sprintf("%.2f", low+(high-low)*r.Float64()))
	}
	one := func(of ...planning.Millis) planning.Millis { return of[r.IntN(len(of))] }
	const minute, hour = planning.Millis(60_000), planning.Millis(3_600_000)
	last := planning.Millis(4+r.IntN(10)) * hour
	p := planning.Problem{Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest}
	heavy := map[string]float64{} // seconds of a frame on a usual device
	for i := range max(1, shots-r.IntN(2)) {
		s := planning.Shot{ID: fmt.Sprintf("shot-%d", i), Frames: 60 + r.IntN(400), Deadline: last - planning.Millis(i)*last/8}
		heavy[s.ID] = 30 + 300*r.Float64()
		p.Shots = append(p.Shots, s)
	}
	crews := func(n int, busy pricing.Money) (out []planning.Crew) {
		for g := range n {
			id := fmt.Sprintf("g%d", g)
			out = append(out, planning.Crew{ID: id, Devices: []string{id}, BusyPrice: busy})
		}
		return out
	}
	time := func(of planning.Timing, crews []planning.Crew) {
		for _, s := range p.Shots {
			of.Shot, of.Frame = s.ID, planning.Millis(heavy[s.ID]*1000*(0.5+1.5*r.Float64()))
			for _, c := range crews {
				of.Crew = c.ID
				p.Timings = append(p.Timings, of)
			}
		}
	}
	for i := range 1 + r.IntN(4) {
		h := planning.Host{ID: fmt.Sprintf("host-%d", i), Windows: [][2]planning.Millis{{0, last}}, Crews: crews(1+r.IntN(3), money(0.05, 0.4))}
		if r.IntN(2) == 0 {
			h.Windows = [][2]planning.Millis{{0, last / 3}, {last / 2, last}}
		}
		p.Hosts = append(p.Hosts, h)
		time(planning.Timing{Host: h.ID}, h.Crews)
	}
	for i := range 1 + r.IntN(3) {
		step := one(1000, minute, 15*minute, hour, hour)
		o := planning.Offer{
			ID: fmt.Sprintf("offer-%d", i), Source: "tern", MaxServers: 1 + r.IntN(4), Lead: minute * planning.Millis(5+r.IntN(20)), Wrap: one(0, minute, 4*minute),
			Price: money(0.6, 9), Fee: money(0, 2), Increment: &step, Minimum: one(0, hour, 3*hour), Crews: crews(1+r.IntN(4), pricing.Money{}),
		}
		p.Offers = append(p.Offers, o)
		time(planning.Timing{Offer: o.ID}, o.Crews)
	}
	if shots == 1 {
		f := planning.Farm{ID: "ebb", Source: "saltmarsh", Nodes: 4 + r.IntN(12), Lead: 20 * minute, NodePrice: money(1, 4), MinimumCharge: money(0, 12)}
		p.Farms = append(p.Farms, f)
		time(planning.Timing{Farm: f.ID}, []planning.Crew{{}})
		for _, source := range []string{"tern", "saltmarsh"} {
			p.Transfers = append(p.Transfers, planning.Transfer{Shot: "shot-0", Source: source, Upload: minute * planning.Millis(r.IntN(15)), Delivery: planning.Millis(r.IntN(60_000))})
		}
	}
	demand(&p, 1.1+r.Float64())
	return p
}

// demand gives shots as many frames as take a part of the time that own hosts have, each an equal share.
func demand(p *planning.Problem, part float64) {
	for i := range p.Shots {
		s, rate := &p.Shots[i], 0.0
		for _, t := range p.Timings {
			for _, h := range p.Hosts {
				if t.Shot != s.ID || t.Host != h.ID {
					continue
				}
				for _, w := range h.Windows {
					rate += float64(max(0, min(w[1], s.Deadline)-w[0])) / float64(t.Frame)
				}
			}
		}
		s.Frames = max(1, int(part*rate/float64(len(p.Shots))))
	}
}
