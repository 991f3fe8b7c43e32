package rehearsal

import (
	"slices"
	"time"

	"rotanex.example/core/desks"
	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/simulate"
	"rotanex.example/core/stock"
)

// desk is a host that somebody works at: its hours, and when it is its owner's inside them.
type desk struct {
	open []stock.Window
	away []simulate.Away
}

// takenBack draws when a desk's owner comes: up to three times while the weekend lasts, for
// twenty minutes to four hours.
func (d *drawing) takenBack(lasts time.Duration) {
	for _, h := range d.w.Problem.Hosts {
		if _, is := d.w.desks[h.ID]; !is {
			continue
		}
		one := desk{open: windows(friday, h.Windows)}
		for range d.IntN(4) {
			from := friday.Add(time.Duration(d.Float64() * float64(lasts)))
			one.away = append(one.away, simulate.Away{From: from, To: from.Add(millis(d.between(0.33, 4)).Duration())})
		}
		d.w.desks[h.ID] = one.apart()
	}
}

// apart has an owner who comes while being there stay until the later of both times.
func (x desk) apart() desk {
	slices.SortFunc(x.away, func(a, b simulate.Away) int { return a.From.Compare(b.From) })
	var out []simulate.Away
	for _, a := range x.away {
		if last := len(out) - 1; last >= 0 && !a.From.After(out[last].To) {
			out[last].To = latest(out[last].To, a.To)
			continue
		}
		out = append(out, a)
	}
	x.away = out
	return x
}

// uses are the desk's owner's times, until the weekend is over.
func (x desk) uses(over time.Time) (out []desks.Use) {
	for _, a := range x.away {
		if a.From.Before(over) {
			out = append(out, desks.Use{Began: a.From, Ended: a.To})
		}
	}
	return out
}

// inUse is until when the desk is its owner's; zero: it is lent.
func (x desk) inUse(now time.Time) time.Time {
	for _, a := range x.away {
		if !a.From.After(now) && a.To.After(now) {
			return a.To
		}
	}
	return time.Time{}
}

// books has a desk booked from a time on as its habits allow: windows are ms after now.
func (w Weekend) books(h planning.Host, now time.Time) planning.Host {
	habits, is := w.Uncertainty.Desks[h.ID]
	if !is {
		return h
	}
	var due []time.Time
	for _, s := range w.Problem.Shots {
		due = append(due, w.Problem.Start.Add(s.Deadline.Duration()))
	}
	h.Open = h.Windows
	h.Windows = after(now, habits.Bookable(windows(now, h.Open), due))
	return h
}

// habits is how desks of the house are taken back, as earlier weekends had it.
func habits(weekends []Weekend) desks.Habits {
	var uses []desks.Use
	var open []stock.Window
	for i, w := range weekends {
		// One weekend after another: they are all drawn for the same Friday.
		later := time.Duration(i) * 7 * 24 * time.Hour
		over := w.Problem.Start.Add(w.Problem.Shots[0].Deadline.Duration())
		for _, id := range w.deskNames() {
			for _, o := range w.desks[id].open {
				o = o.Overlap(stock.Window{Start: w.Problem.Start, End: over})
				if o.Start.Before(o.End) {
					open = append(open, stock.Window{Start: o.Start.Add(later), End: o.End.Add(later)})
				}
			}
			for _, u := range w.desks[id].uses(over) {
				uses = append(uses, desks.Use{Began: u.Began.Add(later), Ended: u.Ended.Add(later)})
			}
		}
	}
	return desks.Learn(uses, open)
}

// deskNames are the hosts that are desks, in the order of the problem.
func (w Weekend) deskNames() (out []string) {
	for _, h := range w.Problem.Hosts {
		if _, is := w.desks[h.ID]; is {
			out = append(out, h.ID)
		}
	}
	return out
}

func windows(from time.Time, all [][2]planning.Millis) (out []stock.Window) {
	for _, w := range all {
		out = append(out, stock.Window{Start: from.Add(w[0].Duration()), End: from.Add(w[1].Duration())})
	}
	return out
}

func after(from time.Time, all []stock.Window) [][2]planning.Millis {
	out := [][2]planning.Millis{}
	for _, w := range all {
		if w.Start.Before(w.End) {
			out = append(out, [2]planning.Millis{planning.MillisOf(w.Start.Sub(from)), planning.MillisOf(w.End.Sub(from))})
		}
	}
	return out
}

// ownersCome lets what a desk rendered be given back as its owner comes, and reports whether a
// desk was taken back or lent again.
func (p *play) ownersCome() (news bool) {
	for _, id := range p.w.deskNames() {
		used := !p.w.desks[id].inUse(p.now).IsZero()
		if used == p.used[id] {
			continue
		}
		news = true
		if p.used[id] = used; used {
			p.neverDone(id)
		}
	}
	return news
}

// neverDone forgets what a host would have done that it gives back.
func (p *play) neverDone(host string) {
	p.done = slices.DeleteFunc(p.done, func(f finished) bool { return f.Host == host && f.Ended.After(p.now) })
}

// lendsLater has crews of desks wait that are their owners' now.
func (p *play) lendsLater(crews []simulate.Crew) {
	for i := range crews {
		if c := &crews[i]; c.State == dispatch.Ready && p.used[c.Crew.Host] {
			c.State = dispatch.InUse
		}
	}
}
