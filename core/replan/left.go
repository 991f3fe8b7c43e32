package replan

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/timing"
)

// InHand is a frame that is being rendered, with those that the renderer was started for beside it.
type InHand struct {
	Shot, Host, Crew string

	Began   time.Time     // the frame
	Takes   time.Duration // all of them, as expected
	Devices int           // that it takes
	Nodes   int           // of a farm's job that it is in, side by side; 0: it is not at a farm
}

// BusyUntil says until when hosts are busy with frames in hand: in the mean of the
// devices that render one. Some are free before and some after that: what is planned from
// then on is as much as can be done, and each crew begins with it as soon as it is free. A
// frame that takes longer than was expected is taken to need another quarter of that.
func BusyUntil(all []InHand, now time.Time) map[string]time.Time {
	seconds, devices := map[string]float64{}, map[string]int{}
	for _, f := range all {
		left := f.Began.Add(f.Takes).Sub(now)
		if left < 0 {
			left = f.Takes / 4
		}
		seconds[f.Host] += left.Seconds() * float64(f.Devices)
		devices[f.Host] += f.Devices
	}
	out := map[string]time.Time{}
	for host, n := range devices {
		out[host] = now.Add(time.Duration(seconds[host] / float64(max(1, n)) * float64(time.Second)))
	}
	return out
}

// HeldByFarms says when farms are expected to be through with what they have in hand of each
// shot, counted from now; due is when each shot is to be.
func HeldByFarms(all []InHand, due func(shot string) planning.Millis) (out []forecast.Held) {
	type job struct{ shot, farm string }
	frames, takes, nodes := map[job]int{}, map[job]time.Duration{}, map[job]int{}
	for _, f := range all {
		if f.Nodes > 0 {
			j := job{f.Shot, f.Host}
			frames[j]++
			takes[j], nodes[j] = max(takes[j], f.Takes), max(nodes[j], f.Nodes)
		}
	}
	for j, n := range frames {
		rounds := (n + nodes[j] - 1) / nodes[j]
		out = append(out, forecast.Held{Shot: j.shot, Ends: planning.MillisOf(time.Duration(rounds) * takes[j]), Deadline: due(j.shot)})
	}
	slices.SortFunc(out, func(a, b forecast.Held) int { return cmp.Or(cmp.Compare(a.Shot, b.Shot), cmp.Compare(a.Ends, b.Ends)) })
	return out
}

// Paid is a server of a run that is paid for beyond now.
type Paid struct {
	Host, Offer string
	From        time.Time // it was asked for, or starts
	Until       time.Time // it is paid for
}

// AddPaid adds the run's servers that are paid for to the problem of its rest, as hosts that
// cost nothing more until that time ends, and returns those that were added. Busy is until
// when hosts are.
func AddPaid(p *planning.Problem, paid []Paid, busy map[string]time.Time) (added []Paid) {
	at := func(t time.Time) planning.Millis { return planning.Millis(t.Sub(p.Start) / time.Millisecond) }
	for _, v := range paid {
		var offer *planning.Offer
		for i := range p.Offers {
			if p.Offers[i].ID == v.Offer {
				offer = &p.Offers[i]
			}
		}
		if offer == nil {
			continue // it can render none of what is left
		}
		from := max(0, at(v.From)+offer.Lead)
		if until, ok := busy[v.Host]; ok {
			from = max(from, at(until))
		}
		host := planning.Host{ID: v.Host, RAM: offer.RAM, Windows: [][2]planning.Millis{{from, at(v.Until) - offer.Wrap}}}
		if host.Windows[0][1] <= host.Windows[0][0] {
			continue
		}
		for _, c := range offer.Crews {
			c.BusyPrice = pricing.Money{}
			host.Crews = append(host.Crews, c)
		}
		p.Hosts = append(p.Hosts, host)
		for _, t := range p.Timings {
			if t.Offer == v.Offer {
				p.Timings = append(p.Timings, planning.Timing{Shot: t.Shot, Host: v.Host, Crew: t.Crew, Frame: t.Frame})
			}
		}
		// Its place among the offer's servers is taken.
		offer.MaxServers = max(0, offer.MaxServers-1)
		added = append(added, v)
	}
	return added
}

