// Package trials times test frames. A trial is carried out as a run of its own:
// a warm-up frame, which loads kernels and data and does not count, then several
// timed frames from across the shot, all on the one crew it is about.
package trials

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/frames"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/access"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
	"rotanex.example/service/runs"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// Trial is the record of one, beside that of its run.
type Trial struct {
	RunID    uuid.UUID `gorm:"primaryKey"`
	Shot     string
	Host     string
	Crew     string
	Models   []string          `gorm:"serializer:json"`
	Settings map[string]string `gorm:"serializer:json"`

	Precision *float64 // repeat until the median is known to within it
	MaxS      *float64 // service seconds after which no repeat begins
	SweepID   *uuid.UUID
	Why       string // what a sweep wanted to learn
}

// Trials looks after them.
type Trials struct {
	store *store.Store
	clock clock.Clock
	hosts *hosts.Hosts
	shots *shots.Shots
	runs  *runs.Runs
}

// New makes it.
func New(s *store.Store, c clock.Clock, h *hosts.Hosts, sh *shots.Shots, r *runs.Runs) *Trials {
	return &Trials{s, c, h, sh, r}
}

const (
	defaultFrames  = 3
	defaultRepeats = 15
	// tries is how often a trial's frame may fail.
	tries = 2
	// patience is how long a trial's booking is open for; it starts at once.
	patience = 24 * time.Hour
)

// Create begins a trial.
func (t *Trials) Create(w http.ResponseWriter, r *http.Request, params api.CreateTrialParams) {
	body, err := httpapi.Body[api.NewTrial](r)
	id := access.IDFor(r, params.IdempotencyKey)
	if err == nil {
		err = t.create(r.Context(), id, body)
	}
	t.answer(w, r, http.StatusCreated, id, err)
}

func (t *Trials) create(ctx context.Context, id uuid.UUID, body api.NewTrial) error {
	shot, err := t.shots.Find(ctx, body.Shot)
	if err != nil {
		return err
	}
	n := Ask{ID: id, Shot: shot, Host: body.Host, Crew: body.Crew, Request: httpapi.Fingerprint(body), Repeats: 1}
	count := body.Frames
	if body.Precision > 0 {
		precision := float64(body.Precision)
		n.Precision, n.Repeats = &precision, max(1, body.MaxRepeats)
		if body.MaxRepeats == 0 {
			n.Repeats = defaultRepeats
		}
		count = max(1, count)
	} else if count == 0 {
		count = defaultFrames
	}
	if body.MaxS > 0 {
		most := float64(body.MaxS)
		n.MaxS = &most
	}
	n.Frames = shot.Frames().Sample(count)
	return t.Begin(ctx, n)
}

// Ask is a trial to begin.
type Ask struct {
	ID        uuid.UUID
	Shot      shots.Shot // with the settings that it shall be rendered with
	Host      string
	Crew      string
	Frames    frames.Set
	Repeats   int // of each frame, at most
	Precision *float64
	MaxS      *float64
	Sweep     *uuid.UUID
	Why       string
	Request   []byte
	Also      func(tx *gorm.DB) error // what belongs into the same transaction
}

// Begin begins a trial. Of one that stands already under its id nothing changes.
func (t *Trials) Begin(ctx context.Context, n Ask) error {
	host, crew, err := t.able(ctx, n.Shot, n.Host, n.Crew)
	if err != nil {
		return err
	}
	now := t.clock.Now()
	b := runs.Beginning{
		Run:    runs.Run{ID: n.ID, Kind: runs.KindTrial, Request: n.Request, Tries: tries, CreatedAt: now},
		Shots:  []runs.Shot{{RunID: n.ID, Shot: n.Shot.Name, Spec: n.Shot.Spec}},
		Frames: []queue.Frame{{RunID: n.ID, Shot: n.Shot.Name, Frame: n.Frames.At(0), WarmUp: true}},
		Also: func(tx *gorm.DB) error {
			settings := shots.Settings(n.Shot.Spec)
			if backend := hosts.Backend(crew, n.Shot.Spec.Backend); backend != "" {
				settings["backend"] = backend
			}
			err := tx.Create(&Trial{
				RunID: n.ID, Shot: n.Shot.Name, Host: host.Name, Crew: crew.ID, Models: crew.Models, Settings: settings,
				Precision: n.Precision, MaxS: n.MaxS, SweepID: n.Sweep, Why: n.Why,
			}).Error
			if err == nil && n.Also != nil {
				err = n.Also(tx)
			}
			return err
		},
	}
	for repeat := range n.Repeats {
		for f := range n.Frames.All() {
			b.Frames = append(b.Frames, queue.Frame{RunID: n.ID, Shot: n.Shot.Name, Frame: f, Repeat: repeat})
		}
	}
	b.Bookings = []bookings.Booking{{
		RunID: n.ID, Shot: n.Shot.Name, Host: host.Name, Crew: crew.ID, Devices: crew.Devices,
		Frames: len(b.Frames), StartAt: now, EndAt: now.Add(patience),
	}}
	return t.runs.Begin(ctx, b)
}

