// Package shots keeps what is to be rendered.
package shots

import (
	"context"
	"fmt"
	"net/http"
	"path"
	"strings"
	"time"

	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/frames"
	"rotanex.example/service/clock"
	"rotanex.example/service/edge"
	"rotanex.example/service/events"
	"rotanex.example/service/store"
)

// Shot is the record of one.
type Shot struct {
	Name       string       `gorm:"primaryKey"`
	Spec       api.ShotSpec `gorm:"serializer:json"`
	FrameCount int
	UpdatedAt  time.Time
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

// Find returns a shot by name, or a problem that names it.
func (s *Shots) Find(ctx context.Context, name string) (Shot, error) {
	var shot Shot
	err := s.store.WithContext(ctx).Take(&shot, "name = ?", name).Error
	if store.Missing(err) {
		err = edge.NotFound(fmt.Sprintf("there is no shot %q; rotanex shots list shows them", name))
	}
	return shot, err
}

func record(s Shot) api.Shot {
	return api.Shot{Spec: s.Spec, FrameCount: s.FrameCount, Updated: s.UpdatedAt.UTC()}
}

// check says what is wrong with a shot beyond what the contract says.
func check(name string, spec api.ShotSpec) (int, error) {
	if spec.Name != name {
		return 0, edge.BadField("/name", spec.Name, "is not the shot in the path, "+name)
	}
	set, err := frames.Parse(spec.Frames)
	if err != nil {
		return 0, edge.BadField("/frames", spec.Frames, err.Error())
	}
	clean := path.Clean(spec.Scene)
	if path.IsAbs(clean) || clean == ".." || strings.HasPrefix(clean, "../") {
		return 0, edge.BadField("/scene", spec.Scene, "want a path below the agents' scene folder, such as orrery/orrery.pov")
	}
	return set.Len(), nil
}

// Put makes a shot or replaces it.
func (s *Shots) Put(w http.ResponseWriter, r *http.Request, name string) {
	spec, err := edge.Body[api.ShotSpec](r)
	var shot Shot
	if err == nil {
		var count int
		if count, err = check(name, spec); err == nil {
			shot = Shot{Name: name, Spec: spec, FrameCount: count, UpdatedAt: s.clock.Now()}
			err = s.store.WithContext(r.Context()).Transaction(func(tx *gorm.DB) error {
				if err := tx.Save(&shot).Error; err != nil {
					return err
				}
				return s.feed.Write(tx, api.Event{Kind: api.EventKindShot, Shot: name})
			})
		}
	}
	s.feed.Wake(events.Changes)
	edge.Answer(w, r, http.StatusOK, record(shot), err)
}

// Get answers with one shot.
func (s *Shots) Get(w http.ResponseWriter, r *http.Request, name string) {
	shot, err := s.Find(r.Context(), name)
	edge.Answer(w, r, http.StatusOK, record(shot), err)
}

// List answers with a page of shots.
func (s *Shots) List(w http.ResponseWriter, r *http.Request, params api.ListShotsParams) {
	out := api.ShotList{Items: []api.Shot{}}
	shots, next, err := edge.Page(s.store.WithContext(r.Context()), "name", func(x Shot) string { return x.Name }, params.Cursor, params.Limit)
	out.Next = next
	for _, shot := range shots {
		out.Items = append(out.Items, record(shot))
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}
