package planning

import (
	"cmp"
	"slices"
	"strings"
)

// model is a Problem with its references resolved: for each shot, the machines
// that may render it.
type model struct {
	Problem
	shots []shotModel
}

type shotModel struct {
	Shot
	hosts  []pairing
	offers []pairing
	farms  []pairing
}

// pairing is one shot on one machine: which of its crews may render it and what
// a frame takes there.
type pairing struct {
	at       int // index into Problem.Hosts, Offers or Farms
	crews    []timedCrew
	transfer Transfer
}

type timedCrew struct {
	Crew
	frame Millis
}

func newModel(p Problem) *model {
	m := &model{Problem: p, shots: make([]shotModel, len(p.Shots))}
	shotAt := make(map[string]int, len(p.Shots))
	for i, s := range p.Shots {
		m.shots[i].Shot = s
		m.shots[i].Ready = max(0, s.Ready)
		shotAt[s.ID] = i
	}
	rows := map[[3]string][]Timing{} // shot, kind, place
	for _, t := range p.Timings {
		kind, id := t.Place()
		key := [3]string{t.Shot, kind, id}
		rows[key] = append(rows[key], t)
	}
	transfers := map[[2]string]Transfer{}
	for _, t := range p.Transfers {
		transfers[[2]string{t.Shot, t.Source}] = t
	}
	pair := func(s *shotModel, kind, id, source string, at int, crews []Crew) (pairing, bool) {
		out := pairing{at: at, transfer: transfers[[2]string{s.ID, source}]}
		for _, t := range rows[[3]string{s.ID, kind, id}] {
			if kind == "farm" {
				out.crews = append(out.crews, timedCrew{frame: t.Frame})
			}
			for _, c := range crews {
				if c.ID == t.Crew {
					out.crews = append(out.crews, timedCrew{c, t.Frame})
				}
			}
		}
		slices.SortStableFunc(out.crews, func(a, b timedCrew) int {
			return cmp.Or(cmp.Compare(a.frame, b.frame), strings.Compare(a.ID, b.ID))
		})
		return out, len(out.crews) > 0
	}
	for i := range m.shots {
		s := &m.shots[i]
		for at, h := range p.Hosts {
			if x, ok := pair(s, "host", h.ID, "", at, h.Crews); ok && (h.RAM == nil || *h.RAM >= s.RAM) {
				x.transfer = Transfer{}
				s.hosts = append(s.hosts, x)
			}
		}
		for at, o := range p.Offers {
			if x, ok := pair(s, "offer", o.ID, o.Source, at, o.Crews); ok && o.MaxServers > 0 && (o.RAM == nil || *o.RAM >= s.RAM) {
				s.offers = append(s.offers, x)
			}
		}
		for at, f := range p.Farms {
			if x, ok := pair(s, "farm", f.ID, f.Source, at, nil); ok && f.Nodes > 0 {
				s.farms = append(s.farms, x)
			}
		}
	}
	return m
}

// horizon is a time by which any plan that makes sense has ended.
func (m *model) horizon() Millis {
	var end, work Millis
	for _, h := range m.Hosts {
		for _, w := range h.Windows {
			end = max(end, w[1])
		}
	}
	for _, s := range m.shots {
		end = max(end, s.Ready, s.Deadline)
		var slowest Millis
		for _, list := range [][]pairing{s.offers, s.farms} {
			for _, x := range list {
				for _, c := range x.crews {
					slowest = max(slowest, c.frame+x.transfer.Upload+x.transfer.Delivery)
				}
			}
		}
		work += slowest * Millis(s.Frames)
	}
	for _, o := range m.Offers {
		end = max(end, o.Lead)
	}
	for _, f := range m.Farms {
		end = max(end, f.Lead)
	}
	return end + work
}

// capacity returns at least as many frames of the shot as can ever be rendered,
// were it alone, or the shot's frames where there is no limit.
func (s shotModel) capacity(m *model) int {
	if len(s.offers) > 0 && s.seats(m) > 0 || len(s.farms) > 0 {
		return s.Frames
	}
	total := 0
	for _, x := range s.hosts {
		if s.seats(m) == 0 {
			break
		}
		for _, c := range x.crews {
			for _, w := range m.Hosts[x.at].Windows {
				total += int(max(0, w[1]-max(w[0], s.Ready)) / c.frame)
			}
		}
	}
	return min(total, s.Frames)
}

// seats is the most units that may hold the shot's licence at once.
func (s shotModel) seats(m *model) int {
	for _, l := range m.Licences {
		if l.ID == s.Licence {
			return l.Seats + l.ExtraSeats
		}
	}
	return len(m.Hosts) + 1_000_000
}

// divisions lists the ways to work with several crews of one machine at once:
// the sets of crews that share no device, no more than limit of them, to which
// no other crew could be added. Sets that are alike in the given signature count
// once. At most maxDivisions are tried, in a fixed order.
func divisions(crews []timedCrew, limit int, signature func(timedCrew) string) [][]timedCrew {
	const maxDivisions = 4096
	var out [][]timedCrew
	seen := map[string]bool{}
	tried := 0
	var grow func(from int, chosen []timedCrew, used map[string]bool)
	free := func(c timedCrew, used map[string]bool) bool {
		return !slices.ContainsFunc(c.Devices, func(d string) bool { return used[d] })
	}
	grow = func(from int, chosen []timedCrew, used map[string]bool) {
		if tried >= maxDivisions {
			return
		}
		maximal := len(chosen) > 0
		if len(chosen) < limit {
			for i, c := range crews {
				if !free(c, used) {
					continue
				}
				maximal = false
				if i < from {
					continue
				}
				next := map[string]bool{}
				for d := range used {
					next[d] = true
				}
				for _, d := range c.Devices {
					next[d] = true
				}
				grow(i+1, append(slices.Clone(chosen), c), next)
			}
		}
		if maximal {
			tried++
			parts := make([]string, len(chosen))
			for i, c := range chosen {
				parts[i] = signature(c)
			}
			slices.Sort(parts)
			if key := strings.Join(parts, ";"); !seen[key] {
				seen[key] = true
				out = append(out, chosen)
			}
		}
	}
	grow(0, nil, map[string]bool{})
	return out
}

// renderers is how many renderers of the shot a machine's memory holds at once.
func renderers(ram *Memory, shot Memory) int {
	if ram == nil || shot == 0 {
		return 1 << 30
	}
	return int(*ram / shot)
}
