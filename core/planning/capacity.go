package planning

// capacity returns at least as many frames of the shot as can ever be rendered, were it
// alone and at any time, or the shot's frames where there is no limit.
func capacity(p Problem, s Shot) int {
	if s.Licence != "" && seatsOf(p, s.Licence) < 1 {
		return capacityAtFarms(p, s)
	}
	if capacityAtFarms(p, s) > 0 {
		return s.Frames
	}
	offers := ByID(p.Offers, func(o Offer) string { return o.ID })
	timed := map[string]map[string]Millis{} // of each host, what a frame takes on its crews
	for _, t := range p.Timings {
		switch {
		case t.Shot != s.ID:
		case t.Offer != "":
			if o := offers[t.Offer]; o.MaxServers > 0 && fitsIn(o.RAM, s.RAM) {
				return s.Frames // a server can stand as long as it takes
			}
		case t.Host != "":
			if timed[t.Host] == nil {
				timed[t.Host] = map[string]Millis{}
			}
			timed[t.Host][t.Crew] = t.Frame
		}
	}
	total := 0
	for _, h := range p.Hosts {
		if frames := timed[h.ID]; len(frames) > 0 && fitsIn(h.RAM, s.RAM) {
			total += hostCapacity(h, s, frames)
		}
		if total >= s.Frames {
			return s.Frames
		}
	}
	return total
}

func seatsOf(p Problem, licence string) int {
	for _, l := range p.Licences {
		if l.ID == licence {
			return l.Seats + l.ExtraSeats
		}
	}
	return 0
}

// capacityAtFarms is all of the shot's frames or none: farms have licences of their own,
// and work as long as it takes.
func capacityAtFarms(p Problem, s Shot) int {
	farms := ByID(p.Farms, func(f Farm) string { return f.ID })
	for _, t := range p.Timings {
		if t.Shot == s.ID && t.Farm != "" && farms[t.Farm].Nodes > 0 {
			return s.Frames
		}
	}
	return 0
}

func fitsIn(ram *Memory, need Memory) bool { return ram == nil || need <= *ram }

// hostCapacity bounds what a host renders in its windows. Crews share devices, so their
// frames do not add up: each device does at most its part of the crew that makes most of
// it. No more renderers run at once than memory holds.
func hostCapacity(h Host, s Shot, frames map[string]Millis) (total int) {
	perDevice := map[string]float64{} // frames a millisecond
	fastest := Millis(0)
	for _, c := range h.Crews {
		frame := frames[c.ID]
		if frame <= 0 {
			continue
		}
		if fastest == 0 || frame < fastest {
			fastest = frame
		}
		for _, d := range c.Devices {
			perDevice[d] = max(perDevice[d], 1/(float64(frame)*float64(len(c.Devices))))
		}
	}
	rate := 0.0
	for _, r := range perDevice {
		rate += r
	}
	if h.RAM != nil && s.RAM > 0 && fastest > 0 {
		rate = min(rate, float64(*h.RAM/s.RAM)/float64(fastest))
	}
	for _, w := range h.Windows {
		length := max(0, w[1]-max(w[0], s.Ready, 0))
		each := 0 // were there as many devices as crews
		for _, frame := range frames {
			each += int(length / frame)
		}
		const rounding = 1e-6
		total += min(each, int(rate*float64(length)+rounding))
	}
	return total
}
