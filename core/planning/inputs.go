package planning

import "slices"

// Shots with `after` need frame k of others for their own frame k (a composite, of its passes).
// Frames are alike here, so what counts is how many inputs are home by when, and how many frames
// that wait for them have started by then: at no moment may more have started than have arrived.

// flow is, of each shot, when its frames come home and when they start, sorted: arrivals where
// others need them, starts where it needs others. The lists are replaced, never changed.
type flow struct {
	arrivals, starts [][]Millis
	by               []Millis // of each shot, by when the layout wants it home: at most its due time
}

func newFlow(m *model) flow {
	if m.rank == nil {
		return flow{}
	}
	n := len(m.Shots)
	return flow{make([][]Millis, n), make([][]Millis, n), slices.Clone(m.due)}
}

// over copies a flow in the place of another that is not needed any more.
func (f flow) over(old flow) flow {
	if f.by == nil {
		return flow{}
	}
	return flow{over(old.arrivals, f.arrivals), over(old.starts, f.starts), over(old.by, f.by)}
}

// count adds a job to the flow, or takes it out of it.
func (l *layout) count(o *option, j job, add bool) {
	if l.flow.by == nil || !l.m.feeds[o.shot] && l.m.inputs[o.shot] == nil {
		return
	}
	l.work.spend(int64(200 + 4*l.m.Shots[o.shot].Frames))
	at := make([]Millis, j.frames)
	each := max(1, j.nodes)
	if l.m.feeds[o.shot] {
		for i := range at {
			at[i] = j.start + Millis(i/each+1)*o.frame + o.home
		}
		l.flow.arrivals[o.shot] = merged(l.flow.arrivals[o.shot], at, add)
	}
	if l.m.inputs[o.shot] != nil {
		// A round that is not full is the first: so each starts as late as it may.
		for i := range at {
			at[j.frames-1-i] = j.end - Millis(i/each+1)*o.frame
		}
		l.flow.starts[o.shot] = merged(l.flow.starts[o.shot], at, add)
	}
}

// merged is a sorted list with the items of another put in or, each once, taken out.
func merged(list, items []Millis, in bool) []Millis {
	out := make([]Millis, 0, len(list)+len(items))
	k := 0
	for _, x := range list {
		for in && k < len(items) && items[k] <= x {
			out = append(out, items[k])
			k++
		}
		if !in && k < len(items) && items[k] == x {
			k++
			continue
		}
		out = append(out, x)
	}
	if in {
		out = append(out, items[k:]...)
	}
	return out
}

// fed lists from when on one more frame of a shot may start, and another, and so on: for each
// number of frames, the time from which on as many inputs lie unused for good.
func (l *layout) fed(shot int) []Millis {
	var out []Millis
	for i, in := range l.m.inputs[shot] {
		arrivals, starts := l.flow.arrivals[in.shot], l.flow.starts[shot]
		free := in.home + len(arrivals) - len(starts)
		if free <= 0 {
			return nil
		}
		if i == 0 {
			out = make([]Millis, free)
		}
		out = out[:min(len(out), free)]
		// From the end: how many lie unused before each arrival, as long as it is the least so far.
		a, s, least := len(arrivals)-1, len(starts)-1, free
		for left := free; least > 0 && a >= 0; {
			if s >= 0 && starts[s] >= arrivals[a] {
				s, left = s-1, left+1
				continue
			}
			if left--; left < least {
				if least <= len(out) {
					out[least-1] = max(out[least-1], arrivals[a])
				}
				least--
			}
			a--
		}
	}
	l.work.spend(int64(200 + 4*l.m.Shots[shot].Frames))
	return out
}

// fit returns where in a free span up to n frames of an option go, as early as can be: with no
// inputs at its start; else as many in a row as are done by its end, the first not so soon that
// a later one would be before its input. No frames: none fits.
func (l *layout) fit(o *option, free span, n int) job {
	if !l.m.waits(o.shot) {
		n = min(n, int((free.end-free.start)/o.frame))
		return job{span: span{free.start, free.start + Millis(n)*o.frame}, frames: n}
	}
	return inStep(l.fed(o.shot), o.frame, free, n)
}

func inStep(fed []Millis, frame Millis, free span, n int) job {
	out := job{}
	start := free.start
	for i := range min(n, len(fed)) {
		start = max(start, fed[i]-Millis(i)*frame)
		end := start + Millis(i+1)*frame
		if end > free.end {
			break
		}
		out.span, out.frames = span{start, end}, i+1
	}
	return out
}

// until is when an option's frames have to be rendered.
func (l *layout) until(o *option) Millis {
	if l.flow.by == nil {
		return o.due
	}
	return min(o.due, l.flow.by[o.shot]-o.home)
}

