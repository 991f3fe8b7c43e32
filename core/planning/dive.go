package planning

import (
	"math"
)

// dive goes straight down from a node to a plan: it takes seats from the machines
// that use them least until there are enough, then rounds the numbers of servers
// and increments one after another, and solves the relaxed problem again each time.
func (s *search) dive(n *node, settled solution) {
	l := n.limits.clone()
	until := s.work.left - s.all/4
	for step := 0; step < 60 && s.work.left > until && s.ctx.Err() == nil; step++ {
		if !s.takeSeats(&l, settled) && !s.round(&l, settled.parts) {
			break
		}
		bound, covered := s.master.relax(s.ctx, l, s.cutoff(), 0.003)
		if !covered || bound >= s.cutoff() {
			break
		}
		settled = s.master.taken()
	}
	s.try(settled)
}

// takeSeats forbids a licence to some of the units that hold it least, where more
// machines hold it side by side than there are seats. It reports whether it did.
func (s *search) takeSeats(l *limits, found solution) bool {
	changed := false
	for lic, grid := range s.m.seatGrid {
		if len(grid) == 0 {
			continue
		}
		held, total := make([][]float64, len(s.m.units)), make([]float64, len(s.m.units))
		for _, p := range found.parts {
			for _, x := range p.seats {
				if x.licence == lic {
					if held[p.unit] == nil {
						held[p.unit] = make([]float64, len(grid))
					}
					held[p.unit][x.stretch] += p.amount * x.time
					total[p.unit] += p.amount * x.time
				}
			}
		}
		// A machine holds its seat from its first such job to its last.
		wanted := make([]float64, len(grid))
		for _, times := range held {
			first, last, most := -1, 0, 0.0
			for k, t := range times {
				if part := t / s.m.stretch(lic, k); part > 0.01 {
					if first < 0 {
						first = k
					}
					last, most = k, max(most, math.Ceil(part-0.01))
				}
			}
			for k := max(first, 0); first >= 0 && k <= last; k++ {
				wanted[k] += most
			}
		}
		seats := float64(s.m.Licences[lic].Seats) + math.Ceil(found.extras[lic]-1e-6)
		excess := 0.0
		for _, n := range wanted {
			excess = max(excess, n-seats)
		}
		for range int(math.Ceil(excess / 3)) {
			least := -1
			for u, time := range total {
				if time > 0 && (least < 0 || time < total[least]) && l.seatless[u]&(1<<lic) == 0 {
					least = u
				}
			}
			if least < 0 {
				break
			}
			l.seatless[least] |= 1 << lic
			total[least] = 0
			changed = true
		}
	}
	return changed
}

// round fixes the number that is nearest to a whole one without being one.
func (s *search) round(l *limits, parts []part) bool {
	count, paid := s.counts(parts)
	nearest := 1.0
	var fix *[2]float64
	var to float64
	consider := func(v float64, b *[2]float64) {
		if away := math.Abs(v - math.Round(v)); away > 1e-5 && away < nearest && b[0] < b[1] {
			nearest, fix, to = away, b, math.Round(v)
		}
	}
	for i := range s.m.units {
		if u := &s.m.units[i]; u.kind == rentedOffer || u.kind == farmTier && u.least > 0 {
			consider(count[i], &l.count[i])
		}
	}
	for i := range s.m.units {
		if fix == nil && s.m.units[i].kind == rentedOffer && s.m.units[i].whole() {
			consider(paid[i], &l.paid[i])
		}
	}
	if fix == nil {
		return false
	}
	fix[0], fix[1] = to, to
	return true
}

// counts adds up how many servers and increments a relaxed solution takes of each
// unit.
func (s *search) counts(parts []part) (count, paid []float64) {
	count, paid = make([]float64, len(s.m.units)), make([]float64, len(s.m.units))
	for _, p := range parts {
		count[p.unit] += p.amount
		if s.m.units[p.unit].kind == rentedOffer {
			_, increments := s.m.units[p.unit].charge(p.runs) // 0 where they do not count
			paid[p.unit] += p.amount * increments
		}
	}
	return count, paid
}
