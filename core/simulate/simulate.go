// Package simulate carries out whole runs without a clock or a database, by the rule
// that real runs go by (core/dispatch): frames, crews, host memory, licence seats, open
// hours, failed tries, rented servers and farms. Time leaps from event to event.
//
//	s := simulate.New(setup)
//	s.Reset()
//	s.Run(chance)              // chance says how long each try takes and whether it fails
//	fmt.Println(s.Shots[0].Finish)
//
// A Simulation may be reset and run any number of times without making garbage; it is
// for one goroutine.
package simulate

import (
	"math"
	"slices"
	"time"

	"rotanex.example/core/dispatch"
)

// Setup is a run before it begins.
type Setup struct {
	Shots []Shot
	Hosts []Host
	Crews []Crew // bookings, reserves among them
	Pools []Pool
	Tries int // how often a frame may fail before it is given up; 0: dispatch.DefaultTries
}

// Shot is frames to be rendered.
type Shot struct {
	ID     string
	Frames int      // that were never tried
	Fresh  []int    // their numbers, in order; nil: from 0
	Tried  []Frames // that wait, and failed before or are tied to crews
	After  []After  // whose frames each of its own needs; it has Frames and neither of the others then
}

// After is a shot whose frames another needs: number k, of which so many are home already, for
// number k and so many more of the other.
type After struct{ Shot, Home int }

// Frames are frames that are alike to the rule.
type Frames struct {
	dispatch.Kind // First and Waiting are counted from Numbers
	Numbers       []int
	Failures      int
}

// Host is a machine. A farm's booking is a host of its own, with its nodes.
type Host struct {
	Name     string
	MemoryGB float64   // 0: no limit
	Up       time.Time // it asks for frames from then on
	StaysOn  bool      // a rented server: where nobody else is left it goes on past its close
	Nodes    int       // of a farm's booking; 0: no farm
	Begins   time.Time // of a farm: its job takes its frames
	Away     []Away    // of a desk: when it is its owner's
	Lost     time.Time // it is gone for good from then on; zero: never
}

// Away is a stretch of time in which a desk is its owner's: what it renders is given back.
type Away struct{ From, To time.Time }

// Crew is a booking on one of the hosts.
type Crew struct {
	dispatch.Crew
	Host, Shot int           // places in Setup
	Home       time.Duration // until a frame is home that another shot needs
}

// Pool is a licence's seats.
type Pool struct {
	Name  string
	Seats int
}

// Chance says how tries go.
type Chance interface {
	// Try is called as a crew, by its place in Setup.Crews, begins a frame: how long it
	// renders, and whether it gives no frame then.
	Try(crew, frame int, at time.Time) (takes time.Duration, fails bool)
}

// Outcome is how a shot stands after a run.
type Outcome struct {
	Done   int
	Left   int       // waiting with nobody left, or given up
	Finish time.Time // the last of its frames was done; zero: none was
}

// Simulation runs a setup.
type Simulation struct {
	Hosts []Host    // of this run: may be changed between Reset and Run
	Crews []Crew    // the same
	Shots []Outcome // after Run

	setup   Setup
	hosts   []hostRun
	shots   []shotRun
	pools   map[string]*poolRun
	queue   events
	now     int64
	due     []int // hosts that look now
	looking int   // the host whose turn it is; -1: none
	chance  Chance
}

// hostRun is a host in a run.
type hostRun struct {
	dispatch.Host
	at     []int       // places of Crews in Simulation.Crews, in the same order
	places []int       // the same, in their own order, to be reset from
	wake   int64       // when it looks next
	held   []heldFrame // of a farm: that it has not begun
	idle   int         // of a farm: nodes without work
	keeps  bool        // it keeps devices for a crew while frames wait that this one wants
	defers bool        // leaves frames to faster ones
}

// heldFrame is a frame that a farm holds, and of what kind it was.
type heldFrame struct {
	number int
	kindOf *dispatch.Kind
}

