package rehearsal

import (
	"context"
	"slices"
	"time"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
)

// Knowing is the plan of one who knew everything beforehand.
type Knowing struct {
	Cost float64
	Met  map[string]bool // by shot: it is in time
}

// Knowing solves the weekend as it turned out: with the true times in the mean, the true
// leads, hosts closed for as much of a time as somebody's work takes of it, and the urgent
// shot known from the first.
func (w Weekend) Knowing(ctx context.Context) (Knowing, error) {
	p := w.Problem
	p.Shots, p.Timings, p.Hosts, p.Offers, p.Farms = slices.Clone(p.Shots), slices.Clone(p.Timings), slices.Clone(p.Hosts), slices.Clone(p.Offers), slices.Clone(p.Farms)
	if x := w.urgent; x != nil {
		shot := x.shot
		shot.Ready = planning.MillisOf(x.comes)
		shot.Deadline += shot.Ready
		p.Shots, p.Timings = append(p.Shots, shot), append(p.Timings, x.timings...)
	}
	for i, t := range p.Timings {
		p.Timings[i].Frame = max(1, planning.Millis(w.mean(t)))
	}
	for i, h := range p.Hosts {
		p.Hosts[i].Windows = w.open(h)
	}
	for i, o := range p.Offers {
		p.Offers[i].Lead = planning.Millis(float64(o.Lead) * w.truth.boot[o.ID])
	}
	for i, f := range p.Farms {
		p.Farms[i].Lead = planning.Millis(float64(f.Lead) * w.truth.queue[f.ID])
	}
	plan, err := planning.Solve(ctx, p, planning.Options{})
	out := Knowing{Cost: plan.Cost.Float(), Met: map[string]bool{}}
	ends := map[string]planning.Millis{}
	for _, b := range plan.Bookings {
		ends[b.Shot] = max(ends[b.Shot], b.End)
	}
	for _, s := range p.Shots {
		out.Met[s.ID] = plan.Status != planning.Impossible && ends[s.ID] <= s.Deadline
	}
	return out, err
}

// mean is what a frame truly takes in the mean, tries that fail included: ms.
func (w Weekend) mean(t planning.Timing) float64 {
	sum := 0.0
	for _, r := range forecast.DefaultRatios {
		sum += r
	}
	fails := w.truth.fails[t.Host+t.Offer+t.Farm]
	heavy := 1.0
	if times, is := w.truth.heavy[t.Shot]; is {
		heavy = (1 + times) / 2
	}
	return float64(t.Frame) * w.truth.frame[unframed(t)] * sum / float64(len(forecast.DefaultRatios)) * heavy * (1 + fails/2/(1-fails))
}

func unframed(t planning.Timing) planning.Timing {
	t.Frame = 0
	return t
}

// open is when a host truly renders.
func (w Weekend) open(h planning.Host) [][2]planning.Millis {
	out := slices.Clone(h.Windows)
	shut := func(from, to time.Duration) {
		var left [][2]planning.Millis
		for _, x := range out {
			for _, part := range [][2]planning.Millis{{x[0], min(x[1], planning.MillisOf(from))}, {max(x[0], planning.MillisOf(to)), x[1]}} {
				if part[0] < part[1] {
					left = append(left, part)
				}
			}
		}
		out = left
	}
	for _, u := range w.truth.used {
		if u.host == h.ID {
			shut(u.from, u.from+time.Duration(float64(u.to-u.from)*(1-1/u.times)))
		}
	}
	for _, a := range w.desks[h.ID].away {
		shut(a.From.Sub(w.Problem.Start), a.To.Sub(w.Problem.Start))
	}
	if at, dies := w.truth.lost[h.ID]; dies {
		shut(at, 1000*time.Hour)
	}
	return out
}
