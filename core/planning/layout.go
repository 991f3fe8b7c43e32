package planning

import (
	"cmp"
	"slices"
)

// layout is a schedule in the making, in whole milliseconds and whole frames. It
// keeps every rule at every step, except that frames may still be missing.
type layout struct {
	m        *model
	machines []*machine  // hosts and farms first, one each; then servers as they are let
	units    [][]int     // of each unit, its machines
	missing  []int       // of each shot
	seats    []int       // of each licence, how many may be held
	uploads  [][]sending // of each source
	own      []bool      // of each machine, whether it is this layout's own, not shared with the one it was cloned from
	opened   int         // machines ever opened
	excluded int         // the name of a machine that gets nothing now; 0 for none
	full     [][]span    // of each licence, when all its seats are held; nil: to be found out
	trying   bool        // works on a copy of a machine that is not one of the layout's
	settled  bool        // no more servers are let, and those there are grow a step at a time
	noise    func() float64
	flow     flow
	spare    *spare
	work     *effort
}

// machine is a host, a farm, or one server.
type machine struct {
	unit *unit
	at   int // index of the unit
	name int // tells machines apart, copies of one for a trial included; 0 for one yet to be let
	jobs []job
	runs Millis // of a server: how long it may run, lead and wrap included
	open span   // when it may be used: less than its unit's windows where it hands a seat on
	held []span // of each licence, from the first to the last of its jobs; end 0 for none
}

// job is frames of one option on a machine.
type job struct {
	span
	option int32
	nodes  int // of a farm
	frames int
}

type sending struct {
	span
	shot int
}

func newLayout(m *model, work *effort) *layout {
	l := &layout{m: m, units: make([][]int, len(m.units)), uploads: make([][]sending, len(m.sources)), work: work, spare: &spare{}, full: make([][]span, len(m.Licences)), flow: newFlow(m)}
	for _, s := range m.Shots {
		l.missing = append(l.missing, s.Frames)
	}
	for _, x := range m.Licences {
		l.seats = append(l.seats, x.Seats)
	}
	for i := range m.units {
		if m.units[i].kind != rentedOffer {
			l.open(i, 0)
		}
	}
	return l
}

// open adds a machine of the unit.
func (l *layout) open(unit int, runs Millis) *machine {
	l.opened++
	x := &machine{unit: &l.m.units[unit], at: unit, name: l.opened, runs: runs, open: span{0, never}, held: make([]span, len(l.seats))}
	l.units[unit] = append(slices.Clone(l.units[unit]), len(l.machines))
	l.machines = append(l.machines, x)
	l.own = append(l.own, true)
	return x
}

// touch returns machine k to be changed: a copy of its own, if it was shared.
func (l *layout) touch(k int) *machine {
	if !l.own[k] {
		x := last(&l.spare.machines)
		x.copy(l.machines[k])
		l.machines[k], l.own[k] = x, true
	}
	return l.machines[k]
}

// clone copies the layout. Machines are shared until one of the two changes them.
func (l *layout) clone() *layout {
	out := last(&l.spare.layouts)
	old := *out
	*out = *l
	clear(l.own)
	out.own = over(old.own, l.own)
	out.machines, out.units, out.uploads = over(old.machines, l.machines), over(old.units, l.units), over(old.uploads, l.uploads)
	out.missing, out.seats, out.full = over(old.missing, l.missing), over(old.seats, l.seats), over(old.full, l.full)
	out.flow = l.flow.over(old.flow)
	l.work.spend(int64(800 + 10*len(l.machines)))
	return out
}

// busy is from the start of the machine's first job to the end of its last.
func (x *machine) busy() span {
	out := span{never, 0}
	for _, j := range x.jobs {
		out.start, out.end = min(out.start, j.start), max(out.end, j.end)
	}
	return out
}

// running is how long a server runs for the jobs it has.
func (x *machine) running() Millis {
	if len(x.jobs) == 0 {
		return 0
	}
	b := x.busy()
	return x.unit.rent.lead + b.end - b.start + x.unit.rent.wrap
}