// Cancel ends a trial: frames that are timed stay, the one that is rendered is given up.
func (t *Trials) Cancel(ctx context.Context, id uuid.UUID) error {
	return t.runs.SetState(ctx, id, "cancelled")
}

// able returns the host and the crew if frames of the shot can be timed there now.
func (t *Trials) able(ctx context.Context, shot shots.Shot, hostName, crewName string) (hosts.Host, stock.Crew, error) {
	host, err := t.hosts.Find(ctx, hostName)
	if err != nil {
		return host, stock.Crew{}, err
	}
	crew, ok := host.Spec.FindCrew(crewName)
	if !ok {
		var forms []string
		for _, c := range host.Spec.Crews() {
			forms = append(forms, c.ID)
		}
		return host, crew, httpapi.BadField("/crew", crewName, fmt.Sprintf("%s cannot form it; it can form %s", host.Name, strings.Join(forms, ", ")))
	}
	if !host.Up(t.clock.WallNow()) {
		return host, crew, httpapi.Conflict(fmt.Sprintf("the agent of %s is not up: start it there, then time the frame again", host.Name))
	}
	if !slices.Contains(host.Launchers, shot.Spec.Launcher) {
		return host, crew, httpapi.Conflict(fmt.Sprintf("the agent of %s may not start %s, the launcher of %s; it may start %s", host.Name, shot.Spec.Launcher, shot.Name, strings.Join(host.Launchers, ", ")))
	}
	return host, crew, nil
}

// FrameDone looks whether a trial knows its median well enough, or was given enough
// time: then its frames that still wait are let go.
func (t *Trials) FrameDone(ctx context.Context, run uuid.UUID) error {
	var found []trialRun
	if err := t.query(ctx).Where("trials.run_id = ?", run).Scan(&found).Error; err != nil || len(found) == 0 || found[0].Precision == nil {
		return err
	}
	trial := found[0]
	rows, err := t.rows(ctx, []uuid.UUID{run})
	if err != nil {
		return err
	}
	byFrame := map[int][]float64{}
	for _, r := range rows[run] {
		if r.State == "done" && !r.WarmUp {
			byFrame[r.Frame] = append(byFrame[r.Frame], *r.Seconds)
		}
	}
	late := trial.MaxS != nil && t.clock.Now().Sub(trial.CreatedAt).Seconds() >= *trial.MaxS && len(byFrame) > 0
	if !late && !timing.Precise(byFrame, *trial.Precision) {
		return nil
	}
	return queue.DropWaiting(t.store.WithContext(ctx), run)
}

// row is a frame of a trial with what was measured.
type row struct {
	RunID    uuid.UUID
	Frame    int
	Repeat   int
	WarmUp   bool
	State    string
	Cause    string
	Seconds  *float64
	LogTail  string
	Measured *timing.Measurement `gorm:"serializer:json"`
}

func (t *Trials) rows(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID][]row, error) {
	var all []row
	err := t.store.WithContext(ctx).Raw(`
		SELECT f.run_id, f.frame, f.repeat, f.warm_up, f.state, f.cause, f.seconds, a.measured, coalesce(a.log_tail, '') AS log_tail
		FROM frames f LEFT JOIN tries a ON a.frame_id = f.id AND a.fence = f.fence
		WHERE f.run_id IN ? ORDER BY f.warm_up DESC, f.repeat, f.frame`, ids).Scan(&all).Error
	out := map[uuid.UUID][]row{}
	for _, r := range all {
		out[r.RunID] = append(out[r.RunID], r)
	}
	return out, err
}

