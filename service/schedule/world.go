package schedule

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// happened says in words what differs from one world to another and bears on a schedule.
func happened(before, after map[string]string) (out []string) {
	for _, what := range slices.Sorted(maps.Keys(after)) {
		was, there := before[what]
		if is := after[what]; !there || was != is {
			out = append(out, words(what, was, is, there))
		}
	}
	for _, what := range slices.Sorted(maps.Keys(before)) {
		if _, there := after[what]; !there {
			out = append(out, gone(what))
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { return s == "" })
}

// words say what a change of one thing is; "" for one that bears on nothing.
func words(what, was, is string, there bool) string {
	kind, name, _ := strings.Cut(what, " ")
	switch {
	case kind == "host" && is == "up" && !there:
		return name + " joined"
	case kind == "host" && is == "up":
		return name + " is back"
	case kind == "host" && !there:
		return "" // it never did anything
	case kind == "host" && is == "lost" && was == "draining":
		return ""
	case kind == "host":
		return name + " is " + is
	case kind == "server":
		return "server " + name + " failed: " + is
	case kind == "job":
		return "the " + what + " was " + is
	case kind == "crew":
		return name + " gets no more: " + is
	case kind == "run" && !there:
		return what + " began"
	case kind == "run":
		return "the priority of " + what + " changed"
	case kind == "source", kind == "offer", kind == "farm":
		if !there {
			return what + " is new"
		}
		return what + " changed"
	}
	return "the run's " + what + " changed"
}

// gone say what it is that something is not there any more.
func gone(what string) string {
	switch kind, name, _ := strings.Cut(what, " "); kind {
	case "run":
		return what + " is over"
	case "host", "source", "offer", "farm":
		return name + " was taken out of the stock"
	case "crew":
		return name + " gets frames again"
	}
	return ""
}

// mostSlow is how many slow crews are named.
const mostSlow = 2

// slow says which crews are slower than expected of them, of late: the slowest by name.
func slow(lately map[string]float64) (out []string) {
	crews := slices.DeleteFunc(slices.Sorted(maps.Keys(lately)), func(crew string) bool { return lately[crew] <= 1 })
	slices.SortStableFunc(crews, func(a, b string) int { return cmp.Compare(lately[b], lately[a]) })
	for i, crew := range crews {
		if i == mostSlow {
			return append(out, fmt.Sprintf("%d more do", len(crews)-i))
		}
		out = append(out, fmt.Sprintf("%s takes %.0f %% longer than expected of it", crew, 100*(lately[crew]-1)))
	}
	return out
}
