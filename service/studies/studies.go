// Package studies lays settings of one frame beside each other: what each takes and
// how far its picture is from the first one's.
package studies

import (
	"context"
	"errors"
	"fmt"
	"image"
	"maps"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/frames"
	"rotanex.example/core/picture"
	"rotanex.example/service/clock"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/pictures"
	"rotanex.example/service/shots"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
	"rotanex.example/service/trials"
)

// Study is the record of one.
type Study struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Request   []byte
	Shot      string
	Host      string
	Crew      string
	Frame     int
	Variants  []Variant                `gorm:"serializer:json"`
	Distances map[int]picture.Distance `gorm:"serializer:json"`
	CreatedAt time.Time
}

// Variant is one of the settings of a study, with the trial that renders it.
type Variant struct {
	Name     string            `json:"name"`
	Settings map[string]string `json:"settings"`
	Run      uuid.UUID         `json:"run"`
}

// Studies looks after them.
type Studies struct {
	store    *store.Store
	clock    clock.Clock
	shots    *shots.Shots
	trials   *trials.Trials
	stands   *standing.Standing
	pictures *pictures.Pictures
}

// New makes it.
func New(s *store.Store, c clock.Clock, sh *shots.Shots, t *trials.Trials, st *standing.Standing, p *pictures.Pictures) *Studies {
	return &Studies{s, c, sh, t, st, p}
}

// Wanted is a study as a person asks for it.
type Wanted struct {
	Shot, Host, Crew string
	Frame            *int      // nil: the middle one
	Variants         []Variant // their names may be left out
	Request          []byte
}

// Create begins a study. Of one that stands already under its id nothing changes.
func (q *Studies) Create(ctx context.Context, id uuid.UUID, want Wanted) error {
	shot, err := q.shots.Find(ctx, want.Shot)
	if err != nil {
		return err
	}
	set := shot.Frames()
	s := Study{ID: id, Request: want.Request, Shot: shot.Name, Host: want.Host, Crew: want.Crew, CreatedAt: q.clock.Now(), Distances: map[int]picture.Distance{}}
	s.Frame = set.At(set.Len() / 2)
	if want.Frame != nil {
		if s.Frame = *want.Frame; !set.Has(s.Frame) {
			return httpapi.BadField("/frame", fmt.Sprint(s.Frame), fmt.Sprintf("shot %s has the frames %s", shot.Name, set))
		}
	}
	var old []Study
	if err := q.store.WithContext(ctx).Where("id = ?", id).Limit(1).Find(&old).Error; err != nil {
		return err
	}
	if len(old) > 0 {
		return httpapi.SameRequest(old[0].Request, s.Request)
	}
	one, err := frames.Parse(fmt.Sprint(s.Frame))
	if err != nil {
		return err
	}
	for i, v := range want.Variants {
		variant := v
		variant.Run = uuid.NewSHA1(id, []byte(fmt.Sprint(i)))
		if variant.Settings == nil {
			variant.Settings = map[string]string{}
		}
		if variant.Name == "" {
			variant.Name = nameOf(variant.Settings)
		}
		s.Variants = append(s.Variants, variant)
	}
	for i, v := range s.Variants {
		changed := shot
		changed.Spec.Settings = maps.Clone(shot.Spec.Settings)
		if changed.Spec.Settings == nil {
			changed.Spec.Settings = map[string]string{}
		}
		maps.Copy(changed.Spec.Settings, v.Settings)
		ask := trials.Ask{ID: v.Run, Shot: changed, Host: s.Host, Crew: s.Crew, Frames: one, Repeats: 1, Request: s.Request, Why: "settings study: " + v.Name}
		if i == 0 {
			ask.Also = func(tx *gorm.DB) error { return tx.Create(&s).Error }
		}
		if err := q.trials.Begin(ctx, ask); err != nil {
			return err
		}
	}
	return nil
}

// nameOf calls a variant by its settings.
func nameOf(settings map[string]string) string {
	if len(settings) == 0 {
		return "as the shot has it"
	}
	var out []string
	for name, value := range settings {
		out = append(out, name+" "+value)
	}
	return strings.Join(out, ", ")
}

func (q *Studies) find(ctx context.Context, id uuid.UUID) (Study, error) {
	var s Study
	err := q.store.WithContext(ctx).Take(&s, "id = ?", id).Error
	if store.Missing(err) {
		err = httpapi.NotFound(fmt.Sprintf("there is no settings study %s; rotanex settings list shows them", id))
	}
	return s, err
}

