package planning

// spare is memory used again and again, by a layout and all its clones.
type spare struct {
	free, seated, spans []span
	edges               []Millis
	changes             []change
	trial               machine
	missing             []int
	uploads             [][]sending
	flow                flow
	layouts             []*layout  // that were discarded
	machines            []*machine // of those
}

// over is a copy of a list in the place of another one that is not needed any more.
func over[T any](old, list []T) []T { return append(old[:0], list...) }

// last takes the last of a list off it, or makes one if there is none.
func last[T any](list *[]*T) *T {
	n := len(*list)
	if n == 0 {
		return new(T)
	}
	x := (*list)[n-1]
	*list = (*list)[:n-1]
	return x
}

// discard lets the memory of a layout be used again. Of its machines, those that were its own
// since it was last cloned are nobody else's.
func (l *layout) discard() {
	for k, mine := range l.own {
		if mine {
			l.spare.machines = append(l.spare.machines, l.machines[k])
		}
	}
	l.spare.layouts = append(l.spare.layouts, l)
}

// copy makes x a copy of another machine.
func (x *machine) copy(of *machine) {
	old := *x
	*x = *of
	x.jobs, x.held = over(old.jobs, of.jobs), over(old.held, of.held)
}

// tried is a copy of a machine, and of the layout to change only that in, to try what the
// machine could take. Both are overwritten by the next call.
func (l *layout) tried(x *machine) (layout, *machine) {
	t, room := *l, l.spare
	room.missing, room.uploads = over(room.missing, l.missing), over(room.uploads, l.uploads)
	room.flow = l.flow.over(room.flow)
	room.trial.copy(x)
	t.trying, t.missing, t.uploads, t.flow = true, room.missing, room.uploads, room.flow
	return t, &room.trial
}
