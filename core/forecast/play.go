package forecast

import (
	"math"
	"math/rand/v2"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/promise"
)

// play is one play of a plan after another, with memory kept between them.
type play struct {
	*stage
	waiting  []int     // of each shot, frames not yet begun
	left     []int     // of each shot, frames not yet done
	finish   []float64 // of each shot, when its last frame came home
	bookings []dispatch.Booking
	frame    []float64 // of each desk, its typical time in this play
	open     []float64 // of each desk, from when it may work
	busy     []float64 // of each device, until when
	ends     []float64 // of each server, when its last frame ended
	close    []float64 // of each desk, when no frame may run on
	begins   []float64 // of each server, when it was ordered; late boots do not change it
	moved    []float64 // of each server, by how much its replacement is later
	charges  []float64 // of each farm
	wake     []float64 // of each desk, when it next looks for a frame; infinite: not by itself
	others   []dispatch.Booking
	queue    events
	cost     float64
}

// event is a desk that is free, or whose frame ends.
type event struct {
	at     float64
	desk   int
	render bool // a frame ends, else the desk looks for one
	failed bool
}

// before orders events: by time, ends of frames first, then by desk.
func (a event) before(b event) bool {
	if a.at != b.at {
		return a.at < b.at
	}
	if a.render != b.render {
		return a.render
	}
	return a.desk < b.desk
}

// events is a heap. It is written out because container/heap makes garbage of every
// event, of which there are tens of millions.
type events []event

func (e *events) push(x event) {
	list := append(*e, x)
	i := len(list) - 1
	for i > 0 && x.before(list[(i-1)/2]) {
		list[i] = list[(i-1)/2]
		i = (i - 1) / 2
	}
	list[i] = x
	*e = list
}

func (e *events) pop() event {
	list := *e
	top, x := list[0], list[len(list)-1]
	list = list[:len(list)-1]
	i := 0
	for 2*i+1 < len(list) {
		child := 2*i + 1
		if child+1 < len(list) && list[child+1].before(list[child]) {
			child++
		}
		if !list[child].before(x) {
			break
		}
		list[i] = list[child]
		i = child
	}
	if len(list) > 0 {
		list[i] = x
	}
	*e = list
	return top
}

func newPlay(s *stage) *play {
	return &play{
		stage: s, waiting: make([]int, len(s.shots)), left: make([]int, len(s.shots)), finish: make([]float64, len(s.shots)),
		bookings: make([]dispatch.Booking, len(s.desks)), frame: make([]float64, len(s.desks)), open: make([]float64, len(s.desks)), wake: make([]float64, len(s.desks)),
		busy: make([]float64, s.devices), ends: make([]float64, len(s.servers)), begins: make([]float64, len(s.servers)), moved: make([]float64, len(s.servers)), close: make([]float64, len(s.desks)), charges: make([]float64, len(s.farms)),
	}
}

// run plays the plan once.
func (p *play) run(r *rand.Rand) ending {
	p.begin(r)
	for len(p.queue) > 0 {
		e := p.queue.pop()
		if e.render {
			p.end(e)
		} else if e.at != p.wake[e.desk] {
			continue // it has looked since
		}
		p.wake[e.desk] = math.Inf(1)
		p.look(e, r)
	}
	return p.bill()
}

// begin draws what holds for the whole play: how far each typical time is off, how
// late each server boots, how long each farm's queue is.
func (p *play) begin(r *rand.Rand) {
	p.queue, p.cost = p.queue[:0], p.seats
	clear(p.busy)
	clear(p.finish)
	clear(p.charges)
	for i, s := range p.shots {
		p.waiting[i], p.left[i] = s.frames, s.frames
	}
	late := make([]float64, len(p.servers))
	for i, v := range p.servers {
		late[i], p.moved[i] = v.wait.late(r), 0
		if v.wait.kept.Never > 0 && r.Float64() < v.wait.kept.Never {
			// One that never comes is given up and another is asked for in its place.
			p.moved[i] = promise.GivenUp(v.offer.Lead.Duration()).Seconds() * 1000
			p.cost += v.offer.Meter().Charge(promise.GivenUp(v.offer.Lead.Duration())).Float()
		}
		p.begins[i], p.ends[i] = v.from+p.moved[i], v.from+p.moved[i]
	}
	wait := make([]float64, len(p.farms))
	for i, f := range p.farms {
		wait[i] = f.wait.late(r)
	}
	off := map[[2]int]float64{}
	for i := range p.desks {
		d := &p.desks[i]
		p.bookings[i] = d.booking
		p.frame[i], p.open[i] = d.frame, d.start
		if d.doubt > 0 {
			// Desks of one crew share what is not known of it.
			key := [2]int{d.shot, first(d.devices)}
			if _, ok := off[key]; !ok {
				off[key] = r.NormFloat64()
			}
			p.frame[i] *= math.Exp(off[key] * d.doubt)
		}
		p.close[i] = d.close
		if d.server >= 0 {
			p.open[i] += late[d.server] + p.moved[d.server]
			p.close[i] += p.moved[d.server]
		}
		if d.farm >= 0 {
			p.open[i] += wait[d.farm]
		}
		p.wake[i] = math.Inf(1)
		p.lookAt(i, p.open[i])
	}
}