type trialRun struct {
	Trial
	State     string
	CreatedAt time.Time
}

func record(t trialRun, rows []row) api.Trial {
	out := api.Trial{
		Id: t.RunID, Shot: t.Shot, Host: t.Host, Crew: t.Crew, Models: t.Models, State: api.RunState(t.State),
		Created: t.CreatedAt.UTC(), Settings: t.Settings, Why: t.Why, Frames: []api.TrialFrame{},
	}
	if t.Precision != nil {
		out.Precision = *t.Precision
	}
	if t.SweepID != nil {
		out.Sweep = *t.SweepID
	}
	var seconds []float64
	for _, r := range rows {
		f := api.TrialFrame{Frame: r.Frame, WarmUp: r.WarmUp, State: api.FrameState(r.State)}
		if r.State != "done" {
			f.Cause, f.LogTail = r.Cause, r.LogTail
		} else if f.Seconds = *r.Seconds; !r.WarmUp {
			seconds = append(seconds, *r.Seconds)
		}
		if m := r.Measured; m != nil {
			f.Stages, f.PeakMemoryBytes, f.DevicePeakBytes = m.Stages, m.PeakMemoryBytes, m.DevicePeakBytes
			for name, value := range m.Settings {
				out.Settings[name] = value
			}
			if !r.WarmUp && len(m.Conditions) > 0 {
				out.Conditions = m.Conditions
			}
		}
		out.Frames = append(out.Frames, f)
	}
	if s, ok := timing.Summarise(seconds); ok {
		out.Summary = api.Summary{Frames: s.Frames, MedianS: s.Median, MeanS: s.Mean, LowS: s.Low, HighS: s.High, Spread: s.Spread}
	}
	return out
}

func (t *Trials) query(ctx context.Context) *gorm.DB {
	return t.store.WithContext(ctx).Table("trials").
		Select("trials.*, runs.state, runs.created_at").Joins("JOIN runs ON runs.id = trials.run_id")
}

func (t *Trials) answer(w http.ResponseWriter, r *http.Request, status int, id uuid.UUID, err error) {
	var out api.Trial
	if err == nil {
		var found []trialRun
		err = t.query(r.Context()).Where("trials.run_id = ?", id).Scan(&found).Error
		if err == nil && len(found) == 0 {
			err = httpapi.NotFound(fmt.Sprintf("there is no trial %s; rotanex trials list shows them", id))
		}
		if err == nil {
			var rows map[uuid.UUID][]row
			rows, err = t.rows(r.Context(), []uuid.UUID{id})
			out = record(found[0], rows[id])
		}
	}
	httpapi.Answer(w, r, status, out, err)
}

// Get answers with one trial.
func (t *Trials) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	t.answer(w, r, http.StatusOK, id, nil)
}

// List answers with a page of trials, newest first.
func (t *Trials) List(w http.ResponseWriter, r *http.Request, params api.ListTrialsParams) {
	out := api.TrialList{Items: []api.Trial{}}
	query := t.query(r.Context())
	if params.Shot != nil {
		query = query.Where("trials.shot = ?", *params.Shot)
	}
	found, next, err := httpapi.Newest(query, "runs.created_at", "runs.id",
		func(x trialRun) (time.Time, uuid.UUID) { return x.CreatedAt, x.RunID }, params.Cursor, params.Limit)
	out.Next = next
	var rows map[uuid.UUID][]row
	if err == nil {
		rows, err = t.rows(r.Context(), idsOf(found))
	}
	for _, f := range found {
		out.Items = append(out.Items, record(f, rows[f.RunID]))
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// idsOf lists the runs of trials, and the nil one, for an IN that is never empty.
func idsOf(found []trialRun) []uuid.UUID {
	ids := []uuid.UUID{uuid.Nil}
	for _, f := range found {
		ids = append(ids, f.RunID)
	}
	return ids
}

// Of returns the trials of the runs, in their order.
func (t *Trials) Of(ctx context.Context, where string, args ...any) ([]api.Trial, error) {
	var found []trialRun
	if err := t.query(ctx).Where(where, args...).Order("runs.created_at, runs.id").Scan(&found).Error; err != nil {
		return nil, err
	}
	rows, err := t.rows(ctx, idsOf(found))
	out := []api.Trial{}
	for _, f := range found {
		out = append(out, record(f, rows[f.RunID]))
	}
	return out, err
}
