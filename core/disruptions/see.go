package disruptions

import (
	"cmp"
	"slices"
	"time"
)

// Try is a try of a frame on one's own machine, that gave the frame or was lost with its host.
type Try struct {
	Run, Shot, Host, Crew string
	Number                int // of the frame
	Priority              int // of the run
	Lost                  bool
	Ended                 time.Time
	Seconds               float64
}

// What counts as a disruption. A crew's time for a shot is the lower quartile of what its
// frames took, so that it is what it takes undisturbed though most of them may have been
// disturbed.
const (
	leastFrames = 4                // of a crew, to say anything of it
	slowly      = 1.4              // times a crew's time, of frames in a row
	leastRow    = 3                // frames in a row
	leastLong   = 10 * time.Minute // from the first of them to the last
	heavily     = 1.25             // times a shot's earlier half, of its later
)

// See finds what upset runs in their tries, and over how much rendering in all.
func See(tries []Try) (seen Seen) {
	all := grouped(tries, func(t Try) string { return t.Run })
	for _, run := range all {
		seen.displaced(run, all)
		frames := against(run)
		for _, shot := range grouped(frames, func(f *frame) string { return f.Shot }) {
			seen.Shots++
			if by := grows(shot); by >= heavily {
				seen.Heavier = append(seen.Heavier, by)
			}
		}
		for _, host := range grouped(run, func(t Try) string { return t.Host }) {
			lasted, lost := stay(host)
			if seen.HostTime += lasted; lost {
				seen.Lost++
			}
		}
		for _, host := range grouped(frames, func(f *frame) string { return f.Host }) {
			seen.Slowed = append(seen.Slowed, slowdowns(host)...)
		}
	}
	return seen
}

// displaced adds how long a run took, and for how long more urgent ones that came meanwhile would
// have had all of its hosts.
func (s *Seen) displaced(run []Try, all [][]Try) {
	hosts := map[string]bool{}
	first, last := began(run[0]), run[0].Ended
	for _, t := range run {
		hosts[t.Host] = true
		if from := began(t); from.Before(first) {
			first = from
		}
		if t.Ended.After(last) {
			last = t.Ended
		}
	}
	s.RunTime += last.Sub(first)
	for _, other := range all {
		if other[0].Priority <= run[0].Priority {
			continue
		}
		var had float64
		came := false
		for _, t := range other {
			if from := began(t); hosts[t.Host] && from.After(first) && from.Before(last) {
				had, came = had+t.Seconds, true
			}
		}
		if came {
			s.Urgent = append(s.Urgent, time.Duration(had/float64(len(hosts))*float64(time.Second)))
		}
	}
}

// frame is one that was rendered, and how many times its crew's time it took.
type frame struct {
	Try
	over float64
}

// grouped are the parts of a list that have a key in common, in the order of their first.
func grouped[T any](list []T, key func(T) string) (out [][]T) {
	at := map[string]int{}
	for _, x := range list {
		k := key(x)
		i, known := at[k]
		if !known {
			i = len(out)
			at[k], out = i, append(out, nil)
		}
		out[i] = append(out[i], x)
	}
	return out
}

// against holds a run's frames against their crews' times. Those of crews with too few are
// left out.
func against(run []Try) (out []*frame) {
	for _, crew := range grouped(run, func(t Try) string { return t.Shot + " " + t.Host + "/" + t.Crew }) {
		var seconds []float64
		for _, t := range crew {
			if !t.Lost && t.Seconds > 0 {
				seconds = append(seconds, t.Seconds)
			}
		}
		if len(seconds) < leastFrames {
			continue
		}
		slices.Sort(seconds)
		for _, t := range crew {
			if !t.Lost && t.Seconds > 0 {
				out = append(out, &frame{t, t.Seconds / seconds[len(seconds)/4]})
			}
		}
	}
	return out
}

// grows is by how much the later half of a shot's frames took longer than the earlier. What is
// the shot's is no host's: its later frames are held against that from then on.
func grows(shot []*frame) float64 {
	if len(shot) < 2*leastFrames {
		return 1
	}
	slices.SortFunc(shot, func(a, b *frame) int { return cmp.Compare(a.Number, b.Number) })
	half := len(shot) / 2
	by := middle(shot[half:]) / middle(shot[:half])
	if by >= heavily {
		for _, f := range shot[half:] {
			f.over /= by
		}
	}
	return by
}

func middle(frames []*frame) float64 {
	var over []float64
	for _, f := range frames {
		over = append(over, f.over)
	}
	slices.Sort(over)
	return over[len(over)/2]
}

// stay is how long a host took part in a run, and whether it was lost in it for good.
func stay(host []Try) (lasted time.Duration, lost bool) {
	slices.SortFunc(host, func(a, b Try) int { return a.Ended.Compare(b.Ended) })
	first, last := host[0], host[len(host)-1]
	return last.Ended.Sub(began(first)), last.Lost
}

func began(t Try) time.Time { return t.Ended.Add(-time.Duration(t.Seconds * float64(time.Second))) }

// slowdowns are the stretches in which a host took longer for all its frames.
func slowdowns(host []*frame) (out []Slowdown) {
	slices.SortFunc(host, func(a, b *frame) int { return a.Ended.Compare(b.Ended) })
	var row []*frame
	end := func() {
		if len(row) >= leastRow {
			if lasted := row[len(row)-1].Ended.Sub(began(row[0].Try)); lasted >= leastLong {
				out = append(out, Slowdown{Lasted: lasted, Times: middle(row)})
			}
		}
		row = nil
	}
	for _, f := range host {
		if f.over < slowly {
			end()
			continue
		}
		row = append(row, f)
	}
	end()
	return out
}