type shotRun struct {
	fresh     []int // frames never tried: those from next to end wait
	next, end int
	tried     []triedKind
	crews     []*dispatch.Crew
	hosts     []int
	needs     []int // of each frame of a shot with inputs, how many of those are not home yet
	blocked   int   // frames of which some are not
	feeds     []feed
	// So many of them take part from the beginning; the others come on the way.
	first, firstHosts int
	kinds             []dispatch.Kind // for answers
	failures          map[int]int
}

// triedKind is waiting frames that were tried before, lowest first.
type triedKind struct {
	dispatch.Kind
	frames []int
}

// poolRun is a pool in a run. Its lists are by host.
type poolRun struct {
	Pool
	held    []bool
	renders []int  // frames with the licence in hand
	waiting []bool // found no seat
}

// New makes a simulation of a setup. Crews of one host choose in dispatch.Sort's order.
func New(setup Setup) *Simulation {
	if setup.Tries == 0 {
		setup.Tries = dispatch.DefaultTries
	}
	s := &Simulation{
		setup: setup, Hosts: make([]Host, len(setup.Hosts)), Crews: make([]Crew, len(setup.Crews)), Shots: make([]Outcome, len(setup.Shots)),
		hosts: make([]hostRun, len(setup.Hosts)), shots: make([]shotRun, len(setup.Shots)), pools: map[string]*poolRun{},
	}
	for i, c := range setup.Crews {
		s.hosts[c.Host].places = append(s.hosts[c.Host].places, i)
		if c.State != dispatch.Gone {
			s.takePart(i, c)
		}
	}
	for i := range s.shots {
		r := &s.shots[i]
		r.first, r.firstHosts = len(r.crews), len(r.hosts)
	}
	for i, x := range setup.Shots {
		r := &s.shots[i]
		for _, a := range x.After {
			s.shots[a.Shot].feeds = append(s.shots[a.Shot].feeds, feed{i, a.Home})
		}
		if r.fresh, r.failures = x.Fresh, map[int]int{}; r.fresh == nil && x.After == nil {
			for n := range x.Frames {
				r.fresh = append(r.fresh, n)
			}
		}
	}
	for _, p := range setup.Pools {
		n := len(setup.Hosts)
		s.pools[p.Name] = &poolRun{Pool: p, held: make([]bool, n), renders: make([]int, n), waiting: make([]bool, n)}
	}
	return s
}

// takePart lets a crew be one of those of its shot.
func (s *Simulation) takePart(at int, c Crew) {
	shot := &s.shots[c.Shot]
	if slices.Contains(shot.crews, &s.Crews[at].Crew) {
		return
	}
	shot.crews = append(shot.crews, &s.Crews[at].Crew)
	if !slices.Contains(shot.hosts, c.Host) {
		shot.hosts = append(shot.hosts, c.Host)
	}
}

// Reset brings everything back to how it was before the run.
func (s *Simulation) Reset() {
	copy(s.Hosts, s.setup.Hosts)
	copy(s.Crews, s.setup.Crews)
	s.queue, s.due, s.now, s.looking = s.queue[:0], s.due[:0], math.MinInt64, -1
	clear(s.Shots)
	for i, x := range s.setup.Shots {
		r := &s.shots[i]
		r.tried = r.tried[:0]
		s.block(i)
		r.next, r.end = 0, len(r.fresh)
		r.crews, r.hosts = r.crews[:r.first], r.hosts[:r.firstHosts]
		clear(r.failures)
		for _, f := range x.Tried {
			k := triedKind{Kind: f.Kind, frames: slices.Sorted(slices.Values(f.Numbers))}
			r.tried = append(r.tried, k)
			for _, n := range f.Numbers {
				r.failures[n] = f.Failures
			}
		}
	}
	for _, p := range s.pools {
		clear(p.held)
		clear(p.renders)
		clear(p.waiting)
	}
}

// Run carries the run out until nothing happens any more.
func (s *Simulation) Run(chance Chance) {
	s.Begin(chance)
	s.Rest()
}

