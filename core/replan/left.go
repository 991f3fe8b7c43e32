package replan

import (
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/timing"
)

// InHand is a frame that is being rendered.
type InHand struct {
	Host    string
	Began   time.Time
	Takes   time.Duration // as expected
	Devices int           // that it takes
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

// Lately is how far back the frames lie by which a crew is taken to be slower or faster than
// expected of it, in the plan of a run's rest.
const Lately = time.Hour

// Finished is a frame that was done of late, and for how long it took its crew up.
type Finished struct {
	Shot, Host, Crew string
	Seconds          float64
}

// AsOfLate takes crews as slow, or as fast, as they were with the run's last frames, and
// returns by what factors, by place. Crews of one host differ: its CPU may be slowed by what
// feeds its devices, and they not by it.
func AsOfLate(p *planning.Problem, recent []Finished) map[string]float64 {
	type row struct{ shot, host, crew string }
	expected, ratios, factors := map[row]float64{}, map[string][]float64{}, map[string]float64{}
	for _, t := range p.Timings {
		expected[row{t.Shot, t.Host, t.Crew}] = t.Frame.Duration().Seconds()
	}
	for _, f := range recent {
		if e := expected[row{f.Shot, f.Host, f.Crew}]; e > 0 {
			place := dispatch.Place(f.Host, f.Crew)
			ratios[place] = append(ratios[place], f.Seconds/e)
		}
	}
	for place, seen := range ratios {
		if factor := timing.Lately(seen); factor != 1 {
			factors[place] = factor
		}
	}
	for i, t := range p.Timings {
		if factor, off := factors[dispatch.Place(t.Host, t.Crew)]; off {
			p.Timings[i].Frame = max(1, planning.Millis(float64(t.Frame)*factor+0.5))
		}
	}
	return factors
}
