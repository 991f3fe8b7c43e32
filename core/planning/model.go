package planning

import (
	"cmp"
	"math"
	"slices"
)

// model is a Problem for given due times, with its references resolved: units,
// each of which can be used on its own, and the options they have.
type model struct {
	Problem
	due      []Millis // of each shot, its deadline as this model takes it
	licence  []int    // of each shot, its index into Licences, or -1
	units    []unit
	penalty  []float64   // of each shot, more than any way to render a frame costs
	duals    []float64   // of each shot, a few times what the relaxed problem pays for a frame
	regret   [][]float64 // of each unit's options, see weighRegret; nil: not weighed
	seatGrid [][]Millis  // of each licence that can run short: ends of the stretches in which seats are counted
	sources  []string
	places   [][]int // of each shot, the units with an option for it
	chain
}

type unitKind int

const (
	ownedHost unitKind = iota
	rentedOffer
	farmTier
)

// unit is an owned host, one server of an offer (of which there may be several
// copies), or a farm.
type unit struct {
	kind     unitKind
	at       int // index into Hosts, Offers or Farms
	id       string
	source   string
	line     int // index into sources: uploads to one source go one after another; -1 of a host
	copies   int
	nodes    int    // of a farm
	ram      Memory // -1: no limit
	disjoint bool   // no two crews share a device
	cutUp    bool   // windows overlapped and were cut: a frame may lie across a cut
	solo     bool   // one shot only, on crews that do not hinder each other: whole frames can be counted
	plain    bool   // crews share nothing but time
	crews    []unitCrew
	options  []option
	windows  []span
	segments []segment
	rent     rent
	least    float64 // a farm's minimum charge
}

// unitCrew is a crew with its devices as a set of bits.
type unitCrew struct {
	id      string
	mask    uint64
	options []int32 // indices into the unit's options
}

// option is one shot on one crew of a unit.
type option struct {
	shot    int
	crew    int
	frame   Millis
	cost    float64 // of one frame: busy price or farm charge; 0 on a server
	upload  Millis
	home    Millis // what the delivery takes
	release Millis // no start before: ready, lead, and the upload were it the first
	due     Millis // no end after: the deadline less the delivery
}

// segment is a stretch of time in which the same options are open from its start
// to its end.
type segment struct {
	span
	crews [][]int32 // of each crew, the options that are open, by the memory they need
	grid  []int     // of each licence, the stretch of the seat grid that it lies in
}

// maxSegments is how finely a unit's time is cut. Beyond it releases are taken a
// little earlier and due times a little later, which only loosens the bound.
const maxSegments = 40

func newModel(p Problem, due []Millis) *model {
	m := &model{Problem: p, due: due, licence: make([]int, len(p.Shots)), places: make([][]int, len(p.Shots))}
	shotAt := make(map[string]int, len(p.Shots))
	for i, s := range p.Shots {
		shotAt[s.ID] = i
		m.licence[i] = slices.IndexFunc(p.Licences, func(l Licence) bool { return l.ID == s.Licence })
	}
	transfers := make(map[[2]string]Transfer, len(p.Transfers))
	for _, t := range p.Transfers {
		transfers[[2]string{t.Shot, t.Source}] = t
	}
	rows := map[[2]string][]Timing{} // kind and place
	for _, t := range p.Timings {
		kind, id := t.Place()
		rows[[2]string{kind, id}] = append(rows[[2]string{kind, id}], t)
	}
	m.link(p.places(transfers))
	for at, h := range p.Hosts {
		u := unit{kind: ownedHost, at: at, id: h.ID, line: -1, copies: 1, ram: limit(h.RAM)}
		u.windows, u.cutUp = opened(h.Windows)
		m.add(&u, h.Crews, rows[[2]string{"host", h.ID}], shotAt, transfers)
	}
	for at, o := range p.Offers {
		u := unit{kind: rentedOffer, at: at, id: o.ID, source: o.Source, copies: o.MaxServers, ram: limit(o.RAM), rent: newRent(o)}
		u.windows = []span{{o.Lead, never}}
		m.add(&u, o.Crews, rows[[2]string{"offer", o.ID}], shotAt, transfers)
	}
	for at, f := range p.Farms {
		u := unit{kind: farmTier, at: at, id: f.ID, source: f.Source, copies: 1, nodes: f.Nodes, ram: -1, least: f.MinimumCharge.Float()}
		u.windows = []span{{f.Lead, never}}
		m.add(&u, []Crew{{Devices: []string{""}}}, rows[[2]string{"farm", f.ID}], shotAt, transfers)
	}
	m.countSeats()
	m.price()
	for i := range m.units {
		u := &m.units[i]
		m.cut(u)
		for _, o := range u.options {
			if list := m.places[o.shot]; len(list) == 0 || list[len(list)-1] != i {
				m.places[o.shot] = append(list, i)
			}
		}
	}
	return m
}

