// Package desks reckons with machines that somebody works at: they are lent inside their
// hours, and taken back now and then. From how often they were it says how much of their
// hours a plan may count on, and never lets the last frames before a deadline rest on one.
//
//	habits := desks.Learn(uses, open)      // of the last weeks
//	bookable := habits.Bookable(open, deadlines)
package desks

import (
	"slices"
	"time"

	"rotanex.example/core/stock"
)

// Use is a stretch of time in which a desk was its owner's.
type Use struct {
	Began, Ended time.Time
	Lasts        bool // it is its owner's still: Ended is now
}

// Habits are how a desk is taken back.
type Habits struct {
	Taken int           // how often it was
	Every time.Duration // it is lent for so long, in the mean, until it is
	For   time.Duration // it then is its owner's for so long, in the mean
}

// What is assumed of a desk of which nothing is known, and weighs as much as one use.
const (
	DefaultEvery = 8 * time.Hour
	DefaultFor   = time.Hour
)

// Learn says how a desk was taken back inside its hours. The time in which it was neither
// its owner's nor closed counts as lent.
func Learn(uses []Use, open []stock.Window) Habits {
	h := Habits{}
	used, all, over := DefaultFor, DefaultEvery+DefaultFor, 1
	for _, w := range open {
		all += w.End.Sub(w.Start)
	}
	for _, u := range uses {
		var inside time.Duration
		for _, w := range open {
			both := w.Overlap(stock.Window{Start: u.Began, End: u.Ended})
			inside += max(0, both.End.Sub(both.Start))
		}
		if inside < brief {
			continue
		}
		h.Taken++
		used += inside
		if !u.Lasts { // how long one is that lasts is not known yet
			over++
		}
	}
	h.Every, h.For = max(time.Minute, (all-used)/time.Duration(h.Taken+1)), used/time.Duration(over)
	return h
}

// brief is how long a use is at least that says something: one that its hours' beginning ended
// reaches into them for as long as it takes to tell.
const brief = 5 * time.Minute

// Share is the part of its hours in which the desk is expected to be lent.
func (h Habits) Share() float64 {
	return h.Every.Seconds() / (h.Every + h.For).Seconds()
}

// Limits of what is kept free before a deadline.
const (
	leastFree = 15 * time.Minute
	tenth     = 10
)

// Bookable is the part of a desk's hours that a plan may book: of each stretch, up to the
// next deadline in it, as much as it is expected to be lent. What is kept free lies at its
// end, where it is needed when the desk was taken back before. Ahead of a deadline at least
// a tenth of the time to it is free, and a quarter of an hour, but no more than half: so
// whoever else is there can still render what the desk then owes.
func (h Habits) Bookable(open []stock.Window, deadlines []time.Time) (out []stock.Window) {
	deadlines = slices.SortedFunc(slices.Values(deadlines), time.Time.Compare)
	for _, w := range open {
		for _, d := range deadlines {
			if d.After(w.Start) && d.Before(w.End) {
				out = append(out, h.part(w.Start, d, d))
				w.Start = d
			}
		}
		due := time.Time{}
		if i := slices.IndexFunc(deadlines, func(d time.Time) bool { return !d.Before(w.End) }); i >= 0 {
			due = deadlines[i]
		}
		out = append(out, h.part(w.Start, w.End, due))
	}
	return out
}

// part is what may be booked of a stretch. Due is the deadline at its end or after it; zero:
// there is none.
func (h Habits) part(from, to, due time.Time) stock.Window {
	length := to.Sub(from)
	free := min(time.Duration((1-h.Share())*float64(length)), length/2)
	if !due.IsZero() {
		ahead := due.Sub(from)
		free = max(free, min(max(leastFree, ahead/tenth), ahead/2)-due.Sub(to))
	}
	return stock.Window{Start: from, End: to.Add(-free)}
}

// Lent adds to a desk's hours, from now on, what its owner lent by hand: until a time, or
// without one for an hour.
func Lent(open []stock.Window, now, until time.Time) []stock.Window {
	if until.IsZero() {
		until = now.Add(byHand)
	}
	if !until.After(now) {
		return open
	}
	out := []stock.Window{{Start: now, End: until}}
	for _, w := range open {
		switch {
		case w.Start.After(out[0].End):
			out = append(out, w)
		case w.End.After(out[0].End): // they touch
			out[0].End = w.End
		}
	}
	return out
}

// byHand is for how long a desk is counted on that was lent without saying until when.
const byHand = time.Hour

// From is what is left of a desk's hours from a time on.
func From(open []stock.Window, at time.Time) (out []stock.Window) {
	for _, w := range open {
		if w = w.Overlap(stock.Window{Start: at, End: w.End}); w.Start.Before(w.End) {
			out = append(out, w)
		}
	}
	return out
}
