package timing

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Member is one device of a crew as far as time goes. Members of one model on
// links of one kind are alike.
type Member struct {
	Model string `json:"model"`
	CPU   bool   `json:"cpu,omitempty"`
	Link  string `json:"link,omitempty"` // to the CPU: lanes, such as 16, or any name; "" is not known
	// Like is a family whose devices are probably alike, for a device whose model is
	// not known; "" else.
	Like string `json:"-"`
}

// Place is a crew on a host, as far as time goes.
type Place struct {
	Host    string   `json:"host"`
	Crew    string   `json:"crew"` // the devices joined with +
	Members []Member `json:"members"`
	Backend string   `json:"backend,omitempty"`
	// Renderer is the program; device rates are learnt for each by itself. "" is the
	// one that all times are of.
	Renderer string `json:"renderer,omitempty"`
}

// model is the name under which a member's rate is learnt.
func (p Place) model(m Member) string {
	if p.Renderer == "" {
		return m.Model
	}
	return m.Model + " with " + p.Renderer
}

// devices returns how many of the members are GPUs and whether the CPU is one.
func (p Place) devices() (gpus int, cpu bool) {
	for _, m := range p.Members {
		if m.CPU {
			cpu = true
		} else {
			gpus++
		}
	}
	return gpus, cpu
}

// Observation is a frame that was rendered, or several alike.
type Observation struct {
	// Subject is what was rendered: a shot with its settings. Times of different
	// subjects are never set into a ratio.
	Subject string
	Place   Place
	// Part is the frame or the stretch of the shot that it is from; frames of one
	// part count as equally heavy. "" where that is not known.
	Part string
	// Condition is what else may have made it slow or fast, such as power=battery;
	// "" is the usual one.
	Condition string
	Seconds   float64 // above 0
	// Fixed and Load are the seconds that the renderer itself says it spent on
	// what does not shrink with more devices, and on loading them; 0 is not known.
	Fixed, Load float64
	// Frames is how many frames Seconds is the typical value of; 0 counts as 1.
	Frames int
}

// Shortest and Longest are the bounds of a frame's time, in seconds: a millisecond, and a month.
const Shortest, Longest = 0.001, 31 * 24 * 3600.0

// IsTime reports whether seconds can be what a frame took.
func IsTime(seconds float64) bool { return seconds >= Shortest && seconds <= Longest }

func (o Observation) validate() error {
	if !IsTime(o.Seconds) {
		return fmt.Errorf("%s on %s/%s took %g seconds: want %g to %g", o.Subject, o.Place.Host, o.Place.Crew, o.Seconds, Shortest, Longest)
	}
	for _, part := range []float64{o.Fixed, o.Load} {
		if !(part >= 0 && part <= Longest) {
			return fmt.Errorf("%s on %s/%s spent %g seconds on a part of it: want 0 to %g", o.Subject, o.Place.Host, o.Place.Crew, part, Longest)
		}
	}
	if len(o.Place.Members) == 0 {
		return fmt.Errorf("%s on %s: a crew with no device", o.Subject, o.Place.Host)
	}
	return nil
}

// lanes reads a link such as 16, x16 or 4x as a number of lanes.
func lanes(link string) (float64, bool) {
	n, err := strconv.ParseFloat(strings.Trim(strings.ToLower(strings.TrimSpace(link)), "x"), 64)
	return n, err == nil && n > 0
}

// cell is what was observed of one subject, place, part and condition together.
type cell struct {
	Observation
	log    float64 // of the typical seconds
	frames int     // that it is typical of
	spread float64 // squared deviations of the logs within it, summed
	free   int     // degrees of freedom of spread
}

// cellKey names the members too: without host names, two machines may both have a g0.
type cellKey struct{ subject, host, crew, members, backend, part, condition string }

func (o Observation) key() cellKey {
	var members strings.Builder
	for _, m := range o.Place.Members {
		members.WriteString(m.Model + "+")
	}
	return cellKey{o.Subject, o.Place.Host, o.Place.Crew, members.String(), o.Place.Backend, o.Part, o.Condition}
}

// cells gathers observations of the same thing. Each cell's typical time is the
// median of its logs, so that one bad frame among several does no harm.
func cells(all []Observation) []cell {
	logs := map[cellKey][]float64{}
	place := map[cellKey]int{}
	var out []cell
	for _, o := range all {
		k := o.key()
		i, known := place[k]
		if !known {
			i = len(out)
			place[k] = i
			out = append(out, cell{Observation: o})
		}
		c := &out[i]
		c.frames += max(1, o.Frames)
		c.Fixed, c.Load = max(c.Fixed, o.Fixed), max(c.Load, o.Load)
		logs[k] = append(logs[k], math.Log(o.Seconds))
	}
	for k, i := range place {
		l := logs[k]
		slices.Sort(l)
		c := &out[i]
		c.log = median(l)
		for _, x := range l {
			// A lone outlier must not pass for the noise of all.
			d := min(math.Abs(x-c.log), 0.2)
			c.spread += d * d
		}
		c.free = len(l) - 1
	}
	return out
}