// Rest carries a run on that was begun until nothing happens any more.
func (s *Simulation) Rest() {
	s.until(never)
	for i := range s.shots {
		r := &s.shots[i]
		s.Shots[i].Left += r.waiting() + r.blocked
	}
}

func (s *Simulation) happen(e event) {
	switch {
	case e.kind == frameEnds:
		s.frameEnds(e)
	case e.kind == frameHome:
		s.frameHome(s.Crews[e.crew].Shot, e.frame)
	case e.kind == deskChanges:
		s.deskChanges(e)
	case e.kind == hostLost:
		s.Lose(e.host)
	case e.kind == jobBegins:
		s.jobBegins(e.host)
	case s.Hosts[e.host].Nodes > 0:
		s.nodesTake(e.host)
	case e.at == s.hosts[e.host].wake && !slices.Contains(s.due, e.host): // it may be told of one time more than once
		s.hosts[e.host].wake = never
		s.lookAt(e.host, s.now)
	}
}

// empty frees a host of all that it does.
func (s *Simulation) empty(i int) {
	h, def := &s.hosts[i], &s.Hosts[i]
	h.Name, h.MemoryGB, h.UsedGB, h.Busy, h.wake, h.keeps = def.Name, def.MemoryGB, 0, h.Busy[:0], never, false
	if h.MemoryGB == 0 {
		h.MemoryGB = math.Inf(1)
	}
	h.held, h.idle = h.held[:0], def.Nodes
}

// sort puts a host's crews into the order in which they choose.
func (s *Simulation) sort(i int) {
	h := &s.hosts[i]
	h.Crews, h.at = h.Crews[:0], h.at[:0]
	for _, c := range h.places {
		h.Crews = append(h.Crews, &s.Crews[c].Crew)
	}
	dispatch.Sort(h.Crews)
	for _, c := range h.Crews {
		h.at = append(h.at, h.places[slices.IndexFunc(h.places, func(p int) bool { return &s.Crews[p].Crew == c })])
	}
}

// begin makes a host ready and plans when it first looks for frames.
func (s *Simulation) begin(i int) {
	s.empty(i)
	s.sort(i)
	if s.Hosts[i].Nodes > 0 {
		s.hand(i)
		return
	}
	first := never
	for _, c := range s.hosts[i].Crews {
		first = min(first, max(s.Hosts[i].Up.UnixNano(), c.Start.UnixNano()))
	}
	if first < never {
		s.lookAt(i, first)
	}
	s.upsets(i)
}

// upsets plans when a host is its owner's or is lost.
func (s *Simulation) upsets(i int) {
	for _, a := range s.Hosts[i].Away {
		if a.To.UnixNano() <= s.now {
			continue
		}
		s.queue.push(event{at: max(s.now, a.From.UnixNano()), kind: deskChanges, host: i, fails: true})
		s.queue.push(event{at: max(s.now, a.To.UnixNano()), kind: deskChanges, host: i})
	}
	if lost := s.Hosts[i].Lost; !lost.IsZero() {
		s.queue.push(event{at: max(s.now, lost.UnixNano()), kind: hostLost, host: i})
	}
}

// lookAt lets a host look for frames at a time, or sooner if it would anyway.
func (s *Simulation) lookAt(host int, at int64) {
	h := &s.hosts[host]
	if at = max(at, s.Hosts[host].Up.UnixNano()); at < h.wake {
		if h.wake = at; at == s.now {
			s.due = append(s.due, host)
			return
		}
		s.queue.push(event{at: at, kind: hostLooks, host: host})
	}
}

func (s *Simulation) time() time.Time { return time.Unix(0, s.now).UTC() }

