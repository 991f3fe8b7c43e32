package timing

import (
	"cmp"
	"math"
	"slices"
	"strings"
)

// Option is a crew into which a host's devices can be put, with what a frame takes
// on it.
type Option struct {
	Crew    string
	Devices []string
	Parts   Parts
}

// Limits are what keeps renderers of a shot from running side by side on a host. Licence
// seats are none: a host holds one, however many renderers it runs.
type Limits struct {
	Renderers int // that its memory holds
	Cores     int // each renderer takes one for itself and one for each GPU
}

// Division is one way to put a host's devices into crews.
type Division struct {
	Crews      []string `json:"crews"`
	FramesHour float64  `json:"frames_hour"`
	Idle       []string `json:"idle"` // devices that none of them has
	// Limited says what keeps the idle devices from work or the crews from their best; "" else.
	Limited string `json:"limited,omitempty"`
	alike   string // the same for divisions of like devices
}

// cpu is the name that a processor has as a device.
const cpu = cpuDevice

// Divide lists the ways to put the devices into crews among the options, the most
// frames an hour first. Ways that differ only in which of several like devices is
// where count as one; like tells what a device is like. weight is how heavy a frame's
// work is beside the options' own; 1 is as measured.
func Divide(options []Option, devices []string, like func(string) string, limits Limits, weight float64) []Division {
	var out []Division
	seen := map[string]bool{}
	var chosen []Option
	var walk func(from int)
	walk = func(from int) {
		if len(chosen) > 0 {
			if d := together(chosen, devices, like, limits, weight); !seen[d.alike] {
				seen[d.alike] = true
				out = append(out, d)
			}
		}
		if len(chosen) == limits.Renderers || len(out) >= mostDivisions {
			return
		}
		for i := from; i < len(options); i++ {
			if disjoint(chosen, options[i]) {
				chosen = append(chosen, options[i])
				walk(i + 1)
				chosen = chosen[:len(chosen)-1]
			}
		}
	}
	walk(0)
	slices.SortStableFunc(out, func(a, b Division) int {
		return cmp.Or(cmp.Compare(b.FramesHour, a.FramesHour), cmp.Compare(len(a.Crews), len(b.Crews)))
	})
	return out
}

// mostDivisions bounds the search on a host of many unlike devices.
const mostDivisions = 5000

func disjoint(chosen []Option, o Option) bool {
	for _, c := range chosen {
		for _, d := range c.Devices {
			if slices.Contains(o.Devices, d) {
				return false
			}
		}
	}
	return true
}

// together is what crews do side by side. Each renderer wants a core for itself and
// one to feed each GPU; where the host has fewer, the parts on the CPU take longer by
// as much. A crew that renders on the CPU has the cores that the others leave, and
// the others' parts on the CPU take twice as long beside it.
func together(crews []Option, devices []string, like func(string) string, limits Limits, weight float64) Division {
	d := Division{Idle: []string{}}
	wanted := 0.0 // cores, but for rendering
	rendering := -1
	for i, c := range crews {
		wanted++
		for _, id := range c.Devices {
			if id != cpu {
				wanted++
			} else {
				rendering = i
			}
		}
	}
	cores := float64(limits.Cores)
	slower, work := 1.0, 1.0 // of parts on the CPU, and of work on it
	if cores > 0 && wanted > cores {
		slower = wanted / cores
		d.Limited = "too few cores to feed all of them"
	}
	if rendering >= 0 && len(crews) > 1 && cores > 0 {
		own := 1.0 // the CPU's own crew's
		if gpus := len(crews[rendering].Devices) - 1; gpus > 0 {
			own += float64(gpus)
		}
		work = cores / max(0.1*cores, cores-(wanted-own))
		slower *= 2
	}
	var kinds []string
	for i, c := range crews {
		d.Crews = append(d.Crews, c.Crew)
		own := c.Parts.Work * weight
		if i == rendering {
			own *= work
		}
		d.FramesHour += 3600 / ((c.Parts.Fixed+c.Parts.Load)*slower + own)
		var models []string
		for _, id := range c.Devices {
			models = append(models, like(id))
		}
		slices.Sort(models)
		kinds = append(kinds, strings.Join(models, "+"))
	}
	for _, id := range devices {
		if id != cpu && !slices.ContainsFunc(crews, func(c Option) bool { return slices.Contains(c.Devices, id) }) {
			d.Idle = append(d.Idle, id)
		}
	}
	if len(d.Idle) > 0 && len(crews) == limits.Renderers {
		d.Limited = "the host's memory holds no further renderer"
	}
	slices.Sort(kinds)
	d.alike = strings.Join(kinds, " ")
	return d
}

// BreakEven is the frame weight at which two divisions do the same: frames heavier
// than it go faster on the one called large, lighter ones on the other. It is how
// many times the work of a typical frame of the shot; false where one of them is the
// better at every weight from a hundredth to a hundred times.
func BreakEven(large, small []Option, devices []string, like func(string) string, limits Limits) (weight float64, ok bool) {
	ahead := func(w float64) float64 {
		return math.Log(together(large, devices, like, limits, w).FramesHour / together(small, devices, like, limits, w).FramesHour)
	}
	low, high := 0.01, 100.0
	if ahead(low) >= 0 || ahead(high) <= 0 {
		return 0, false
	}
	for range 60 {
		middle := math.Sqrt(low * high)
		if ahead(middle) < 0 {
			low = middle
		} else {
			high = middle
		}
	}
	return math.Sqrt(low * high), true
}