// never is later than any plan.
const never = Millis(math.MaxInt64 / 4)

func limit(ram *Memory) Memory {
	if ram == nil {
		return -1
	}
	return *ram
}

// opened sorts windows and cuts what overlaps, and reports whether any did. Windows
// that touch stay apart: a booking lies inside one of them.
func opened(windows [][2]Millis) (spans []span, overlap bool) {
	var out []span
	for _, w := range windows {
		out = append(out, span{max(0, w[0]), w[1]})
	}
	slices.SortFunc(out, func(a, b span) int { return cmp.Or(cmp.Compare(a.start, b.start), cmp.Compare(a.end, b.end)) })
	for i := 1; i < len(out); i++ {
		overlap = overlap || out[i].start < out[i-1].end
	}
	return disjoint(out), overlap
}

// add fills in the unit's crews and options and keeps it if it has any.
func (m *model) add(u *unit, crews []Crew, rows []Timing, shotAt map[string]int, transfers map[[2]string]Transfer) {
	bit := map[string]int{}
	for _, c := range crews {
		uc := unitCrew{id: c.ID}
		for _, d := range c.Devices {
			if _, ok := bit[d]; !ok {
				bit[d] = len(bit)
			}
			uc.mask |= 1 << (bit[d] % 64)
		}
		u.crews = append(u.crews, uc)
	}
	u.disjoint = true
	var seen uint64
	for _, c := range u.crews {
		u.disjoint = u.disjoint && seen&c.mask == 0
		seen |= c.mask
	}
	for _, t := range rows {
		s := shotAt[t.Shot]
		shot := m.Shots[s]
		o := option{shot: s, crew: slices.IndexFunc(crews, func(c Crew) bool { return c.ID == t.Crew }), frame: t.Frame}
		switch u.kind {
		case ownedHost:
			o.cost = perFrame(crews[o.crew].BusyPrice, t.Frame)
		case farmTier:
			o.crew = 0
			f := m.Farms[u.at]
			o.cost = perFrame(f.NodePrice, t.Frame) + f.FramePrice.Float()
		}
		if u.kind != ownedHost {
			x := transfers[[2]string{shot.ID, u.source}]
			o.upload, o.home = x.Upload, x.Delivery
		}
		o.release = max(0, shot.Ready) + o.upload
		if m.first != nil {
			o.release = max(o.release, m.first[s])
		}
		o.due = m.due[s] - o.home
		if m.usable(u, &o, shot) {
			u.options = append(u.options, o)
		}
	}
	slices.SortStableFunc(u.options, func(a, b option) int { return cmp.Or(cmp.Compare(a.shot, b.shot), cmp.Compare(a.crew, b.crew)) })
	for i, o := range u.options {
		u.crews[o.crew].options = append(u.crews[o.crew].options, int32(i))
	}
	if u.kind != ownedHost {
		if u.line = slices.Index(m.sources, u.source); u.line < 0 {
			u.line = len(m.sources)
			m.sources = append(m.sources, u.source)
		}
	}
	if len(u.options) > 0 && u.copies > 0 && (u.kind != farmTier || u.nodes > 0) {
		m.units = append(m.units, *u)
	}
}

