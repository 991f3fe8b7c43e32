package simulate

import (
	"time"

	"rotanex.example/core/dispatch"
)

// hand plans when a farm's job begins.
func (s *Simulation) hand(i int) {
	for _, c := range s.hosts[i].Crews {
		c.Farm, c.State = true, dispatch.Coming
	}
	s.queue.push(event{at: max(s.now, s.Hosts[i].Begins.UnixNano()), kind: jobBegins, host: i})
}

// jobBegins hands a farm its frames: the last of the shot.
func (s *Simulation) jobBegins(host int) {
	h := &s.hosts[host]
	for i, c := range h.Crews {
		taken := s.shots[s.Crews[h.at[i]].Shot].takeLast(c)
		s.kindIsGone()
		s.wake(s.Crews[h.at[i]].Shot)
		c.Taken, c.State, c.Said = len(taken), dispatch.Gone, "has its job: it takes no more frames"
		h.held = append(h.held, taken...)
	}
	at := max(s.now, s.Hosts[host].Up.UnixNano())
	s.queue.push(event{at: at, kind: hostLooks, host: host})
}

// nodesTake gives a farm's free nodes the next of its frames.
func (s *Simulation) nodesTake(host int) {
	h := &s.hosts[host]
	for h.idle > 0 && len(h.held) > 0 {
		frame := h.held[0]
		h.held = h.held[1:]
		h.idle--
		crew := h.at[0]
		var all time.Duration
		fails := true
		for range dispatch.FarmTries {
			var takes time.Duration
			takes, fails = s.chance.Try(crew, frame.number, s.time().Add(all))
			if all += takes; !fails {
				break
			}
		}
		s.queue.push(event{at: s.now + int64(all), kind: frameEnds, host: host, crew: crew, frame: frame.number, fails: fails, kindOf: frame.kindOf})
	}
}
