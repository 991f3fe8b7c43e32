package planning

import (
	"cmp"
	"maps"
	"slices"
)

// span is a stretch of time, [start, end).
type span struct{ start, end Millis }

// use is what a booking already placed takes of a host.
type use struct {
	span
	devices []string
	ram     Memory
}

// calendar is what the shots already placed in a plan have taken, so that the
// next one is planned around them.
type calendar struct {
	hosts   [][]use
	servers []int             // of each offer, how many are taken
	farms   []Millis          // of each farm, when its nodes are all free again
	charged []float64         // of each farm, what it charges so far, before its least charge
	uploads map[string]Millis // of each source, when the line to it is free
	seats   map[string]int    // of each licence, how many units hold a seat at some time
}

func newCalendar(m *model) *calendar {
	return &calendar{
		hosts:   make([][]use, len(m.Hosts)),
		servers: make([]int, len(m.Offers)),
		farms:   make([]Millis, len(m.Farms)),
		charged: make([]float64, len(m.Farms)),
		uploads: map[string]Millis{},
		seats:   map[string]int{},
	}
}

// uploaded returns when the package of a shot can be at the source.
func (c *calendar) uploaded(s shotModel, source string, t Transfer) Millis {
	if t.Upload == 0 {
		return s.Ready
	}
	return max(s.Ready, c.uploads[source]) + t.Upload
}

// free returns when a crew of host h may work on the shot before the deadline:
// inside the windows, its devices unused, and with memory for `beside` renderers
// of the shot beside what others use.
func (c *calendar) free(m *model, h int, crew Crew, s shotModel, beside int, deadline Millis) []span {
	var out []span
	for _, w := range m.Hosts[h].Windows {
		if x := (span{max(w[0], s.Ready), min(w[1], deadline)}); x.end > x.start {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b span) int { return cmp.Compare(a.start, b.start) })
	out = disjoint(out)
	for _, blocked := range c.blocked(m.Hosts[h], h, crew, s.RAM*Memory(beside)) {
		out = without(out, blocked)
	}
	return out
}

// blocked lists when the host cannot take more work on the crew's devices, or
// has less memory left than is needed.
func (c *calendar) blocked(host Host, h int, crew Crew, ram Memory) []span {
	var out []span
	var edges []Millis
	for _, u := range c.hosts[h] {
		if slices.ContainsFunc(u.devices, func(d string) bool { return slices.Contains(crew.Devices, d) }) {
			out = append(out, u.span)
		}
		edges = append(edges, u.start, u.end)
	}
	if host.RAM == nil || ram == 0 {
		return out
	}
	slices.Sort(edges)
	edges = slices.Compact(edges)
	for i := 1; i < len(edges); i++ {
		var used Memory
		for _, u := range c.hosts[h] {
			if u.start <= edges[i-1] && edges[i] <= u.end {
				used += u.ram
			}
		}
		if used+ram > *host.RAM && used > 0 {
			out = append(out, span{edges[i-1], edges[i]})
		}
	}
	return out
}

// disjoint cuts sorted spans so that none starts before the one before it ends.
// Windows that touch stay apart: a booking lies inside one of them.
func disjoint(sorted []span) []span {
	var out []span
	for _, x := range sorted {
		if n := len(out); n > 0 && x.start < out[n-1].end {
			x.start = out[n-1].end
		}
		if x.end > x.start {
			out = append(out, x)
		}
	}
	return out
}

// without cuts a stretch out of sorted, disjoint spans.
func without(spans []span, cut span) []span {
	var out []span
	for _, x := range spans {
		if cut.end <= x.start || x.end <= cut.start {
			out = append(out, x)
			continue
		}
		if x.start < cut.start {
			out = append(out, span{x.start, cut.start})
		}
		if cut.end < x.end {
			out = append(out, span{cut.end, x.end})
		}
	}
	return out
}

func (c *calendar) clone() *calendar {
	out := *c
	out.hosts = make([][]use, len(c.hosts))
	for i, uses := range c.hosts {
		out.hosts[i] = slices.Clone(uses)
	}
	out.servers, out.farms, out.charged = slices.Clone(c.servers), slices.Clone(c.farms), slices.Clone(c.charged)
	out.uploads, out.seats = maps.Clone(c.uploads), maps.Clone(c.seats)
	return &out
}