// usable reports whether the option can take a single frame in time.
func (m *model) usable(u *unit, o *option, shot Shot) bool {
	if u.ram >= 0 && u.kind != farmTier && shot.RAM > u.ram {
		return false
	}
	if l := m.licence[o.shot]; l >= 0 && u.kind != farmTier && m.Licences[l].Seats+m.Licences[l].ExtraSeats < 1 {
		return false
	}
	return u.cutUp || slices.ContainsFunc(u.windows, func(w span) bool {
		return min(w.end, o.due)-max(w.start, o.release) >= o.frame
	})
}

// countSeats finds the licences that can run short, and when to count them.
func (m *model) countSeats() {
	m.seatGrid = make([][]Millis, len(m.Licences))
	for l, licence := range m.Licences {
		holders, grid := 0, []Millis{}
		for _, u := range m.units {
			uses := false
			for _, o := range u.options {
				if u.kind != farmTier && m.licence[o.shot] == l {
					uses = true
					grid = append(grid, m.due[o.shot])
				}
			}
			if uses {
				holders += u.copies
			}
		}
		if holders > licence.Seats {
			slices.Sort(grid)
			m.seatGrid[l] = slices.Compact(grid)
		}
	}
}

// price finds, for each shot, a price of a frame above which any way to render
// it is worth while: the penalty for leaving one out.
func (m *model) price() {
	m.penalty = make([]float64, len(m.Shots))
	most := 1.0
	for _, u := range m.units {
		for _, o := range u.options {
			cost := o.cost
			switch u.kind {
			case rentedOffer:
				_, cost = u.rent.bill(u.rent.lead + o.frame + u.rent.wrap)
			case farmTier:
				cost = max(cost, u.least)
			}
			most = max(most, cost)
		}
	}
	if m.Goal == Fastest && m.Budget != nil {
		most = max(most, m.Budget.Float()) // so that a frame that is left out is beyond it: see fastest
	}
	seats := 0.0
	for _, l := range m.Licences {
		seats += l.ExtraSeatPrice.Float()
	}
	for i := range m.penalty {
		m.penalty[i] = 10 * (most + seats)
	}
	m.duals = slices.Clone(m.penalty)
}

// cut divides the unit's time where its options open and close.
func (m *model) cut(u *unit) {
	var edges, fixed []Millis
	first, last := never, Millis(0)
	for _, o := range u.options {
		edges = append(edges, o.release, o.due)
		first, last = min(first, o.release), max(last, o.due)
		if l := m.licence[o.shot]; l >= 0 && u.kind != farmTier {
			fixed = append(fixed, m.seatGrid[l]...)
		}
	}
	for _, w := range u.windows {
		fixed = append(fixed, w.start, min(w.end, last))
	}
	edges, fixed = sortedSet(edges), sortedSet(fixed)
	most := maxSegments
	if u.kind == rentedOffer {
		most /= 2 // for every length from one edge to another is looked at
	}
	if room := max(8, most-len(fixed)); len(edges) > room {
		kept := make([]Millis, room)
		for i := range kept {
			kept[i] = edges[i*(len(edges)-1)/(room-1)]
		}
		edges = kept
	}
	edges = sortedSet(append(edges, fixed...))
	for i := 1; i < len(edges); i++ {
		x := segment{span: span{edges[i-1], edges[i]}, crews: make([][]int32, len(u.crews)), grid: make([]int, len(m.Licences))}
		if !slices.ContainsFunc(u.windows, func(w span) bool { return w.start <= x.start && x.end <= w.end }) {
			continue
		}
		open := false
		for k, o := range u.options {
			// Where edges were thinned out, an option counts as open in every segment
			// that it touches: too much, never too little.
			if o.release < x.end && x.start < o.due {
				x.crews[o.crew] = append(x.crews[o.crew], int32(k))
				open = true
			}
		}
		for l, grid := range m.seatGrid {
			at, _ := slices.BinarySearch(grid, x.end)
			x.grid[l] = at
		}
		for _, list := range x.crews {
			slices.SortStableFunc(list, func(a, b int32) int {
				return cmp.Compare(m.Shots[u.options[a].shot].RAM, m.Shots[u.options[b].shot].RAM)
			})
		}
		if open {
			u.segments = append(u.segments, x)
		}
	}
	u.solo, u.plain = u.kind != farmTier && m.alone(u), m.plainly(u)
}

