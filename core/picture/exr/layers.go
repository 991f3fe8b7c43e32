package exr

import (
	"slices"
	"strings"
)

// Layer is channels that are looked at together: colours, the axes of a vector, or one value.
type Layer struct {
	Name string // what its channels' names have in common, "" for the main one; of another single value the channel's name
	// Shown are those that are shown as red, green and blue, or the one that is shown as grey.
	Shown []Place
}

// Place is a channel of a part.
type Place struct{ Part, Channel int }

// sets are names of channels that are shown together, those first that are looked for first.
var sets = [][]string{{"R", "G", "B"}, {"red", "green", "blue"}, {"X", "Y", "Z"}, {"U", "V"}, {"Y"}, {"A"}}

// beside are channels that are no layer by themselves where there is colour.
var beside = []string{"A", "alpha", "RY", "BY", "AR", "AG", "AB"}

// Layers lists the layers of a file, the main one first if there is one. What is not read has none.
func (f *File) Layers() (out []Layer) {
	if f.Deep() {
		return nil
	}
	type group struct {
		name  string
		names []string
		at    []Place
	}
	var groups []*group
	for i := range f.Parts {
		p := &f.Parts[i]
		if !p.Readable() {
			continue
		}
		for j, c := range p.Channels {
			layer, name := "", p.full(i, c.Name)
			if dot := strings.LastIndexByte(name, '.'); dot >= 0 {
				layer, name = name[:dot], name[dot+1:]
			}
			g := slices.IndexFunc(groups, func(g *group) bool { return g.name == layer && g.at[0].Part == i })
			if g < 0 {
				g = len(groups)
				groups = append(groups, &group{name: layer})
			}
			groups[g].names, groups[g].at = append(groups[g].names, name), append(groups[g].at, Place{i, j})
		}
	}
	for _, g := range groups {
		left := slices.Clone(g.names)
		find := func(name string) int {
			return slices.IndexFunc(left, func(n string) bool { return strings.EqualFold(n, name) })
		}
		for _, set := range sets {
			if slices.ContainsFunc(set, func(name string) bool { return find(name) < 0 }) {
				continue
			}
			l := Layer{Name: g.name}
			for _, name := range set {
				l.Shown = append(l.Shown, g.at[find(name)])
			}
			for _, name := range append(set, beside...) {
				if i := find(name); i >= 0 {
					left[i] = "" // it has its place
				}
			}
			out = append(out, l)
			break
		}
		for i, name := range left {
			if name != "" {
				out = append(out, Layer{Name: strings.TrimPrefix(g.name+"."+name, "."), Shown: g.at[i : i+1]})
			}
		}
	}
	if main := slices.IndexFunc(out, func(l Layer) bool { return l.Name == "" }); main > 0 {
		l := out[main]
		out = slices.Insert(slices.Delete(out, main, main+1), 0, l)
	}
	return out
}

// Layer finds one by its name.
func (f *File) Layer(name string) (Layer, bool) {
	all := f.Layers()
	i := slices.IndexFunc(all, func(l Layer) bool { return l.Name == name })
	switch {
	case i >= 0:
		return all[i], true
	case name == "" && len(all) > 0: // no channel is without a layer's name: the first is the main one
		return all[0], true
	}
	return Layer{}, false
}
