package planning

import (
	"context"
	"fmt"
	"strings"
)

// Shortage is what kept a problem from being met.
type Shortage struct {
	Shot   string `json:"shot,omitempty"`
	Frames int    `json:"frames,omitempty"` // that found no room in time
	Text   string `json:"text"`
}

// Shortages says what is short where a plan is late or impossible: frames of which
// shots find no room, and of what there is too little.
func Shortages(p Problem, plan Plan) []Shortage {
	var out []Shortage
	if plan.Status == Impossible {
		for _, lost := range plan.Impossible {
			out = append(out, Shortage{Shot: lost.Shot, Text: lost.Shot + ": " + lost.Why})
		}
		return out
	}
	if plan.Status == OverBudget {
		text := fmt.Sprintf("money: the cheapest plan found costs %s %s, the budget is %s %s", p.Currency, plan.Cost, p.Currency, p.Budget)
		return append(out, Shortage{Text: text})
	}
	if plan.Status != Late {
		return nil
	}
	due := make([]Millis, len(p.Shots))
	for i, s := range p.Shots {
		due[i] = s.Deadline
	}
	m := newModel(p, due)
	s := newSearch(context.Background(), m, &effort{200_000_000})
	l := newLayout(m, s.work)
	for i, x := range p.Licences {
		l.seats[i] += x.ExtraSeats
	}
	l.fill(s.order)
	for i, n := range l.missing {
		if n == 0 {
			continue
		}
		shot := p.Shots[i]
		text := fmt.Sprintf("%d of the %d frames of %s find no room before its deadline", n, shot.Frames, shot.ID)
		switch {
		case m.waits(i) && len(m.places[i]) > 0 && len(l.fed(i)) == 0:
			text += fmt.Sprintf(": it needs the frames of %s, and those come too late", strings.Join(shot.After, ", "))
		case len(m.places[i]) == 0:
			text += ": no place can finish a single frame of it in time"
		case shot.Licence != "" && len(m.seatGrid[m.licence[i]]) > 0 && len(l.taken(m.licence[i])) > 0:
			text += fmt.Sprintf("; all seats of %s are held part of the time", shot.Licence)
		default:
			text += fmt.Sprintf("; places that can render it: %d, all full", len(m.places[i]))
		}
		out = append(out, Shortage{shot.ID, n, text})
	}
	return out
}