// Result is what a variant of a study takes and how far its picture is from the first's.
type Result struct {
	Variant
	State    states.Run // of its trial
	Seconds  float64
	WholeS   float64 // of all the shot's frames
	Cause    string  // of its failure
	Distance *picture.Distance
}

// Studied is a study with the results so far.
type Studied struct {
	Study
	Results  []Result
	Complete bool
}

// Find returns a study, or a problem that names it.
func (q *Studies) Find(ctx context.Context, id uuid.UUID) (Studied, error) {
	s, err := q.find(ctx, id)
	if err != nil {
		return Studied{}, err
	}
	return q.with(ctx, s)
}

// with gathers the results of a study. Distances that are new are kept.
func (q *Studies) with(ctx context.Context, s Study) (Studied, error) {
	out := Studied{Study: s, Complete: true}
	count := 0
	if shot, err := q.shots.Find(ctx, s.Shot); err == nil {
		count = shot.FrameCount
	}
	learnt := false
	for i, v := range s.Variants {
		row := Result{Variant: v, State: states.RunRunning}
		found, err := q.trials.Of(ctx, "trials.run_id = ?", v.Run)
		if err != nil {
			return out, err
		}
		open := len(found) == 0
		for _, t := range found {
			sum, _ := t.Summary()
			row.State, row.Seconds, row.WholeS, open = t.State, sum.Median, sum.Median*float64(count), t.Open()
			for _, f := range t.Rows {
				row.Cause = f.Cause
			}
		}
		out.Complete = out.Complete && !open
		if i > 0 && row.State == states.RunComplete {
			isNew, err := q.measure(ctx, &s, i)
			if err != nil {
				return out, err
			}
			learnt = learnt || isNew
			if d, known := s.Distances[i]; known {
				row.Distance = &d
			}
		}
		out.Results = append(out.Results, row)
	}
	if learnt {
		return out, q.store.WithContext(ctx).Model(&s).Select("distances").Updates(&s).Error
	}
	return out, nil
}

// measure compares a variant's picture with the first one's, unless it was before or one
// of them cannot be looked at, and reports whether it did.
func (q *Studies) measure(ctx context.Context, s *Study, variant int) (bool, error) {
	if _, known := s.Distances[variant]; known {
		return false, nil
	}
	d, _, err := q.compare(ctx, *s, 0, variant)
	if errors.Is(err, pictures.ErrNoPicture) {
		return false, nil
	}
	if err == nil {
		s.Distances[variant] = d
	}
	return err == nil, err
}

func (q *Studies) compare(ctx context.Context, s Study, a, b int) (d picture.Distance, diff image.Image, err error) {
	x, err := q.stands.PictureOf(ctx, s.Variants[a].Run, s.Shot, s.Frame)
	if err != nil {
		return d, nil, err
	}
	y, err := q.stands.PictureOf(ctx, s.Variants[b].Run, s.Shot, s.Frame)
	if err != nil {
		return d, nil, err
	}
	return q.pictures.Compare(ctx, x, y)
}

// page returns a page of studies, of one shot if it is named, newest first.
func (q *Studies) page(ctx context.Context, shot, cursor *string, limit *int) (out []Studied, next string, err error) {
	query := q.store.WithContext(ctx)
	if shot != nil {
		query = query.Where("shot = ?", *shot)
	}
	found, next, err := httpapi.Newest(query, "created_at", "id", func(x Study) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, cursor, limit)
	for _, s := range found {
		one, err := q.with(ctx, s)
		if err != nil {
			return nil, "", err
		}
		out = append(out, one)
	}
	return out, next, err
}

// Difference is a picture of the difference of two variants.
func (q *Studies) Difference(ctx context.Context, id uuid.UUID, a, b int) (image.Image, error) {
	s, err := q.find(ctx, id)
	if err != nil {
		return nil, err
	}
	if most := max(a, b); most >= len(s.Variants) {
		return nil, httpapi.BadField("b", fmt.Sprint(most), fmt.Sprintf("the study has the variants 0 to %d", len(s.Variants)-1))
	}
	_, diff, err := q.compare(ctx, s, a, b)
	if errors.Is(err, pictures.ErrNoPicture) {
		return nil, httpapi.Conflict("one of the two is not rendered yet, or cannot be looked at")
	}
	return diff, err
}