// look lets a host's crews take what they may.
func (s *Simulation) look(host int) {
	h := &s.hosts[host]
	h.wake = never
	s.looking = host
	s.returnSeats()
	if s.Hosts[host].StaysOn {
		s.stayOn(h)
	}
	_ = h.Choose(s, s.time()) // this queue never fails
	h.keeps, h.defers = false, false
	for i, v := range h.Verdicts {
		switch v.Reason {
		case dispatch.NoSeat:
			s.pools[h.Crews[i].Licence].waiting[host] = true
		case dispatch.DevicesKept:
			h.keeps = true
		case dispatch.FasterWill:
			h.defers = true
		}
	}
	s.looking = -1
	if next := h.Next(); !next.IsZero() {
		s.lookAt(host, next.UnixNano())
	}
}

// stayOn keeps a server's crews open where frames wait that nobody is left for. What it
// may cost is not looked at.
func (s *Simulation) stayOn(h *hostRun) {
	now := s.time()
	for i, c := range h.Crews {
		if c.Stands(now).Reason != dispatch.Closed {
			continue
		}
		shot := s.Crews[h.at[i]].Shot
		for _, k := range s.kindsOf(shot) {
			if yes, _ := dispatch.Left(&k, s.shots[shot].crews, now); !yes {
				c.Close = time.Time{}
			}
		}
	}
}

// frameEnds takes a frame in, or puts it back.
func (s *Simulation) frameEnds(e event) {
	h, c := &s.hosts[e.host], &s.Crews[e.crew]
	if s.Hosts[e.host].Nodes > 0 {
		h.idle++
		s.queue.push(event{at: s.now, kind: hostLooks, host: e.host})
	} else {
		h.Busy = slices.DeleteFunc(h.Busy, func(d string) bool { return slices.Contains(c.Devices, d) })
		if h.UsedGB -= c.MemoryGB; len(h.Busy) == 0 {
			h.UsedGB = 0
		}
		s.lookAt(e.host, s.now)
	}
	out := &s.Shots[c.Shot]
	if !e.fails {
		out.Done++
		out.Finish = s.time()
		s.bring(e, c)
	} else {
		s.putBack(e, c)
	}
	if p := s.pools[c.Licence]; p != nil && !c.Farm {
		p.renders[e.host]--
		s.seatsMayBeFree(p)
	}
}

// putBack lets a frame wait again that failed, unless it failed too often.
func (s *Simulation) putBack(e event, c *Crew) {
	c.Taken--
	if c.Farm {
		c.Frames-- // it is not asked for this frame again
	}
	r := &s.shots[c.Shot]
	r.failures[e.frame]++
	if r.failures[e.frame] >= s.setup.Tries {
		s.Shots[c.Shot].Left++
		return
	}
	r.putBack(e.frame, e.kindOf, c.Place)
	s.wake(c.Shot)
}

// wake lets hosts look again that are free for a shot: whoever had nothing left to do may
// be wanted.
func (s *Simulation) wake(shot int) {
	for _, host := range s.shots[shot].hosts {
		if h := &s.hosts[host]; host != s.looking && s.Hosts[host].Nodes == 0 && h.free(shot, s.Crews) {
			s.lookAt(host, s.now)
		}
	}
}

// kindIsGone lets hosts look again that keep devices for crews, or found no seat: perhaps
// for frames that do not wait any more.
func (s *Simulation) kindIsGone() {
	for _, p := range s.pools {
		s.seatsMayBeFree(p)
	}
	for host := range s.hosts {
		if s.hosts[host].keeps && host != s.looking {
			s.lookAt(host, s.now)
		}
	}
}

// fewerWait lets hosts look again that left a shot's frames to faster ones: fewer wait now, and
// who took one has no time for another.
func (s *Simulation) fewerWait(shot int) {
	for _, host := range s.shots[shot].hosts {
		if s.hosts[host].defers && host != s.looking {
			s.lookAt(host, s.now)
		}
	}
}

// free reports whether a crew for the shot has all its devices free.
func (h *hostRun) free(shot int, crews []Crew) bool {
	for i, c := range h.Crews {
		if crews[h.at[i]].Shot == shot && (len(h.Busy) == 0 || !slices.ContainsFunc(c.Devices, func(d string) bool { return slices.Contains(h.Busy, d) })) {
			return true
		}
	}
	return false
}