// lookAt lets a desk look for a frame at a time, or sooner if it would anyway.
func (p *play) lookAt(desk int, at float64) {
	if at < p.wake[desk] {
		p.wake[desk] = at
		p.queue.push(event{at: at, desk: desk})
	}
}

func first(list []int) int {
	if len(list) == 0 {
		return -1
	}
	return list[0]
}

// look lets a desk take a frame if the run's rule lets it, its devices are free and
// the frame would end before it closes.
func (p *play) look(e event, r *rand.Rand) {
	d := &p.desks[e.desk]
	s := d.shot
	if p.waiting[s] == 0 || p.closed(e.desk, e.at) && !p.staysOn(e) {
		return
	}
	for _, x := range d.devices {
		if p.busy[x] > e.at {
			p.lookAt(e.desk, p.busy[x])
			return
		}
	}
	own := &p.bookings[e.desk]
	if own.Owed() == 0 && (d.farm >= 0 || !p.mayHelp(e)) {
		return // a farm renders what it was sent, and helps nobody
	}
	ratios := p.shots[s].ratios
	length := p.frame[e.desk] * ratios[r.IntN(len(ratios))]
	failed := d.fails > 0 && r.Float64() < d.fails
	if failed {
		length *= 2 * failsAfter * r.Float64()
	}
	for _, x := range d.devices {
		p.busy[x] = e.at + length
	}
	p.waiting[s]--
	own.Taken++
	switch {
	case d.farm >= 0:
		if !failed {
			p.charges[d.farm] += d.price*length + d.perFrame
		}
	default:
		p.cost += d.price * length
	}
	p.queue.push(event{at: e.at + length, desk: e.desk, render: true, failed: failed})
}

// closed reports whether a frame that a desk begins now would run past its time.
func (p *play) closed(desk int, at float64) bool { return at+p.frame[desk] > p.close[desk] }

// staysOn reports whether a server goes on past what is paid: as in a run, where nobody
// else is left to take the shot's frames. Caps are not looked at.
func (p *play) staysOn(e event) bool {
	d := &p.desks[e.desk]
	if d.server < 0 {
		return false
	}
	for _, k := range p.shots[d.shot].desks {
		other := &p.desks[k]
		if other.server == d.server || other.farm >= 0 && p.bookings[k].Owed() == 0 {
			continue
		}
		if !p.closed(k, e.at) {
			return false
		}
	}
	return true
}

// mayHelp asks the rule of the run. A desk that may not help now asks again when the
// next booking of its shot should have ended.
func (p *play) mayHelp(e event) bool {
	s := p.desks[e.desk].shot
	if len(p.shots[s].desks) == 1 {
		return true
	}
	others := p.others[:0]
	next := math.Inf(1)
	for _, k := range p.shots[s].desks {
		if k == e.desk {
			continue
		}
		others = append(others, p.bookings[k])
		if end := float64(p.bookings[k].End.UnixMilli()) + 1; end > e.at && p.bookings[k].Owed() > 0 {
			next = math.Min(next, end)
		}
	}
	p.others = others
	if dispatch.MayTake(p.bookings[e.desk], others, p.waiting[s], moment(e.at)) {
		return true
	}
	if !math.IsInf(next, 1) {
		p.lookAt(e.desk, next)
	}
	return false
}

// end takes a frame in, or puts it back.
func (p *play) end(e event) {
	d := &p.desks[e.desk]
	s := d.shot
	if d.server >= 0 {
		p.ends[d.server] = math.Max(p.ends[d.server], e.at)
	}
	if e.failed {
		p.waiting[s]++
		p.bookings[e.desk].Taken--
		// Whoever had nothing left to do may be wanted again.
		for _, k := range p.shots[s].desks {
			if k != e.desk && p.bookings[k].Owed() == 0 && p.open[k] <= e.at {
				p.lookAt(k, e.at)
			}
		}
		return
	}
	p.left[s]--
	p.finish[s] = math.Max(p.finish[s], e.at+d.delivery)
}

func (p *play) bill() ending {
	out := ending{shots: make([]float64, len(p.shots)), cost: p.cost}
	for i := range p.shots {
		out.shots[i] = p.finish[i]
		if p.left[i] > 0 {
			out.shots[i] = math.Inf(1)
		}
	}
	for i, v := range p.servers {
		runs := planning.Millis(math.Max(p.ends[i]-p.begins[i], 0)) + v.offer.Wrap
		out.cost += v.offer.Meter().Charge(runs.Duration()).Float()
	}
	for i, charge := range p.charges {
		if charge > 0 {
			out.cost += math.Max(charge, p.farms[i].least)
		}
	}
	return out
}
