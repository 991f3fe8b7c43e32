package planning

import (
	"context"
	"math"
)

// ascent finds good prices for a problem with so many shots that the master problem
// takes too long: it moves the prices of frames and seats in the direction in which
// too little is rendered or too many seats are held, on the average of the last
// answers, by the volume algorithm (Barahona and Anbil, "The volume algorithm:
// producing primal solutions with a subgradient method", Mathematical Programming
// 87, 2000). The bound is proven at every step, as in master.price.
//
// Prices are counted by whole shots and whole seats, so that all rows are alike.
type ascent struct {
	r      *master
	prices []float64 // of each shot, then of each stretch of each licence
	bound  float64
	use    []float64 // of each row, what the answers render or hold on average, as a part of what is there
}

// rows counts them: a row is a shot, or a stretch of a licence's seats.
func (a *ascent) rows() int {
	n := len(a.r.m.Shots)
	for _, list := range a.r.seats {
		n += len(list)
	}
	return n
}

// duals turns prices of rows into what frames and seats are worth.
func (a *ascent) duals(prices []float64) duals {
	m := a.r.m
	w := duals{frame: make([]float64, len(m.Shots)), seat: make([][]float64, len(a.r.seats))}
	for s := range w.frame {
		w.frame[s] = prices[s] / float64(m.Shots[s].Frames)
	}
	at := len(m.Shots)
	for l, list := range a.r.seats {
		w.seat[l] = make([]float64, len(list))
		for k := range list {
			w.seat[l][k] = prices[at] / m.stretch(l, k) / a.seats(l)
			at++
		}
	}
	zero := make([]float64, len(m.units))
	w.atMin, w.paidLo, w.paidHi = zero, zero, zero
	return w
}

func (a *ascent) seats(l int) float64 { return float64(max(1, a.r.m.Licences[l].Seats)) }

// respond finds what the units would do at the prices: what of each row their best
// columns use, and the bound.
func (a *ascent) respond(prices []float64, l limits) (use []float64, bound float64) {
	m := a.r.m
	w := a.duals(prices)
	use = make([]float64, len(prices))
	for s := range m.Shots {
		bound += prices[s]
	}
	for i := range m.units {
		x, reduced := a.r.pack.bestColumn(i, &w, l.seatless[i])
		a.r.work.priced(&m.units[i])
		if x == nil || l.count[i][1] == 0 {
			continue
		}
		bound += l.count[i][1] * reduced
		x = a.r.pack.trimmed(x)
		copies := l.count[i][1]
		for _, f := range x.frames {
			copies = min(copies, float64(m.Shots[f.shot].Frames)/f.frames)
		}
		for _, f := range x.frames {
			use[f.shot] += copies * f.frames / float64(m.Shots[f.shot].Frames)
		}
		for _, s := range x.seats {
			use[a.seatRow(s.licence, s.stretch)] += copies * s.time / m.stretch(s.licence, s.stretch) / a.seats(s.licence)
		}
	}
	at := len(m.Shots)
	for lic, list := range a.r.seats {
		extra := m.Licences[lic].ExtraSeatPrice.Float()
		for range list {
			bound -= prices[at] * float64(m.Licences[lic].Seats) / a.seats(lic)
			extra -= prices[at] / a.seats(lic)
			at++
		}
		if len(list) > 0 {
			bound += min(0, extra) * l.extra[lic][1]
		}
	}
	return use, bound
}

func (a *ascent) seatRow(licence, stretch int) int {
	at := len(a.r.m.Shots) + stretch
	for l := range licence {
		at += len(a.r.seats[l])
	}
	return at
}

// climb takes up to the given number of steps towards the target, a cost that some
// plan has.
func (a *ascent) climb(ctx context.Context, l limits, target float64, steps int) {
	a.use, a.bound = a.respond(a.prices, l)
	f, worse := 0.1, 0
	shots := len(a.r.m.Shots)
	for step := range steps {
		if a.r.work.spent() || ctx.Err() != nil {
			break
		}
		slope, length := make([]float64, len(a.prices)), 0.0
		for i, u := range a.use {
			slope[i] = 1 - u
			if i >= shots {
				slope[i] = u - 1
			}
			if a.prices[i] > 0 || slope[i] > 0 {
				length += slope[i] * slope[i]
			}
		}
		if length < 1e-8 {
			break
		}
		size := f * max(target-a.bound, 0.002*target) / length
		next := make([]float64, len(a.prices))
		for i := range next {
			next[i] = max(0, a.prices[i]+size*slope[i])
		}
		use, bound := a.respond(next, l)
		share := 0.1
		if step > steps/2 {
			share = 0.05
		}
		if step > steps*4/5 {
			share = 0.02
		}
		for i := range a.use {
			a.use[i] = (1-share)*a.use[i] + share*use[i]
		}
		if bound > a.bound {
			// Right direction: go on as far, or further if it is still upwards from here.
			agree := 0.0
			for i := range slope {
				g := 1 - use[i]
				if i >= shots {
					g = use[i] - 1
				}
				agree += g * slope[i]
			}
			if agree > 0 {
				f = math.Min(2, f*1.1)
			}
			a.prices, a.bound, worse = next, bound, 0
		} else if worse++; worse >= 10 {
			f, worse = math.Max(0.001, f*0.66), 0
		}
	}
}

// start takes those multiples of a plan's prices of frames that prove most.
func (a *ascent) start(prices []float64, l limits) {
	a.bound = math.Inf(-1)
	for _, part := range []float64{1, 0.7, 0.5, 0.35, 0.25, 0.15, 0.1, 0.05} {
		next := make([]float64, a.rows())
		for s, v := range prices {
			next[s] = part * v * float64(a.r.m.Shots[s].Frames)
		}
		if _, bound := a.respond(next, l); bound > a.bound {
			a.prices, a.bound = next, bound
		}
	}
}