// release is when the shot's package can be at the unit's source and the option
// may start: by the upload that is placed, or the one that would be.
func (l *layout) release(u *unit, o *option) Millis {
	ready := max(0, l.m.Shots[o.shot].Ready)
	if l.m.first != nil {
		ready = max(ready, l.m.first[o.shot])
	}
	if o.upload == 0 {
		return ready
	}
	return max(ready, l.sent(u.line, o).end)
}

// sent returns the upload of the option's shot, or the place where it would go:
// the first gap that is long enough.
func (l *layout) sent(source int, o *option) span {
	at := max(0, l.m.Shots[o.shot].Ready)
	list := l.uploads[source]
	for _, s := range list {
		if s.shot == o.shot {
			return s.span
		}
	}
	for _, s := range list {
		if s.start < at+o.upload && at < s.end {
			at = s.end
		}
	}
	return span{at, at + o.upload}
}

func (l *layout) send(source int, o *option) {
	if o.upload == 0 {
		return
	}
	list := l.uploads[source]
	if slices.ContainsFunc(list, func(s sending) bool { return s.shot == o.shot }) {
		return
	}
	list = append(slices.Clone(list), sending{l.sent(source, o), o.shot})
	slices.SortFunc(list, func(a, b sending) int { return cmp.Compare(a.start, b.start) })
	l.uploads[source] = list
}

// free lists when the machine may work on the option: it is open, the devices
// are not used, there is memory for one more renderer, and a seat. The list is
// overwritten by the next call.
func (l *layout) free(x *machine, o *option) []span {
	l.work.spend(int64(300 + 50*len(x.jobs)))
	u := x.unit
	bounds := span{max(l.release(u, o), x.open.start), min(l.until(o), x.open.end)}
	if u.kind == rentedOffer && len(x.jobs) > 0 {
		work, b := x.runs-u.rent.lead-u.rent.wrap, x.busy()
		bounds.start, bounds.end = max(bounds.start, b.end-work), min(bounds.end, b.start+work)
	}
	if u.kind == rentedOffer && len(x.jobs) == 0 {
		bounds.start = max(bounds.start, l.ripe(x, o))
	}
	l.spare.free = inside(l.spare.free[:0], u.windows, bounds)
	out := l.spare.free
	if u.kind == rentedOffer && len(x.jobs) == 0 && len(out) > 0 {
		out[0].end = min(out[0].end, out[0].start+x.runs-u.rent.lead-u.rent.wrap)
	}
	if len(out) == 0 {
		return nil
	}
	mask := u.crews[o.crew].mask
	for _, j := range x.jobs {
		if u.crews[u.options[j.option].crew].mask&mask != 0 {
			out = without(out, j.span)
		}
	}
	out = l.withMemory(x, o, out)
	if lic := l.m.licence[o.shot]; lic >= 0 && len(out) > 0 && len(l.m.seatGrid[lic]) > 0 {
		out = l.withSeat(x, lic, out)
	}
	l.spare.free = out
	return out
}

// withMemory cuts out when the jobs side by side leave too little memory.
func (l *layout) withMemory(x *machine, o *option, spans []span) []span {
	need, u := l.m.Shots[o.shot].RAM, x.unit
	if u.ram < 0 || need == 0 || len(x.jobs) == 0 {
		return spans
	}
	edges := l.spare.edges[:0]
	total := need
	for _, j := range x.jobs {
		edges = append(edges, j.start, j.end)
		total += l.m.Shots[u.options[j.option].shot].RAM
	}
	if total <= u.ram {
		return spans
	}
	l.spare.edges = edges
	edges = sortedSet(edges)
	for i := 1; i < len(edges); i++ {
		used := need
		for _, j := range x.jobs {
			if j.start <= edges[i-1] && edges[i] <= j.end {
				used += l.m.Shots[u.options[j.option].shot].RAM
			}
		}
		if used > u.ram {
			spans = without(spans, span{edges[i-1], edges[i]})
		}
	}
	return spans
}

