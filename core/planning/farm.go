package planning

// placeOnFarm puts frames on a farm's nodes, in blocks of nodes that start and
// end together: as many nodes as are free from a moment on, as early as can be.
func (l *layout) placeOnFarm(x *machine, option int32, n int) int {
	o, u := &x.unit.options[option], x.unit
	release := max(l.release(u, o), u.windows[0].start)
	starts := []Millis{release}
	for _, j := range x.jobs {
		if j.end > release {
			starts = append(starts, j.end)
		}
	}
	if l.m.waits(o.shot) {
		return l.placeInStep(x, option, n, starts)
	}
	starts = sortedSet(starts)
	done := 0
	for _, from := range starts {
		for done < n {
			nodes, rounds := l.block(x, from, o, n-done)
			if nodes == 0 {
				break
			}
			k := min(n-done, nodes*rounds)
			rounds = (k + nodes - 1) / nodes
			nodes = (k + rounds - 1) / rounds
			l.put(x, job{span{from, from + Millis(rounds)*o.frame}, option, nodes, k})
			done += k
		}
	}
	return done
}

// block finds, for a start, how many nodes are free for how many rounds of the
// option, such that the most of n frames are done there, in the fewest rounds.
func (l *layout) block(x *machine, from Millis, o *option, n int) (nodes, rounds int) {
	l.work.spend(int64(300 + 20*len(x.jobs)*len(x.jobs)))
	type level struct {
		at   Millis
		free int
	}
	due := l.until(o)
	edges := []Millis{from}
	for _, j := range x.jobs {
		if j.start > from && j.start < due {
			edges = append(edges, j.start)
		}
	}
	edges = sortedSet(edges)
	var steps []level
	for _, at := range edges {
		used := 0
		for _, j := range x.jobs {
			if j.start <= at && at < j.end {
				used += j.nodes
			}
		}
		steps = append(steps, level{at, x.unit.nodes - used})
	}
	best, free := 0, x.unit.nodes
	for i, s := range steps {
		if free = min(free, s.free); free <= 0 {
			break
		}
		until := due
		if i+1 < len(steps) {
			until = steps[i+1].at
		}
		r := int(max(0, until-from) / o.frame)
		if k := min(n, free*r); k > best {
			best, nodes, rounds = k, free, r
		}
	}
	return nodes, rounds
}

// nodeRoom is how many frames of the option still fit on the farm in time: as
// node time, so sometimes one or two too many.
func (l *layout) nodeRoom(x *machine, o *option) int {
	t, y := l.tried(x)
	return t.placeOnFarm(y, int32(x.unit.optionFor(o.shot, o.crew)), l.missing[o.shot])
}
