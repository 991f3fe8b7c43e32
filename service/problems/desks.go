package problems

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"rotanex.example/core/desks"
	"rotanex.example/core/planning"
	"rotanex.example/core/stock"
	"rotanex.example/service/hosts"
)

// open is when a host may be booked from a time on, outside what others have booked, and when
// it takes frames where that is more. A desk that is not lent now is taken to be lent again when that is to be expected.
func (b *builder) open(h hosts.Host, habits desks.Habits, free time.Time, others []taken) (bookable, hours [][2]planning.Millis) {
	var booked []stock.Window
	for _, t := range others {
		booked = append(booked, stock.Window{Start: t.Since, End: t.Until})
	}
	open := stock.Without(h.Opens(b.now, b.last.Add(horizon), b.Zone), booked)
	if h.Desk == nil {
		return b.windows(desks.From(open, free)), nil
	}
	if h.AllKept() && len(open) > 0 && !open[0].Start.After(b.now) { // else it is lent when its hours begin
		back := b.now.Add(habits.For)
		if !h.Desk.Until.IsZero() {
			back = h.Desk.Until
		}
		if back.After(free) {
			free = back
		}
	}
	open = desks.From(open, free)
	var deadlines []time.Time
	for _, s := range b.problem.Shots {
		deadlines = append(deadlines, b.now.Add(s.Deadline.Duration()))
	}
	return b.windows(habits.Bookable(open, deadlines)), b.windows(open)
}

func (b *builder) windows(all []stock.Window) [][2]planning.Millis {
	out := [][2]planning.Millis{}
	for _, w := range all {
		out = append(out, [2]planning.Millis{b.millis(w.Start), b.millis(w.End)})
	}
	return out
}

// deskKeeps reports whether a crew of a desk is not planned for, and says so: its owner took
// it back for good, or works beside what is lent and keeps some of its devices back.
func (b *builder) deskKeeps(shot string, h hosts.Host, c stock.Crew) bool {
	why := h.Desk.Keeps(c.Devices)
	forGood := why != "" && h.Desk.State == hosts.TakenBack && h.Desk.Until.IsZero()
	if why == "" || h.AllKept() && !forGood { // all of it is lent again later
		return false
	}
	b.leaveOut(shot, h.Name, c.ID, "is not lent now: "+why, "plan again once its owner lends it")
	return true
}

// AboutDesks says how the desks of a plan are expected to be taken back.
func (n Notes) AboutDesks() (out []string) {
	for _, host := range slices.Sorted(maps.Keys(n.Desks)) {
		h := n.Desks[host]
		seen := "assumed, as nobody has seen it yet"
		if h.Taken > 0 {
			seen = fmt.Sprintf("seen %d times", h.Taken)
		}
		out = append(out, fmt.Sprintf("%s: a desk that is taken back every %.1f h of its hours for %.1f h (%s)", host, h.Every.Hours(), h.For.Hours(), seen))
	}
	return out
}
