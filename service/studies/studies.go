// Package studies lays settings of one frame beside each other: what each takes and
// how far its picture is from the first one's.
package studies

import (
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"maps"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/frames"
	"rotanex.example/core/picture"
	"rotanex.example/service/access"
	"rotanex.example/service/clock"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/shots"
	"rotanex.example/service/standing"
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
	store  *store.Store
	clock  clock.Clock
	shots  *shots.Shots
	trials *trials.Trials
	stands *standing.Standing
}

// New makes it.
func New(s *store.Store, c clock.Clock, sh *shots.Shots, t *trials.Trials, st *standing.Standing) *Studies {
	return &Studies{s, c, sh, t, st}
}

// Create begins a study.
func (q *Studies) Create(w http.ResponseWriter, r *http.Request, params api.CreateStudyParams) {
	body, err := httpapi.Body[api.NewStudy](r)
	id := access.IDFor(r, params.IdempotencyKey)
	if err == nil {
		err = q.create(r.Context(), id, body)
	}
	q.answer(w, r, http.StatusCreated, id, err)
}

func (q *Studies) create(ctx context.Context, id uuid.UUID, body api.NewStudy) error {
	shot, err := q.shots.Find(ctx, body.Shot)
	if err != nil {
		return err
	}
	set := shot.Frames()
	s := Study{ID: id, Request: httpapi.Fingerprint(body), Shot: shot.Name, Host: body.Host, Crew: body.Crew, CreatedAt: q.clock.Now(), Distances: map[int]picture.Distance{}}
	s.Frame = set.At(set.Len() / 2)
	if body.Frame != nil {
		if s.Frame = *body.Frame; !set.Has(s.Frame) {
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
	for i, v := range body.Variants {
		variant := Variant{Name: v.Name, Settings: v.Settings, Run: uuid.NewSHA1(id, []byte(fmt.Sprint(i)))}
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
		err = httpapi.NotFound(fmt.Sprintf("there is no study %s; rotanex settings list shows them", id))
	}
	return s, err
}

func (q *Studies) record(ctx context.Context, s Study) (api.Study, error) {
	out := api.Study{Id: s.ID, Shot: s.Shot, Host: s.Host, Crew: s.Crew, Frame: s.Frame, Created: s.CreatedAt.UTC(), Complete: true, Variants: []api.StudyVariant{}}
	count := 0
	if shot, err := q.shots.Find(ctx, s.Shot); err == nil {
		count = shot.FrameCount
	}
	learnt := false
	for i, v := range s.Variants {
		row := api.StudyVariant{Name: v.Name, Settings: v.Settings, Run: v.Run, State: api.RunStateRunning}
		found, err := q.trials.Of(ctx, "trials.run_id = ?", v.Run)
		if err != nil {
			return out, err
		}
		for _, t := range found {
			row.State, row.Seconds = t.State, t.Summary.MedianS
			row.WholeS = row.Seconds * float64(count)
			for _, f := range t.Frames {
				row.Cause = f.Cause
			}
		}
		out.Complete = out.Complete && row.State != api.RunStateRunning && row.State != api.RunStatePaused
		if i > 0 && row.State == api.RunStateComplete {
			d, known := s.Distances[i]
			if !known {
				a, b, err := q.pictures(ctx, s, 0, i)
				if errors.Is(err, standing.ErrNoPicture) {
					out.Variants = append(out.Variants, row)
					continue
				}
				if err != nil {
					return out, err
				}
				if d, _, err = picture.Compare(a, b); err != nil {
					return out, err
				}
				s.Distances[i], learnt = d, true
			}
			row.Distance = api.Distance{Rmse: d.RMSE, PsnrDb: d.PSNR, Ssim: d.SSIM, Same: d.Same}
		}
		out.Variants = append(out.Variants, row)
	}
	if learnt {
		return out, q.store.WithContext(ctx).Model(&s).Select("distances").Updates(&s).Error
	}
	return out, nil
}

func (q *Studies) pictures(ctx context.Context, s Study, a, b int) (x, y image.Image, err error) {
	if x, err = q.stands.Image(ctx, s.Variants[a].Run, s.Shot, s.Frame); err == nil {
		y, err = q.stands.Image(ctx, s.Variants[b].Run, s.Shot, s.Frame)
	}
	return x, y, err
}

func (q *Studies) answer(w http.ResponseWriter, r *http.Request, status int, id uuid.UUID, err error) {
	var out api.Study
	if err == nil {
		var s Study
		if s, err = q.find(r.Context(), id); err == nil {
			out, err = q.record(r.Context(), s)
		}
	}
	httpapi.Answer(w, r, status, out, err)
}

// Get answers with one study.
func (q *Studies) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	q.answer(w, r, http.StatusOK, id, nil)
}

// List answers with a page of studies, newest first.
func (q *Studies) List(w http.ResponseWriter, r *http.Request, params api.ListStudiesParams) {
	out := api.StudyList{Items: []api.Study{}}
	query := q.store.WithContext(r.Context())
	if params.Shot != nil {
		query = query.Where("shot = ?", *params.Shot)
	}
	found, next, err := httpapi.Newest(query, "created_at", "id", func(x Study) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, params.Cursor, params.Limit)
	out.Next = next
	for _, s := range found {
		var one api.Study
		if one, err = q.record(r.Context(), s); err != nil {
			break
		}
		out.Items = append(out.Items, one)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Difference answers with a picture of the difference of two variants.
func (q *Studies) Difference(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.GetDifferenceParams) {
	s, err := q.find(r.Context(), id)
	if err == nil && max(params.A, params.B) >= len(s.Variants) {
		err = httpapi.BadField("b", fmt.Sprint(max(params.A, params.B)), fmt.Sprintf("the study has the variants 0 to %d", len(s.Variants)-1))
	}
	var diff image.Image
	if err == nil {
		var a, b image.Image
		if a, b, err = q.pictures(r.Context(), s, params.A, params.B); err == nil {
			_, diff, err = picture.Compare(a, b)
		}
	}
	if errors.Is(err, standing.ErrNoPicture) {
		err = httpapi.Conflict("one of the two is not rendered yet")
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	_ = png.Encode(w, diff) // the reader is gone
}
