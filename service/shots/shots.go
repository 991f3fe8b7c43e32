// Package shots keeps what is to be rendered.
package shots

import (
	"context"
	"fmt"
	"path"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/framefiles"
	"rotanex.example/core/frames"
	"rotanex.example/core/memory"
	"rotanex.example/core/paths"
	"rotanex.example/core/picture"
	"rotanex.example/core/preflight"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Shot is the record of one.
type Shot struct {
	Name       string `gorm:"primaryKey"`
	Spec       Spec   `gorm:"serializer:json"`
	FrameCount int
	UpdatedAt  time.Time
	AskedAt    time.Time // when somebody asked about it last, to the hour
	ListedAt   time.Time // since when hosts look for its inputs, of those that they look for
}

// InputsSince is since when what hosts say of the shot's input files is of these files.
func (s Shot) InputsSince() time.Time {
	if s.ListedAt.After(s.UpdatedAt) {
		return s.ListedAt
	}
	return s.UpdatedAt
}

// Frames returns the shot's frames.
func (s Shot) Frames() frames.Set {
	set, _ := frames.Parse(s.Spec.Frames) // was parsed before it was stored
	return set
}

// Shots looks after them.
type Shots struct {
	store *store.Store
	clock clock.Clock
	feed  *events.Feed
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed) *Shots { return &Shots{s, c, f} }

// Find returns a shot by name that is rendered: itself, or a pass of it; or a problem that names it.
func (s *Shots) Find(ctx context.Context, name string) (Shot, error) {
	shot, err := s.any(ctx, name)
	if passes := shot.Spec.Passes; err == nil && len(passes) > 0 {
		names, _ := s.Passes(ctx, name)
		err = httpapi.BadField("/shot", name, "is rendered in passes: ask for one of them, "+strings.Join(names, ", "))
	}
	return shot, err
}

// any returns a shot by name, or a problem that names it.
func (s *Shots) any(ctx context.Context, name string) (Shot, error) {
	var shot Shot
	err := s.store.WithContext(ctx).Take(&shot, "name = ?", name).Error
	if store.Missing(err) {
		err = httpapi.NotFound(fmt.Sprintf("there is no shot %q; rotanex shots list shows them", name))
	}
	return shot, err
}

// Settings are what changes the picture or the time of a shot's frames, as far as the
// shot says. Times are of one thing only where these are equal.
func Settings(spec Spec) map[string]string {
	out := map[string]string{
		"launcher": spec.Launcher, "scene": spec.Scene,
		"size": strconv.Itoa(spec.Width) + "x" + strconv.Itoa(spec.Height),
	}
	if spec.Buffers > 1 {
		out["buffers"] = strconv.Itoa(spec.Buffers)
	}
	for name, value := range spec.Settings {
		out[name] = value
	}
	return out
}

// check says what is wrong with a shot beyond what the contract says.
func check(name string, spec Spec) (int, error) {
	if spec.Name != name {
		return 0, httpapi.BadField("/name", spec.Name, "is not the shot in the path, "+name)
	}
	set, err := frames.Parse(spec.Frames)
	if err != nil {
		return 0, httpapi.BadField("/frames", spec.Frames, err.Error())
	}
	if pixels := spec.Width * spec.Height; pixels > picture.MostPixels {
		return 0, httpapi.BadField("/width", fmt.Sprint(spec.Width), fmt.Sprintf("and height %d are %d pixels, and at most %d can be checked", spec.Height, pixels, picture.MostPixels))
	}
	if outside(spec.Scene) {
		return 0, httpapi.BadField("/scene", spec.Scene, "want a path below the agents' scene folder, such as orrery/orrery.pov, or below a root that they have, such as project:orrery/orrery.pov")
	}
	if _, err := memory.ParseSteps(spec.OutOfMemory); err != nil {
		return 0, httpapi.BadField("/out_of_memory", fmt.Sprint(spec.OutOfMemory), err.Error())
	}
	if err := preflight.CheckVersion(spec.Version); err != nil {
		return 0, httpapi.BadField("/version", spec.Version, err.Error())
	}
	for _, input := range spec.Inputs {
		if outside(input) {
			return 0, httpapi.BadField("/inputs", input, "want a path below the agents' scene folder")
		}
	}
	if err := checkFiles("/files", spec.Files); err != nil {
		return 0, err
	}
	for i, p := range spec.Passes {
		if err := checkFiles(fmt.Sprintf("/passes/%d/files", i), p.Files); err != nil {
			return 0, err
		}
	}
	return set.Len(), checkPasses(spec)
}

// checkFiles says what is wrong with the names of the files that frames must have.
func checkFiles(field string, names []string) error {
	seen := map[string]bool{}
	for _, name := range names {
		if err := framefiles.ValidName(name); err != nil {
			return httpapi.BadField(field, name, err.Error())
		}
		if seen[strings.ToLower(name)] {
			return httpapi.BadField(field, name, "is there twice")
		}
		seen[strings.ToLower(name)] = true
	}
	return nil
}

// outside reports whether a path leaves the folder or the root that it is below of, or is none.
func outside(name string) bool {
	if root, _, err := paths.Rooted(name); root != "" {
		return err != nil
	}
	return paths.Below(path.Clean(name)) != nil
}

// Permits is what a shot permits where memory does not do.
func Permits(spec Spec) []memory.Step {
	steps, _ := memory.ParseSteps(spec.OutOfMemory) // was parsed before it was stored
	return steps
}

// Need returns what a shot says that its frames need of memory.
func Need(spec Spec) memory.Need {
	return memory.Need{
		Scene: memory.GB(spec.DeviceMemoryGB), Textures: memory.GB(spec.TexturesGB),
		Buffers: memory.Buffers(spec.Width, spec.Height, spec.Buffers), Host: memory.GB(spec.HostMemoryGB), Permits: Permits(spec),
	}
}

// checked is a shot as it would be stored, or what is wrong with it.
func (s *Shots) checked(ctx context.Context, name string, spec Spec) (Shot, error) {
	count, err := check(name, spec)
	if err == nil {
		err = s.launches(ctx, spec)
	}
	now := s.clock.Now()
	return Shot{Name: name, Spec: spec, FrameCount: count, UpdatedAt: now, AskedAt: now, ListedAt: now}, err
}

// Put makes a shot or replaces it.
func (s *Shots) Put(ctx context.Context, name string, spec Spec) (Shot, error) {
	all, err := s.with(ctx, name, spec)
	if err != nil {
		return Shot{}, err
	}
	err = s.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return s.save(tx, all) })
	s.feed.Wake(events.Changes)
	return all[0], err
}

// Asked has hosts look for the shot's input files, as somebody asks about it, and returns it as it is then.
func (s *Shots) Asked(ctx context.Context, shot Shot) (Shot, error) {
	now := s.clock.Now()
	if now.Sub(shot.AskedAt) < toTheHour {
		return shot, nil
	}
	return shot, asked(s.store.WithContext(ctx), &shot, now)
}

// page returns a page of shots, by name.
func (s *Shots) page(ctx context.Context, cursor *string, limit *int) ([]Shot, string, error) {
	return httpapi.Page(s.store.WithContext(ctx), "name", func(x Shot) string { return x.Name }, cursor, limit)
}