// Lately is how far back the frames lie at most by which a crew is taken to be slower or faster than
// expected of it, in the plan of a run's rest: what of them counts, and for how much, timing.Lately says.
const Lately = 8 * time.Hour

// Finished is a frame that was done of late, and for how long it took its crew up.
type Finished struct {
	Shot, Host, Crew string
	Seconds          float64
	Ended            time.Time
}

// overdue is how many times what was expected a frame in hand has taken that says that its
// crew is slow, though it is not done.
const overdue = 1.5

// AsOfLate takes shots, hosts and crews as heavy, or as slow, as they were with the run's last
// frames, those that are long overdue among them, and returns by what factors those are off
// that are: by shot, by host, and by crew as dispatch.Place names it. See timing.Lately. A heavy shot stays so; what
// slows a host is expected to go on for as long as it does in the mean, so that of a shot that is due in a day little
// takes longer, and of one that is due in an hour most. Off is by how much each timing may be off itself.
func AsOfLate(p *planning.Problem, recent []Finished, hand []InHand, rates disruptions.Rates, off func(planning.Timing) float64) map[string]float64 {
	expected, wrong := map[[3]string]float64{}, map[[3]string]float64{}
	for _, t := range p.Timings {
		key := [3]string{t.Shot, t.Host, t.Crew}
		expected[key], wrong[key] = t.Frame.Duration().Seconds(), off(t)
	}
	var seen []timing.Seen
	see := func(shot, host, crew string, took, ago time.Duration, least float64) {
		key := [3]string{shot, host, crew}
		if e := expected[key]; host != "" && e > 0 && took.Seconds() >= least*e {
			seen = append(seen, timing.Seen{Shot: shot, Host: host, Crew: crew, Ratio: took.Seconds() / e, Off: wrong[key], Took: took, Ago: ago})
		}
	}
	for _, f := range recent {
		see(f.Shot, f.Host, f.Crew, time.Duration(f.Seconds*float64(time.Second)), p.Start.Sub(f.Ended), 0)
	}
	for _, f := range hand {
		see(f.Shot, f.Host, f.Crew, p.Start.Sub(f.Began), 0, overdue)
	}
	of := timing.Lately(seen, rates.Slowed())
	left := map[string]time.Duration{}
	for _, s := range p.Shots {
		left[s.ID] = s.Deadline.Duration()
	}
	for i, t := range p.Timings {
		heavy := of.Factor(t.Shot, "", "")
		slow := rates.Over(of.Factor(t.Shot, t.Host, t.Crew)/heavy, left[t.Shot])
		p.Timings[i].Frame = max(1, planning.Millis(float64(t.Frame)*heavy*slow+0.5))
	}
	out := maps.Clone(of.Shot)
	maps.Copy(out, of.Host)
	for crew, factor := range of.Crew {
		out[dispatch.Place(crew[0], crew[1])] = factor
	}
	return out
}

// Leaving is the rest of a run that leaves hosts to others until a time: its bookings there
// begin then, or when the host opens after it. Those for which a host does not open again are
// dropped: others have to take them.
func (r Rest) Leaving(until map[string]time.Time) Rest {
	p := &r.Problem
	p.Hosts = slices.Clone(p.Hosts)
	for i, h := range p.Hosts {
		from := planning.Millis(until[h.ID].Sub(p.Start) / time.Millisecond)
		if until[h.ID].IsZero() || from <= 0 {
			continue
		}
		p.Hosts[i].Windows = after(h.Windows, from)
		if h.Open != nil {
			p.Hosts[i].Open = after(h.Open, from)
		}
	}
	var left []planning.Booking
	r.Plan.Finish = 0
	for _, b := range r.Plan.Bookings {
		length := b.End - b.Start
		if b.Host != "" && !within(*p, &b) {
			continue
		}
		b.End = b.Start + length
		left = append(left, b)
		r.Plan.Finish = max(r.Plan.Finish, b.End)
	}
	r.Plan.Bookings = left
	return r
}

// after is what of windows lies after a time.
func after(windows [][2]planning.Millis, from planning.Millis) (out [][2]planning.Millis) {
	for _, w := range windows {
		if w[1] > from {
			out = append(out, [2]planning.Millis{max(w[0], from), w[1]})
		}
	}
	return out
}
