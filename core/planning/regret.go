package planning

import "math/bits"

// weighRegret sets, for each option of hosts and farms, what the time that a frame
// takes there is worth to other shots at the given prices. Filling a layout by cost
// alone gives the best machines to whoever comes first; with the regret added they
// go to whom they help most, as in the relaxed problem.
func (m *model) weighRegret(w *duals) {
	p := packer{m: m}
	m.regret = make([][]float64, len(m.units))
	for i := range m.units {
		u := &m.units[i]
		m.regret[i] = make([]float64, len(u.options))
		if u.kind == rentedOffer {
			continue
		}
		p.weigh(i, w)
		sum, length := make([]float64, len(u.options)), make([]float64, len(u.options))
		for k := range u.segments {
			x := &u.segments[k]
			device := p.deviceWorth(x)
			time := float64(x.end - x.start)
			for c, list := range x.crews {
				worth := 0.0
				for mask := u.crews[c].mask; mask != 0; mask &= mask - 1 {
					worth += device[bits.TrailingZeros64(mask)]
				}
				for _, o := range list {
					sum[o] += worth * time
					length[o] += time
				}
			}
		}
		for o := range u.options {
			if length[o] > 0 {
				m.regret[i][o] = sum[o] / length[o] * float64(u.options[o].frame)
			}
		}
	}
}

// deviceWorth returns what a millisecond of each device is worth in a segment: its
// part of the best crew that it belongs to.
func (p *packer) deviceWorth(x *segment) [64]float64 {
	var out [64]float64
	for c, list := range x.crews {
		o := p.top(list, 0)
		if o < 0 {
			continue
		}
		mask := p.u.crews[c].mask
		each := p.rate[o] / float64(bits.OnesCount64(mask))
		for ; mask != 0; mask &= mask - 1 {
			d := bits.TrailingZeros64(mask)
			out[d] = max(out[d], each)
		}
	}
	return out
}
