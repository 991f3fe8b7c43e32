package shots

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Pass is a part of a shot's frames that is rendered by itself. What it does not say is as the shot says it; where its
// launcher is another one, nothing is that belongs to the renderer.
type Pass struct {
	Name     string            `json:"name"`
	Title    string            `json:"title,omitempty"`
	After    []string          `json:"after,omitempty"` // passes whose frame it needs for its own
	Scene    string            `json:"scene,omitempty"`
	Launcher string            `json:"launcher,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
	Inputs   []string          `json:"inputs,omitempty"`
	Files    []string          `json:"files,omitempty"`

	Backend  string   `json:"backend,omitempty"`
	Devices  []string `json:"devices,omitempty"`
	Version  string   `json:"version,omitempty"`
	Plugins  []string `json:"plugins,omitempty"`
	Features []string `json:"features,omitempty"`
	Accepts  []string `json:"accepts,omitempty"`
	Licence  string   `json:"licence,omitempty"`

	HostMemoryGB   float64  `json:"host_memory_gb,omitempty"`
	DeviceMemoryGB float64  `json:"device_memory_gb,omitempty"`
	TexturesGB     float64  `json:"textures_gb,omitempty"`
	Buffers        int      `json:"buffers,omitempty"`
	OutOfMemory    []string `json:"out_of_memory,omitempty"`
}

// PassName is the name of a shot's pass among shots.
func PassName(shot, pass string) string { return shot + "." + pass }

// pass is a pass of the shot, as a shot of its own.
func (s Spec) pass(p Pass) Spec {
	out := s
	out.Name, out.PassOf, out.Pass, out.Passes, out.After = PassName(s.Name, p.Name), s.Name, p.Name, nil, nil
	for _, name := range p.After {
		out.After = append(out.After, PassName(s.Name, name))
	}
	if p.Launcher != "" && p.Launcher != s.Launcher {
		out.Settings, out.Backend, out.Version, out.Licence = nil, "", "", ""
		out.Plugins, out.Features, out.Accepts, out.Files = nil, nil, nil, nil
		out.HostMemoryGB, out.DeviceMemoryGB, out.TexturesGB, out.Buffers, out.OutOfMemory = 0, 0, 0, 0, nil
	}
	out.Settings = maps.Clone(out.Settings)
	for name, value := range p.Settings {
		if out.Settings == nil {
			out.Settings = map[string]string{}
		}
		out.Settings[name] = value
	}
	say(&out.Title, p.Title)
	say(&out.Scene, p.Scene)
	say(&out.Launcher, p.Launcher)
	say(&out.Backend, p.Backend)
	say(&out.Version, p.Version)
	say(&out.Licence, p.Licence)
	say(&out.HostMemoryGB, p.HostMemoryGB)
	say(&out.DeviceMemoryGB, p.DeviceMemoryGB)
	say(&out.TexturesGB, p.TexturesGB)
	say(&out.Buffers, p.Buffers)
	for _, list := range []struct{ own, its *[]string }{
		{&out.Inputs, &p.Inputs},
		{&out.Files, &p.Files},
		{&out.Devices, &p.Devices},
		{&out.Plugins, &p.Plugins},
		{&out.Features, &p.Features},
		{&out.Accepts, &p.Accepts},
		{&out.OutOfMemory, &p.OutOfMemory},
	} {
		if len(*list.its) > 0 {
			*list.own = *list.its
		}
	}
	return out
}

// say lets a pass's own word count, if it has one.
func say[T comparable](out *T, its T) {
	var none T
	if its != none {
		*out = its
	}
}

// longestName is how long the name of a shot may be.
const longestName = 63

// checkPasses says what is wrong with how a shot's passes stand to each other.
func checkPasses(spec Spec) error {
	known := map[string]bool{}
	for i, p := range spec.Passes {
		field := fmt.Sprintf("/passes/%d", i)
		if known[p.Name] {
			return httpapi.BadField(field+"/name", p.Name, "is the name of two passes")
		}
		if name := PassName(spec.Name, p.Name); len(name) > longestName {
			return httpapi.BadField(field+"/name", p.Name, fmt.Sprintf("makes %s, which has %d letters: at most %d", name, len(name), longestName))
		}
		known[p.Name] = true
	}
	// Those whose inputs are all settled are settled, again and again.
	settled := map[string]bool{}
	for range spec.Passes {
		for i, p := range spec.Passes {
			for _, name := range p.After {
				if !known[name] {
					return httpapi.BadField(fmt.Sprintf("/passes/%d/after", i), name, "is no pass of "+spec.Name+": those are "+strings.Join(slices.Sorted(maps.Keys(known)), ", "))
				}
			}
			if !slices.ContainsFunc(p.After, func(name string) bool { return !settled[name] }) {
				settled[p.Name] = true
			}
		}
	}
	for i, p := range spec.Passes {
		if !settled[p.Name] {
			return httpapi.BadField(fmt.Sprintf("/passes/%d/after", i), strings.Join(p.After, ", "), "is part of a circle: a pass would wait for itself")
		}
	}
	return nil
}

// with is the shot and its passes, as they would be stored, or what is wrong with one.
func (s *Shots) with(ctx context.Context, name string, spec Spec) ([]Shot, error) {
	shot, err := s.checked(ctx, name, spec)
	if err != nil {
		return nil, err
	}
	out := []Shot{shot}
	for i, p := range spec.Passes {
		its := spec.pass(p)
		pass, err := s.checked(ctx, its.Name, its)
		if err != nil {
			return nil, httpapi.Within(fmt.Sprintf("/passes/%d", i), err)
		}
		out = append(out, pass)
	}
	return out, s.mayBe(ctx, out)
}

// mayBe says what a shot is not to be stored for: it is a pass of another, or a pass of it is a shot of its own.
func (s *Shots) mayBe(ctx context.Context, all []Shot) error {
	for i, shot := range all {
		var old Shot
		err := s.store.WithContext(ctx).Take(&old, "name = ?", shot.Name).Error
		switch {
		case store.Missing(err):
		case err != nil:
			return err
		case i == 0 && old.Spec.PassOf != "":
			return httpapi.Conflict(fmt.Sprintf("%s is a pass of %s: change it there", shot.Name, old.Spec.PassOf))
		case i > 0 && old.Spec.PassOf != all[0].Name:
			return httpapi.Conflict(fmt.Sprintf("there is a shot %s already, which is no pass of %s: name the pass otherwise, or delete that shot", shot.Name, all[0].Name))
		}
	}
	return nil
}

// save stores a shot with its passes, and deletes those that it has no more.
func (s *Shots) save(tx *gorm.DB, all []Shot) error {
	names := make([]string, len(all))
	for i := range all {
		names[i] = all[i].Name
		if err := tx.Save(&all[i]).Error; err != nil {
			return err
		}
		if err := s.feed.Write(tx, events.Event{Kind: events.Shot, Shot: names[i]}); err != nil {
			return err
		}
	}
	return deletePasses(tx, names[0], names[1:])
}

// Passes are the passes of a shot in the order in which it lists them; of one that is not rendered in passes, itself.
func (s *Shots) Passes(ctx context.Context, name string) ([]string, error) {
	var shot Shot
	err := s.store.WithContext(ctx).Take(&shot, "name = ?", name).Error
	if len(shot.Spec.Passes) == 0 {
		return []string{name}, store.Unless(store.Missing, err)
	}
	var out []string
	for _, p := range shot.Spec.Passes {
		out = append(out, PassName(name, p.Name))
	}
	return out, err
}

// Expand puts passes in the place of their shots, each after those whose frames it needs, which are added.
func (s *Shots) Expand(ctx context.Context, names []string) (out []string, err error) {
	var add func(name string, asked bool) error
	add = func(name string, asked bool) error {
		var shot Shot
		if err := s.store.WithContext(ctx).Take(&shot, "name = ?", name).Error; err != nil && !store.Missing(err) {
			return err
		}
		for _, input := range shot.Spec.After {
			if err := add(input, false); err != nil {
				return err
			}
		}
		if asked && len(shot.Spec.After) == 0 && shot.Spec.PassOf == "" || !slices.Contains(out, name) {
			out = append(out, name)
		}
		return nil
	}
	for _, name := range names {
		passes, err := s.Passes(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, pass := range passes {
			if err := add(pass, true); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}