// alone reports whether the unit has a single shot, whose renderers all fit side
// by side or are all alike, and whether each of its windows is one segment.
func (m *model) alone(u *unit) bool {
	shot := u.options[0].shot
	if u.cutUp || !u.disjoint || u.options[len(u.options)-1].shot != shot || u.ram >= 0 && m.Shots[shot].RAM*Memory(len(u.options)) > u.ram && !u.alike() {
		return false
	}
	for i := 1; i < len(u.segments); i++ {
		last := u.segments[i-1].end
		if last == u.segments[i].start && !slices.ContainsFunc(u.windows, func(w span) bool { return w.end == last }) {
			return false
		}
	}
	if u.kind == rentedOffer {
		// The lengths that a server may run are then counted in frames: not too many.
		const most = 4000
		return len(u.segments) == 1 && !slices.ContainsFunc(u.options, func(o option) bool { return (o.due-o.release)/o.frame > most })
	}
	return true
}

// alike reports whether a frame takes every crew equally long and costs as much.
func (u *unit) alike() bool {
	return !slices.ContainsFunc(u.options, func(o option) bool { return o.frame != u.options[0].frame || o.cost != u.options[0].cost })
}

func sortedSet(list []Millis) []Millis {
	slices.Sort(list)
	return slices.Compact(list)
}

// optionFor returns the unit's option for a shot on a crew, or -1.
func (u *unit) optionFor(shot, crew int) int {
	i, ok := slices.BinarySearchFunc(u.options, [2]int{shot, crew}, func(o option, key [2]int) int {
		return cmp.Or(cmp.Compare(o.shot, key[0]), cmp.Compare(o.crew, key[1]))
	})
	if !ok {
		return -1
	}
	return i
}

// of returns the range of the unit's options that are of the shot.
func (u *unit) of(shot int) []option {
	from, _ := slices.BinarySearchFunc(u.options, shot, func(o option, key int) int { return cmp.Compare(o.shot, key) })
	to := from
	for to < len(u.options) && u.options[to].shot == shot {
		to++
	}
	return u.options[from:to]
}

// Horizon is a time by which any plan that makes sense has ended.
func Horizon(p Problem) Millis {
	var end, work Millis
	for _, h := range p.Hosts {
		for _, w := range h.Windows {
			end = max(end, w[1])
		}
	}
	transfers := map[string]Millis{}
	for _, t := range p.Transfers {
		transfers[t.Shot] = max(transfers[t.Shot], t.Upload+t.Delivery)
	}
	slowest := map[string]Millis{}
	for _, t := range p.Timings {
		if kind, _ := t.Place(); kind != "host" {
			slowest[t.Shot] = max(slowest[t.Shot], t.Frame)
		}
	}
	for _, s := range p.Shots {
		end = max(end, s.Ready, s.Deadline)
		work += slowest[s.ID]*Millis(s.Frames) + transfers[s.ID]
	}
	for _, o := range p.Offers {
		end = max(end, o.Lead)
	}
	for _, f := range p.Farms {
		end = max(end, f.Lead)
	}
	return end + work
}