// withSeat keeps when one more machine may hold a seat. One that holds a seat
// already holds it on from there, so it can use only time that reaches to its hold.
func (l *layout) withSeat(x *machine, licence int, spans []span) []span {
	full := l.taken(licence)
	if hold := x.held[licence]; hold.end > 0 {
		reach := span{0, never}
		for _, s := range full {
			if s.start < hold.start {
				reach.start = max(reach.start, min(s.end, hold.start))
			}
			if s.end > hold.end {
				reach.end = min(reach.end, max(s.start, hold.end))
			}
		}
		l.spare.seated = inside(l.spare.seated[:0], spans, reach)
		return append(spans[:0], l.spare.seated...)
	}
	for _, s := range full {
		spans = without(spans, s)
	}
	return spans
}

// taken lists when all seats of a licence are held.
func (l *layout) taken(licence int) []span {
	if l.full[licence] != nil {
		return l.full[licence]
	}
	edges := l.changes(licence)
	out := []span{}
	if l.seats[licence] == 0 {
		out = []span{{0, never}}
	}
	level := 0
	for i, e := range edges {
		level += e.step
		if level >= l.seats[licence] && level > 0 && i+1 < len(edges) && edges[i+1].at > e.at {
			if n := len(out); n > 0 && out[n-1].end == e.at {
				out[n-1].end = edges[i+1].at
			} else {
				out = append(out, span{e.at, edges[i+1].at})
			}
		}
	}
	l.full[licence] = out
	l.work.spend(int64(60 * len(edges)))
	return out
}

// changes lists when seats of a licence are taken and given back, in order. The list
// is overwritten by the next call.
func (l *layout) changes(licence int) []change {
	edges := l.spare.changes[:0]
	for _, x := range l.machines {
		if h := x.held[licence]; h.end > 0 {
			edges = append(edges, change{h.start, 1}, change{h.end, -1})
		}
	}
	l.spare.changes = edges
	slices.SortFunc(edges, func(a, b change) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.step, b.step)) })
	return edges
}

// change is where the number of seats held goes up or down.
type change struct {
	at   Millis
	step int
}

// room counts the frames that fit into the spans.
func room(spans []span, frame Millis) int {
	n := 0
	for _, x := range spans {
		n += int((x.end - x.start) / frame)
	}
	return n
}

// place puts up to n frames of the option on the machine, as early as can be, and
// returns how many it did.
func (l *layout) place(x *machine, option int32, n int) int {
	o := &x.unit.options[option]
	n = min(n, l.missing[o.shot])
	if x.unit.kind == farmTier {
		return l.placeOnFarm(x, option, n)
	}
	done := 0
	for done < n {
		j := l.next(x, o, n-done)
		if j.frames == 0 {
			break
		}
		j.option = option
		l.put(x, j)
		done += j.frames
	}
	return done
}

// next is where up to n frames of an option go on a machine that has room: as early as can be.
func (l *layout) next(x *machine, o *option, n int) job {
	for _, s := range l.free(x, o) {
		if s.end-s.start < o.frame {
			continue
		}
		if j := l.fit(o, s, n); j.frames > 0 {
			return j
		}
	}
	return job{}
}

// put adds a job, joined to one of the same option that ends where it starts.
func (l *layout) put(x *machine, j job) {
	o := &x.unit.options[j.option]
	l.send(x.unit.line, o)
	l.missing[o.shot] -= j.frames
	l.count(o, j, true)
	if lic := l.m.licence[o.shot]; lic >= 0 && x.unit.kind != farmTier {
		x.holdFor(lic, j.span)
		if !l.trying {
			l.full[lic] = nil
		}
	}
	for i := range x.jobs {
		if y := &x.jobs[i]; y.option == j.option && y.nodes == 0 && j.nodes == 0 && y.end == j.start && l.sameWindow(x, y.start, j.end) {
			y.end = j.end
			y.frames += j.frames
			return
		}
	}
	x.jobs = append(x.jobs, j)
}

