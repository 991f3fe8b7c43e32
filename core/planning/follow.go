package planning

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
)

// quota is how many frames a machine is meant to render of one option.
type quota struct {
	option int32
	frames float64
}

// follow places what a relaxed solution takes of each unit, as near as whole
// frames, one line to each source and real seats permit. What does not fit stays
// missing. The units go in the given order, which matters where seats are short.
func (l *layout) follow(parts []part, order []int) {
	byUnit := make([][]part, len(l.m.units))
	for _, p := range parts {
		byUnit[p.unit] = append(byUnit[p.unit], p)
	}
	l.sendInOrder(byUnit)
	var asked []asking
	for _, unit := range order {
		list := byUnit[unit]
		if len(list) == 0 {
			continue
		}
		if l.m.units[unit].kind == rentedOffer {
			asked = append(asked, l.followServers(unit, list)...)
			continue
		}
		asked = append(asked, asking{l.touch(l.units[unit][0]), gather(&l.m.units[unit], list)})
	}
	for rank := range l.m.last + 1 {
		for _, a := range asked {
			l.meet(a.machine, l.m.ofRank(a.machine.unit, a.quotas, rank))
		}
	}
}

// asking is what is asked of one machine.
type asking struct {
	machine *machine
	quotas  []quota
}

// ofRank keeps the quotas of shots that are as many steps behind one that needs no inputs.
func (m *model) ofRank(u *unit, list []quota, rank int) []quota {
	if m.rank == nil {
		return list
	}
	return slices.DeleteFunc(slices.Clone(list), func(q quota) bool { return m.rank[u.options[q.option].shot] != rank })
}

// sendInOrder places the uploads of all shots that the solution renders at a
// source, those with the earliest due time first.
func (l *layout) sendInOrder(byUnit [][]part) {
	type want struct {
		unit   int
		option *option
	}
	var wants []want
	for unit, list := range byUnit {
		u := &l.m.units[unit]
		seen := map[int]bool{}
		for _, p := range list {
			for _, x := range p.uses {
				if o := &u.options[x.option]; o.upload > 0 && !seen[o.shot] && p.amount*x.time/float64(o.frame) > 0.5 {
					seen[o.shot] = true
					wants = append(wants, want{unit, o})
				}
			}
		}
	}
	slices.SortStableFunc(wants, func(a, b want) int {
		return cmp.Or(cmp.Compare(a.option.due, b.option.due), cmp.Compare(a.option.upload, b.option.upload), cmp.Compare(a.option.shot, b.option.shot))
	})
	for _, w := range wants {
		l.send(l.m.units[w.unit].line, w.option)
	}
}

// gather sums up what the parts ask of one machine.
func gather(u *unit, parts []part) []quota {
	frames := make([]float64, len(u.options))
	for _, p := range parts {
		for _, x := range p.uses {
			frames[x.option] += p.amount * x.time / float64(u.options[x.option].frame)
		}
	}
	var out []quota
	for o, n := range frames {
		if n > 0.01 {
			out = append(out, quota{int32(o), n})
		}
	}
	return out
}

// followServers lets as many servers as the parts come to and lays the parts out
// over them, one after another, the longest first: so that long columns make long
// servers and short ones short. It returns what each is asked.
func (l *layout) followServers(unit int, parts []part) []asking {
	u := &l.m.units[unit]
	slices.SortStableFunc(parts, func(a, b part) int {
		return cmp.Or(cmp.Compare(b.runs, a.runs), cmp.Compare(a.from, b.from))
	})
	total := 0.0
	for _, p := range parts {
		total += p.amount
	}
	at, used := 0, 0.0
	var out []asking
	for range int(math.Ceil(total - 1e-4)) {
		var own []part
		runs, room := 0.0, 1.0
		for at < len(parts) && room > 1e-9 {
			n := min(room, parts[at].amount-used)
			own = append(own, part{parts[at].column, n})
			runs += n * float64(parts[at].runs)
			room -= n
			if used += n; used >= parts[at].amount-1e-9 {
				at, used = at+1, 0
			}
		}
		if room < 1 {
			runs /= 1 - room
		}
		out = append(out, asking{l.open(unit, u.rent.paid(Millis(math.Ceil(runs-0.5)))), gather(u, own)})
	}
	return out
}

// meet places quotas on a machine: what is due first goes first, of that what
// takes more devices. Whole frames first; then as many more as what is left over
// of the quotas comes to.
func (l *layout) meet(x *machine, quotas []quota) {
	u := x.unit
	slices.SortStableFunc(quotas, func(a, b quota) int {
		p, q := &u.options[a.option], &u.options[b.option]
		return cmp.Or(cmp.Compare(p.due, q.due),
			cmp.Compare(bits.OnesCount64(u.crews[q.crew].mask), bits.OnesCount64(u.crews[p.crew].mask)),
			cmp.Compare(p.release, q.release), cmp.Compare(a.option, b.option))
	})
	for _, q := range quotas {
		l.place(x, q.option, int(q.frames+1e-4))
	}
}