// torn reports whether a shot's frames start before their inputs are home.
func (l *layout) torn(shot int) bool {
	for _, in := range l.m.inputs[shot] {
		arrivals, starts := l.flow.arrivals[in.shot], l.flow.starts[shot]
		if len(starts) > in.home+len(arrivals) {
			return true
		}
		for i, at := range starts[min(in.home, len(starts)):] {
			if at < arrivals[i] {
				return true
			}
		}
	}
	return false
}

// untangle takes off what starts before its inputs are home, now that those were moved.
func (l *layout) untangle() {
	for rank := 1; rank <= l.m.last; rank++ {
		for shot, r := range l.m.rank {
			if r == rank && l.torn(shot) {
				l.takeShot(shot)
			}
		}
	}
}

// takeShot takes all jobs of a shot off, wherever they are.
func (l *layout) takeShot(shot int) {
	for k, x := range l.machines {
		if !slices.ContainsFunc(x.jobs, func(j job) bool { return x.unit.options[j.option].shot == shot }) {
			continue
		}
		x = l.touch(k)
		for j := len(x.jobs) - 1; j >= 0; j-- {
			if x.unit.options[x.jobs[j].option].shot == shot {
				l.take(x, j)
			}
		}
	}
}

// hurry lets the inputs of a shot, and theirs, be home within a part of the time that there is,
// and takes off what is not.
func (l *layout) hurry(shot int, part float64) {
	for _, in := range l.m.inputs[shot] {
		k := in.shot
		from := max(l.m.first[k], l.m.Shots[k].Ready)
		l.flow.by[k] = from + Millis(part*float64(max(0, l.m.due[k]-from)))
		if arrivals := l.flow.arrivals[k]; len(arrivals) > 0 && arrivals[len(arrivals)-1] > l.flow.by[k] {
			l.takeShot(k)
		}
		l.hurry(k, part)
	}
}

// ripe is when an empty server may start with an option, so that once started it does not wait
// for inputs: as many of its crews at work as there are, for as long as it may run.
func (l *layout) ripe(x *machine, o *option) Millis {
	if !l.m.waits(o.shot) {
		return 0
	}
	crews := Millis(len(x.unit.of(o.shot)))
	work := x.runs - x.unit.rent.lead - x.unit.rent.wrap
	out := Millis(0)
	for i, at := range l.fed(o.shot) {
		before := Millis(i) * o.frame / crews
		if before+o.frame > work {
			break
		}
		out = max(out, at-before)
	}
	return out
}

// roomFor is how many frames of an option a machine has room for: of one with inputs, in the
// first stretch that takes any.
func (l *layout) roomFor(x *machine, o *option) int {
	if !l.m.waits(o.shot) {
		return min(l.missing[o.shot], room(l.free(x, o), o.frame))
	}
	return l.next(x, o, l.missing[o.shot]).frames
}

// spreadInStep puts up to n frames of a shot with inputs on a server's crews, each time where an
// even part of them is done first.
func (l *layout) spreadInStep(x *machine, list []option, n int) int {
	first := x.unit.optionFor(list[0].shot, list[0].crew)
	done := 0
	for done < n {
		best := job{span: span{end: never}}
		for i := range list {
			j := l.next(x, &list[i], (n-done+len(list)-1)/len(list))
			if j.option = int32(first + i); j.frames > 0 && j.end < best.end {
				best = j
			}
		}
		if best.frames == 0 {
			break
		}
		l.put(x, best)
		done += best.frames
	}
	return done
}

// placeInStep puts up to n frames of an option with inputs on a farm's nodes: each time the block
// of most frames, of those the one that ends first, that starts when inputs or nodes are there.
func (l *layout) placeInStep(x *machine, option int32, n int, starts []Millis) int {
	o := &x.unit.options[option]
	done := 0
	for done < n {
		fed := l.fed(o.shot)
		const most = 8
		at := slices.Clone(starts)
		for i := range most {
			if k := (i + 1) * len(fed) / most; k > 0 {
				at = append(at, max(starts[0], fed[k-1]))
			}
		}
		var best job
		for _, from := range sortedSet(at) {
			nodes, rounds := l.block(x, from, o, n-done)
			if j := fedBlock(fed, o.frame, from, nodes, min(n-done, nodes*rounds)); j.frames > best.frames || j.frames == best.frames && j.end < best.end {
				best = j
			}
		}
		if best.frames == 0 {
			break
		}
		best.option = option
		l.put(x, best)
		done += best.frames
	}
	return done
}

// fedBlock is a farm's block of up to n frames, of which each has its input when it starts.
func fedBlock(fed []Millis, frame, from Millis, nodes, n int) job {
	n = min(n, len(fed))
	// At worst all of a round start before those of the next.
	for i := range n {
		if from+Millis(i/nodes)*frame < fed[i] {
			n = i
			break
		}
	}
	if n == 0 {
		return job{}
	}
	rounds := (n + nodes - 1) / nodes
	// Fewer nodes in as many rounds start no frame sooner.
	nodes = (n + rounds - 1) / rounds
	return job{span: span{from, from + Millis(rounds)*frame}, nodes: nodes, frames: n}
}
