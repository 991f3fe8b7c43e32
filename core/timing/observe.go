package timing

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Observe turns times into observations, and says which time each is of: warm-ups
// are left out.
func Observe(all []Time) (observed []Observation, of []int) {
	usual := usualConditions(all)
	for i, t := range all {
		if t.WarmUp {
			continue
		}
		o := Observation{Subject: t.Subject(), Place: t.Place(), Condition: unusual(t.Conditions, usual), Seconds: t.Seconds, Fixed: t.Fixed, Load: t.Load}
		switch {
		case t.Stretch != "":
			o.Part = t.Stretch
		case t.Frame != nil:
			o.Part = strconv.Itoa(*t.Frame)
		}
		observed, of = append(observed, o), append(of, i)
	}
	// Frames that all are one and the same need no weight of their own.
	parts := map[string]map[string]bool{}
	for _, o := range observed {
		if parts[o.Subject] == nil {
			parts[o.Subject] = map[string]bool{}
		}
		parts[o.Subject][o.Part] = true
	}
	for i := range observed {
		if len(parts[observed[i].Subject]) == 1 {
			observed[i].Part = ""
		}
	}
	return observed, of
}

// Subject names what was rendered: the shot with its settings, which must be equal
// for two times to be of one thing.
func (t Time) Subject() string {
	if len(t.Settings) == 0 {
		return t.Shot
	}
	return t.Shot + " (" + pairs(t.Settings) + ")"
}

// pairs writes a map in the order of its keys: name=value, name=value.
func pairs(m map[string]string) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(m)) {
		out = append(out, name+"="+m[name])
	}
	return strings.Join(out, ", ")
}

// Place is where the time was measured.
func (t Time) Place() Place {
	p := Place{Host: t.Host, Crew: t.Crew(), Backend: t.Backend, Renderer: cmp.Or(t.Renderer, t.Settings["launcher"])}
	for i, d := range t.Devices {
		m := Member{Model: fmt.Sprintf("%s of %s", d, hostName(t.Host)), CPU: strings.HasPrefix(strings.ToLower(d), cpuDevice)}
		if t.Models != nil {
			m.Model = t.Models[i]
		} else if !m.CPU {
			m.Like = "GPUs of " + hostName(t.Host)
		}
		if t.Links != nil && !m.CPU {
			m.Link = t.Links[i]
		}
		p.Members = append(p.Members, m)
	}
	return p
}

func hostName(host string) string {
	if host == "" {
		return "the host"
	}
	return host
}

// usualConditions is, for each condition, the value that most times have. A
// condition whose values are numbers, such as the load, has none: it is only noted.
func usualConditions(all []Time) map[string]string {
	counts := map[string]map[string]int{}
	numbers := map[string]bool{}
	for _, t := range all {
		for name, value := range t.Conditions {
			if counts[name] == nil {
				counts[name] = map[string]int{}
			}
			counts[name][value]++
			if _, err := strconv.ParseFloat(value, 64); err == nil {
				numbers[name] = true
			}
		}
	}
	usual := map[string]string{}
	for name, of := range counts {
		if numbers[name] {
			continue
		}
		most := 0
		for _, value := range slices.Sorted(maps.Keys(of)) {
			if of[value] > most {
				most, usual[name] = of[value], value
			}
		}
	}
	return usual
}

// unusual are the conditions that differ from the usual ones, or "".
func unusual(conditions, usual map[string]string) string {
	differs := map[string]string{}
	for name, value := range conditions {
		if want, known := usual[name]; known && value != want {
			differs[name] = value
		}
	}
	return pairs(differs)
}

// formed lists the crews that a host's devices, as the times show them, can form: the
// smallest first, at most limit. Devices are in the order in which they first occur.
func formed(all []Time, host string, limit int) [][]int {
	n := len(devicesOf(all, host))
	var out [][]int
	for size := 1; size <= n && len(out) < limit; size++ {
		pick := make([]int, size)
		for i := range pick {
			pick[i] = i
		}
		for len(out) < limit {
			out = append(out, slices.Clone(pick))
			i := size - 1
			for ; i >= 0 && pick[i] == n-size+i; i-- {
			}
			if i < 0 {
				break
			}
			pick[i]++
			for j := i + 1; j < size; j++ {
				pick[j] = pick[j-1] + 1
			}
		}
	}
	return out
}

type device struct {
	id     string
	member Member
}

// devicesOf lists a host's devices by id, GPUs first; none where rows without a host's
// name give one id two models, for then they are of several machines.
func devicesOf(all []Time, host string) []device {
	found := map[string]Member{}
	for _, t := range all {
		if t.Host != host {
			continue
		}
		for i, m := range t.Place().Members {
			// A row that knows the model says more than one that does not.
			was, known := found[t.Devices[i]]
			if known && was.Model != m.Model && was.Like == "" && m.Like == "" {
				return nil
			}
			if !known || t.Models != nil && was.Link == "" {
				found[t.Devices[i]] = m
			}
		}
	}
	var out []device
	for _, id := range slices.Sorted(maps.Keys(found)) {
		out = append(out, device{id, found[id]})
	}
	slices.SortStableFunc(out, func(a, b device) int {
		switch {
		case a.member.CPU == b.member.CPU:
			return 0
		case a.member.CPU:
			return 1
		}
		return -1
	})
	return out
}
