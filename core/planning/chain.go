package planning

import (
	"cmp"
	"fmt"
	"slices"
)

// ranks is how many steps each shot is behind one that needs nothing, or what is wrong with `after`.
func ranks(shots []Shot) ([]int, []error) {
	at := make(map[string]int, len(shots))
	for i, s := range shots {
		at[s.ID] = i
	}
	var faults []error
	for _, s := range shots {
		for _, id := range s.After {
			i, known := at[id]
			switch {
			case !known:
				faults = append(faults, fmt.Errorf("shot %q: after %q: no such shot in the file", s.ID, id))
			case shots[i].Frames+s.Home[id] != s.Frames:
				faults = append(faults, fmt.Errorf("shot %q has %d frames, %q that it is after has %d and %d are home: want as many", s.ID, s.Frames, id, shots[i].Frames, s.Home[id]))
			}
		}
		if len(slices.Compact(slices.Sorted(slices.Values(s.After)))) < len(s.After) {
			faults = append(faults, fmt.Errorf("shot %q: after %q names a shot twice", s.ID, s.After))
		}
	}
	if faults != nil {
		return nil, faults
	}
	out := make([]int, len(shots))
	for round := 0; ; round++ {
		raised := -1
		for i, s := range shots {
			for _, id := range s.After {
				if least := out[at[id]] + 1; out[i] < least {
					out[i], raised = least, i
				}
			}
		}
		switch {
		case raised < 0:
			return out, nil
		case round > len(shots):
			return nil, []error{fmt.Errorf("shot %q: after %q goes round in a circle", shots[raised].ID, shots[raised].After)}
		}
	}
}

// input is a shot whose frames another needs; home is how many of them there are already.
type input struct{ shot, home int }

// chain is which shots of a model need which. Without any all is nil.
type chain struct {
	rank   []int     // of each shot, how many steps it is behind one that needs nothing
	last   int       // the greatest rank
	inputs [][]input // of each shot, those whose frames it needs
	feeds  []bool    // of each shot, whether others need its frames
	first  []Millis  // of each shot, no frame of it can start before
}

// link finds which shots need which, lets inputs be due by when they are needed at the latest,
// and finds when at the earliest there can be any. Both are true of every plan, so the bound holds.
func (m *model) link(rows map[string][]place) {
	of, _ := ranks(m.Shots)
	last := slices.Max(of)
	if last == 0 {
		return
	}
	n := len(m.Shots)
	m.chain = chain{of, last, make([][]input, n), make([]bool, n), make([]Millis, n)}
	at := make(map[string]int, n)
	for i, s := range m.Shots {
		at[s.ID] = i
	}
	order := everyShot(n)
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(of[a], of[b]) })
	for _, i := range order {
		for _, id := range m.Shots[i].After {
			k := at[id]
			m.inputs[i] = append(m.inputs[i], input{k, m.Shots[i].Home[id]})
			m.feeds[k] = true
			if m.Shots[i].Home[id] > 0 {
				continue
			}
			home := never
			for _, p := range rows[id] {
				home = min(home, p.earliest(max(0, m.Shots[k].Ready), m.first[k]))
			}
			m.first[i] = max(m.first[i], home)
		}
	}
	m.due = slices.Clone(m.due)
	slices.Reverse(order)
	for _, i := range order {
		start := -never
		for _, p := range rows[m.Shots[i].ID] {
			start = max(start, p.latest(m.due[i]))
		}
		for _, in := range m.inputs[i] {
			m.due[in.shot] = min(m.due[in.shot], start)
		}
	}
}

// waits reports whether a shot needs frames of others.
func (m *model) waits(shot int) bool { return m.inputs != nil && m.inputs[shot] != nil }

func everyShot(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// Linked lets `after` of shots be as many frames of each are left: inputs of which fewer are left
// than of what needs them are home as far, and those that are not there at all need not be waited for.
func Linked(shots []Shot) []Shot {
	out := slices.Clone(shots)
	left := ByID(shots, func(s Shot) string { return s.ID })
	for i, s := range out {
		out[i].After, out[i].Home = nil, nil
		for _, id := range s.After {
			in, there := left[id]
			if !there || in.Frames > s.Frames {
				continue
			}
			out[i].After = append(out[i].After, id)
			if n := s.Frames - in.Frames; n > 0 {
				if out[i].Home == nil {
					out[i].Home = map[string]int{}
				}
				out[i].Home[id] = n
			}
		}
	}
	return out
}

// inTurn puts inputs right before what needs them, where they would come later.
func (m *model) inTurn(order []int) []int {
	if m.rank == nil {
		return order
	}
	out := make([]int, 0, len(order))
	var add func(shot int)
	add = func(shot int) {
		if slices.Contains(out, shot) {
			return
		}
		for _, in := range m.inputs[shot] {
			add(in.shot)
		}
		out = append(out, shot)
	}
	for _, s := range order {
		add(s)
	}
	return out
}

// place is one way to render a frame of a shot, with when that can be done.
type place struct {
	windows      [][2]Millis
	frame        Millis
	upload, home Millis
}

// earliest is when a first frame can be home, of a shot ready by a time whose inputs are there by another.
func (p place) earliest(ready, inputs Millis) Millis {
	from, out := max(ready+p.upload, inputs), never
	for _, w := range p.windows {
		if start := max(from, w[0], 0); w[1]-start >= p.frame {
			out = min(out, start+p.frame+p.home)
		}
	}
	return out
}

// latest is the latest that a frame can start which is home by the time due.
func (p place) latest(due Millis) Millis {
	out := -never
	for _, w := range p.windows {
		if start := min(w[1], due-p.home) - p.frame; start >= max(w[0], 0) {
			out = max(out, start)
		}
	}
	return out
}

// places lists, of each shot, all the ways to render it.
func (p Problem) places(transfers map[[2]string]Transfer) map[string][]place {
	hosts, offers := ByID(p.Hosts, func(h Host) string { return h.ID }), ByID(p.Offers, func(o Offer) string { return o.ID })
	farms := ByID(p.Farms, func(f Farm) string { return f.ID })
	out := map[string][]place{}
	for _, t := range p.Timings {
		x := place{frame: t.Frame}
		var sent Transfer
		switch kind, id := t.Place(); kind {
		case "host":
			x.windows = hosts[id].Windows
		case "offer":
			x.windows, sent = [][2]Millis{{offers[id].Lead, never}}, transfers[[2]string{t.Shot, offers[id].Source}]
		default:
			x.windows, sent = [][2]Millis{{farms[id].Lead, never}}, transfers[[2]string{t.Shot, farms[id].Source}]
		}
		x.upload, x.home = sent.Upload, sent.Delivery
		out[t.Shot] = append(out[t.Shot], x)
	}
	return out
}
