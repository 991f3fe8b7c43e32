package stock

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Hours is when a host is free in every week, in the zone of the planner: on the
// given days from From to To ("19:00"). A To at or before From is on the next
// day. Without From and To it is the whole day.
type Hours struct {
	Days string `json:"days" yaml:"days"` // such as mon-fri or sat,sun
	From string `json:"from,omitempty" yaml:"from,omitempty"`
	To   string `json:"to,omitempty" yaml:"to,omitempty"`
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Validate says what is wrong with the hours, or nil.
func (h Hours) Validate() error {
	if _, err := h.days(); err != nil {
		return err
	}
	_, _, err := h.clock()
	return err
}

func (h Hours) days() ([7]bool, error) {
	var on [7]bool
	for part := range strings.SplitSeq(strings.ToLower(h.Days), ",") {
		first, last, ranged := strings.Cut(strings.TrimSpace(part), "-")
		if !ranged {
			last = first
		}
		i, j := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if i < 0 || j < 0 {
			return on, fmt.Errorf("days %q: want for example mon-fri or sat,sun", h.Days)
		}
		for d := i; ; d = (d + 1) % 7 {
			on[d] = true
			if d == j {
				break
			}
		}
	}
	return on, nil
}

// clock returns From and To as times since midnight, To after From.
func (h Hours) clock() (from, to time.Duration, err error) {
	parse := func(text string) (time.Duration, error) {
		t, err := time.Parse("15:04", text)
		if err != nil {
			return 0, fmt.Errorf("time of day %q: want for example 19:00", text)
		}
		return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute, nil
	}
	if h.From == "" && h.To == "" {
		return 0, 24 * time.Hour, nil
	}
	if from, err = parse(h.From); err != nil {
		return 0, 0, err
	}
	if to, err = parse(h.To); err != nil {
		return 0, 0, err
	}
	if to <= from {
		to += 24 * time.Hour
	}
	return from, to, nil
}

// Window is a stretch of time, [Start, End).
type Window struct{ Start, End time.Time }

// Overlap is what two windows have in common; where that is nothing, it does not end after
// it starts.
func (w Window) Overlap(o Window) Window {
	return Window{latest(w.Start, o.Start), earliest(w.End, o.End)}
}

// Without is what is left of windows, in rising order, outside others.
func Without(open, others []Window) []Window {
	for _, o := range others {
		var left []Window
		for _, w := range open {
			for _, part := range []Window{{w.Start, earliest(w.End, o.Start)}, {latest(w.Start, o.End), w.End}} {
				if part.Start.Before(part.End) {
					left = append(left, part)
				}
			}
		}
		open = left
	}
	return open
}

// Windows returns when the host is open between start and end, in rising order,
// stretches that touch joined. Days and times of day are those of the zone.
func (h Host) Windows(start, end time.Time, zone *time.Location) []Window {
	if len(h.Open) == 0 {
		return []Window{{start, end}}
	}
	var out []Window
	first := start.In(zone).AddDate(0, 0, -2)
	midnight := time.Date(first.Year(), first.Month(), first.Day(), 0, 0, 0, 0, zone)
	for day := midnight; day.Before(end); day = day.AddDate(0, 0, 1) {
		for _, hours := range h.Open {
			on, _ := hours.days()
			if !on[day.Weekday()] {
				continue
			}
			from, to, _ := hours.clock()
			// Clock times, not lengths: a day with a change of the clocks is not 24 hours long.
			at := func(d time.Duration) time.Time {
				return time.Date(day.Year(), day.Month(), day.Day(), 0, int(d.Minutes()), 0, 0, zone)
			}
			w := Window{start, end}.Overlap(Window{at(from), at(to)})
			if w.Start.Before(w.End) {
				out = append(out, w)
			}
		}
	}
	slices.SortFunc(out, func(a, b Window) int { return a.Start.Compare(b.Start) })
	joined := out[:0]
	for _, w := range out {
		if n := len(joined); n > 0 && !w.Start.After(joined[n-1].End) {
			joined[n-1].End = latest(joined[n-1].End, w.End)
			continue
		}
		joined = append(joined, w)
	}
	return joined
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earliest(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