func (l *layout) sameWindow(x *machine, start, end Millis) bool {
	return slices.ContainsFunc(x.unit.windows, func(w span) bool { return w.start <= start && end <= w.end })
}

// take removes job i of a machine, wholly.
func (l *layout) take(x *machine, i int) job {
	j := x.jobs[i]
	x.jobs = slices.Delete(x.jobs, i, i+1)
	o := &x.unit.options[j.option]
	l.missing[o.shot] += j.frames
	l.count(o, j, false)
	l.hold(x)
	l.unsend(x.unit.line, o)
	return j
}

// hold works out anew which seats the machine holds, and when.
func (l *layout) hold(x *machine) {
	clear(x.held)
	clear(l.full)
	if x.unit.kind == farmTier {
		return
	}
	for _, j := range x.jobs {
		if lic := l.m.licence[x.unit.options[j.option].shot]; lic >= 0 {
			x.holdFor(lic, j.span)
		}
	}
}

// holdFor lets the machine hold a seat for a job too.
func (x *machine) holdFor(licence int, job span) {
	h := &x.held[licence]
	if h.end == 0 {
		*h = job
	}
	h.start, h.end = min(h.start, job.start), max(h.end, job.end)
}

// unsend forgets an upload that no job needs any more.
func (l *layout) unsend(source int, o *option) {
	if o.upload == 0 {
		return
	}
	for _, x := range l.machines {
		if x.unit.line == source && slices.ContainsFunc(x.jobs, func(j job) bool { return x.unit.options[j.option].shot == o.shot }) {
			return
		}
	}
	l.uploads[source] = slices.DeleteFunc(slices.Clone(l.uploads[source]), func(s sending) bool { return s.shot == o.shot })
}

// remove closes a server and takes all its jobs off it.
func (l *layout) remove(at int) {
	x := l.touch(at)
	for len(x.jobs) > 0 {
		l.take(x, len(x.jobs)-1)
	}
	l.machines = slices.Delete(slices.Clone(l.machines), at, at+1)
	l.own = slices.Delete(l.own, at, at+1)
	for i, list := range l.units {
		out := list[:0:0]
		for _, k := range list {
			if k != at {
				out = append(out, k-btoi(k > at))
			}
		}
		l.units[i] = out
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// complete reports whether no frame is missing, or before its inputs.
func (l *layout) complete() bool {
	if slices.ContainsFunc(l.missing, func(n int) bool { return n > 0 }) {
		return false
	}
	for shot := range l.m.inputs {
		if l.torn(shot) {
			return false
		}
	}
	return true
}

// cost adds up what the layout costs, to the precision of a float: for choosing.
// What is shown and stored is Price.
func (l *layout) cost() float64 {
	total := 0.0
	for _, x := range l.machines {
		total += x.cost()
	}
	for lic, seats := range l.extraSeats() {
		total += float64(seats) * l.m.Licences[lic].ExtraSeatPrice.Float()
	}
	return total
}

func (x *machine) cost() float64 {
	if len(x.jobs) == 0 {
		return 0
	}
	sum := 0.0
	switch x.unit.kind {
	case rentedOffer:
		_, sum = x.unit.rent.bill(x.running())
		return sum
	default:
		for _, j := range x.jobs {
			sum += float64(j.frames) * x.unit.options[j.option].cost
		}
		return max(sum, x.unit.least)
	}
}

// extraSeats counts, for each licence, the seats needed beyond the pool.
func (l *layout) extraSeats() []int {
	out := make([]int, len(l.seats))
	for lic := range out {
		level, top := 0, 0
		for _, e := range l.changes(lic) {
			level += e.step
			top = max(top, level)
		}
		out[lic] = max(0, top-l.m.Licences[lic].Seats)
	}
	return out
}
