package runs

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"rotanex.example/api"
)

// stranded lists the shots whose waiting frames nobody is left to take, and why those
// who were booked for them cannot: nothing goes on there by itself.
func (s state) stranded(wall time.Time) (out []api.Stranded) {
	if s.State != "running" {
		return nil
	}
	for _, c := range s.counts {
		if c.State != "waiting" || c.N == 0 {
			continue
		}
		var why []string
		able := false
		for _, b := range s.bookings {
			if b.Shot != c.Shot {
				continue
			}
			cannot := s.cannot(b, wall)
			if able = cannot == ""; able {
				break
			}
			if said := b.Host + " " + cannot; !slices.Contains(why, said) {
				why = append(why, said)
			}
		}
		if !able {
			if len(why) > 4 {
				why = append(why[:4], fmt.Sprintf("and %d others", len(why)-4))
			}
			out = append(out, api.Stranded{Shot: c.Shot, Frames: c.N, Why: strings.Join(why, "; ")})
		}
	}
	return out
}

// cannot says why a booking's crew takes no further frame, ever, as things are; "" if it
// will.
func (s state) cannot(b Booking, wall time.Time) string {
	for _, j := range s.jobs {
		if j.BookingID == b.ID {
			if j.State == "planned" {
				return ""
			}
			return "has its job: it takes no more frames"
		}
	}
	switch {
	case b.Barred != "":
		return "gets no more of them: " + b.Barred
	case b.CloseAt != nil && !s.now.Add(duration(b.FrameS)).Before(*b.CloseAt):
		return "is closed"
	}
	for _, v := range s.servers {
		if v.Host != b.Host {
			continue
		}
		switch v.State {
		case "planned", "asked", "starting", "up":
			return ""
		case "never":
			return "was never made"
		}
		return "is ended"
	}
	host, known := s.hosts[b.Host]
	switch {
	case !known:
		return "is not in the stock any more"
	case !host.Up(wall):
		return "is not heard of"
	case host.Draining:
		return "is draining"
	}
	return ""
}
