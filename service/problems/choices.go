package problems

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"rotanex.example/core/planning"
	"rotanex.example/core/stock"
	"rotanex.example/service/httpapi"
)

// choose narrows the problem to what a person has fixed: places and sources that
// are not used, shots that stay where they are wanted, a time before which nothing
// starts, and a share of the time that is kept spare.
func (b *builder) choose(ask Ask) error {
	known := b.names()
	for i, name := range ask.Without {
		if !known[name] {
			return httpapi.BadField(fmt.Sprintf("/without/%d", i), name, b.notNamed(name, known))
		}
	}
	pinned := map[string][]string{}
	for i, pin := range ask.Pin {
		if !slices.ContainsFunc(b.shots, func(s plannedShot) bool { return s.Name == pin.Shot }) {
			return httpapi.BadField(fmt.Sprintf("/pin/%d/shot", i), pin.Shot, pin.Shot+" is not among the shots of this plan")
		}
		for k, place := range pin.Places {
			if !known[place] {
				return httpapi.BadField(fmt.Sprintf("/pin/%d/places/%d", i, k), place, b.notNamed(place, known))
			}
		}
		pinned[pin.Shot] = append(pinned[pin.Shot], pin.Places...)
	}
	sources := SourcesOf(b.problem, b.notes)
	named := func(list []string, t planning.Timing) bool {
		_, place := t.Place()
		return slices.ContainsFunc([]string{place, sources[place], place + "/" + t.Crew}, func(name string) bool { return slices.Contains(list, name) })
	}
	b.problem.Timings = slices.DeleteFunc(b.problem.Timings, func(t planning.Timing) bool {
		only, isPinned := pinned[t.Shot]
		return named(ask.Without, t) || isPinned && !named(only, t)
	})
	b.onDevices(ask.Devices)
	for i := range b.problem.Shots {
		s := &b.problem.Shots[i]
		if !ask.NotBefore.IsZero() {
			s.Ready = max(s.Ready, b.millis(ask.NotBefore))
		}
		b.notes.Deadlines[s.ID] = s.Deadline
	}
	b.notes.Slack = ask.Slack
	return nil
}

// onDevices leaves out crews of a CPU alone, wholly or where a crew with a GPU does.
func (b *builder) onDevices(which string) {
	if which != DevicesGPU && which != DevicesGPUElseCPU {
		return
	}
	cpu := func(t planning.Timing) bool {
		crew := t.Crew
		if t.Farm != "" {
			crew = b.notes.FarmCrews[t.Shot+" "+t.Farm]
		}
		return crew == stock.CPUDevice
	}
	gpus := map[string]bool{} // shots that a crew with a GPU can render
	for _, t := range b.problem.Timings {
		if !cpu(t) {
			gpus[t.Shot] = true
		}
	}
	b.problem.Timings = slices.DeleteFunc(b.problem.Timings, func(t planning.Timing) bool {
		return cpu(t) && (which == DevicesGPU || gpus[t.Shot])
	})
}

// notNamed says that a name is none of those that could be meant, and which these are.
func (b *builder) notNamed(name string, known map[string]bool) string {
	maps.DeleteFunc(known, func(place string, _ bool) bool { return strings.Contains(place, "/") })
	return fmt.Sprintf("%s is no host, offer, source or crew (HOST/CREW) that could be used here; there are %s", name, strings.Join(slices.Sorted(maps.Keys(known)), ", "))
}

func (b *builder) names() map[string]bool {
	out := map[string]bool{}
	for place, source := range SourcesOf(b.problem, b.notes) {
		out[place], out[source] = true, true
	}
	for _, t := range b.problem.Timings {
		_, place := t.Place()
		out[place+"/"+t.Crew] = true
	}
	for _, x := range b.notes.LeftOut {
		out[x.Place], out[x.Place+"/"+x.Crew] = true, true
		if source := b.notes.Sources[x.Place]; source != "" {
			out[source] = true
		}
	}
	return out
}

// pins lets what a shot is kept to count for all of its passes.
func (p *Problems) pins(ctx context.Context, all []Pin) (out []Pin, err error) {
	for _, pin := range all {
		names, err := p.Shots.Passes(ctx, pin.Shot)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			out = append(out, Pin{Shot: name, Places: pin.Places})
		}
	}
	return out, nil
}
