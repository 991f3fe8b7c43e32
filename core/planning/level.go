package planning

import "math"

// level makes a layout finish sooner at the same cost to the cent: frames of the job
// that ends last go to other crews, as long as that helps.
func (l *layout) level() *layout {
	most := cents(l.cost())
	for range 40 * (1 + len(l.machines)) {
		next := l.levelOnce(most)
		if next == nil || l.work.spent() {
			break
		}
		l = next
	}
	return l
}

// cents rounds a cost as a plan's is rounded.
func cents(cost float64) float64 { return math.Floor(cost*100 + 0.5 - margin) }

// finish is when the last frame is home, and where it is rendered.
func (l *layout) finish() (at Millis, machine, job int) {
	machine = -1
	for k, x := range l.machines {
		for j := range x.jobs {
			if end := x.jobs[j].end + x.unit.options[x.jobs[j].option].home; end > at {
				at, machine, job = end, k, j
			}
		}
	}
	return at, machine, job
}

func (l *layout) levelOnce(most float64) *layout {
	last, from, j := l.finish()
	if from < 0 || l.machines[from].unit.kind != ownedHost {
		return nil
	}
	late := l.machines[from].jobs[j]
	o := &l.machines[from].unit.options[late.option]
	for _, unit := range l.m.places[o.shot] {
		if l.m.units[unit].kind != ownedHost {
			continue
		}
		for _, to := range l.m.units[unit].of(o.shot) {
			if unit == l.machines[from].at && to.crew == o.crew {
				continue
			}
			option := int32(l.m.units[unit].optionFor(o.shot, to.crew))
			for n := (late.frames + 1) / 2; n > 0; n /= 2 {
				x := l.clone()
				source := x.touch(from)
				x.take(source, j)
				if rest := late.frames - n; rest > 0 {
					x.put(source, job{span{late.start, late.start + Millis(rest)*o.frame}, late.option, 0, rest})
				}
				x.place(x.touch(x.units[unit][0]), option, n)
				if at, _, _ := x.finish(); x.complete() && at < last && cents(x.cost()+margin) <= most {
					return x
				}
			}
		}
	}
	return nil
}
