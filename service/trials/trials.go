// Package trials times test frames. A trial is carried out as a run of its own:
// a warm-up frame, which loads kernels and data and does not count, then several
// timed frames from across the shot, all on the one crew it is about.
package trials

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/timing"
	"rotanex.example/service/clock"
	"rotanex.example/service/edge"
	"rotanex.example/service/hosts"
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
	defaultFrames = 3
	// tries is how often a trial's frame may fail.
	tries = 2
	// patience is how long a trial's booking is open for; it starts at once.
	patience = 24 * time.Hour
)

// Create begins a trial.
func (t *Trials) Create(w http.ResponseWriter, r *http.Request, params api.CreateTrialParams) {
	body, err := edge.Body[api.NewTrial](r)
	id := runs.IDFor(r, params.IdempotencyKey)
	if err == nil {
		err = t.begin(r.Context(), id, body)
	}
	t.answer(w, r, http.StatusCreated, id, err)
}

func (t *Trials) begin(ctx context.Context, id uuid.UUID, body api.NewTrial) error {
	shot, err := t.shots.Find(ctx, body.Shot)
	if err != nil {
		return err
	}
	host, err := t.hosts.Find(ctx, body.Host)
	if err != nil {
		return err
	}
	crew, ok := host.Spec.FindCrew(body.Crew)
	if !ok {
		var forms []string
		for _, c := range host.Spec.Crews() {
			forms = append(forms, c.ID)
		}
		return edge.BadField("/crew", body.Crew, fmt.Sprintf("%s cannot form it; it can form %s", host.Name, strings.Join(forms, ", ")))
	}
	if !host.Up(t.clock.WallNow()) {
		return edge.Conflict(fmt.Sprintf("the agent of %s is not up: start it there, then time the frame again", host.Name))
	}
	if !slices.Contains(host.Launchers, shot.Spec.Launcher) {
		return edge.Conflict(fmt.Sprintf("the agent of %s may not start %s, the launcher of %s; it may start %s", host.Name, shot.Spec.Launcher, shot.Name, strings.Join(host.Launchers, ", ")))
	}
	count := body.Frames
	if count == 0 {
		count = defaultFrames
	}
	now := t.clock.Now()
	picked := shot.Frames().Sample(count)
	b := runs.Beginning{
		Run:    runs.Run{ID: id, Kind: runs.KindTrial, Request: runs.Fingerprint(body), Tries: tries, CreatedAt: now},
		Shots:  []runs.Shot{{RunID: id, Shot: shot.Name, Spec: shot.Spec}},
		Frames: []runs.Frame{{RunID: id, Shot: shot.Name, Frame: picked.At(0), WarmUp: true}},
		Bookings: []runs.Booking{{
			RunID: id, Shot: shot.Name, Host: host.Name, Crew: crew.ID, Devices: crew.Devices,
			Frames: picked.Len() + 1, StartAt: now, EndAt: now.Add(patience),
		}},
		Also: func(tx *gorm.DB) error {
			return tx.Create(&Trial{RunID: id, Shot: shot.Name, Host: host.Name, Crew: crew.ID, Models: crew.Models, Settings: settings(shot.Spec, crew.Backends)}).Error
		},
	}
	for n := range picked.All() {
		b.Frames = append(b.Frames, runs.Frame{RunID: id, Shot: shot.Name, Frame: n})
	}
	return t.runs.Begin(ctx, b)
}

// settings are what changes the picture or the time, as far as the shot says.
func settings(spec api.ShotSpec, backends []string) map[string]string {
	out := map[string]string{
		"launcher": spec.Launcher, "scene": spec.Scene,
		"size": strconv.Itoa(spec.Width) + "x" + strconv.Itoa(spec.Height),
	}
	if len(backends) > 0 {
		out["backend"] = backends[0]
	}
	for name, value := range spec.Settings {
		out[name] = value
	}
	return out
}

// row is a frame of a trial with what was measured.
type row struct {
	RunID    uuid.UUID
	Frame    int
	WarmUp   bool
	State    string
	Cause    string
	Seconds  *float64
	Measured *api.Measured `gorm:"serializer:json"`
}

func (t *Trials) rows(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID][]row, error) {
	var all []row
	err := t.store.WithContext(ctx).Raw(`
		SELECT f.run_id, f.frame, f.warm_up, f.state, f.cause, f.seconds, a.measured
		FROM frames f LEFT JOIN attempts a ON a.frame_id = f.id AND a.fence = f.fence
		WHERE f.run_id IN ? ORDER BY f.warm_up DESC, f.frame`, ids).Scan(&all).Error
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
		Created: t.CreatedAt.UTC(), Settings: t.Settings, Frames: []api.TrialFrame{},
	}
	var seconds []float64
	for _, r := range rows {
		f := api.TrialFrame{Frame: r.Frame, WarmUp: r.WarmUp, State: api.FrameState(r.State)}
		if r.State != "done" {
			f.Cause = r.Cause
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
			err = edge.NotFound(fmt.Sprintf("there is no trial %s; rotanex trial list shows them", id))
		}
		if err == nil {
			var rows map[uuid.UUID][]row
			rows, err = t.rows(r.Context(), []uuid.UUID{id})
			out = record(found[0], rows[id])
		}
	}
	edge.Answer(w, r, status, out, err)
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
	found, next, err := edge.Newest(query, "runs.created_at", "runs.id",
		func(x trialRun) (time.Time, uuid.UUID) { return x.CreatedAt, x.RunID }, params.Cursor, params.Limit)
	out.Next = next
	var rows map[uuid.UUID][]row
	if err == nil {
		rows, err = t.rows(r.Context(), idsOf(found))
	}
	for _, f := range found {
		out.Items = append(out.Items, record(f, rows[f.RunID]))
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}

// idsOf lists the runs of trials, and the nil one, for an IN that is never empty.
func idsOf(found []trialRun) []uuid.UUID {
	ids := []uuid.UUID{uuid.Nil}
	for _, f := range found {
		ids = append(ids, f.RunID)
	}
	return ids
}

// Of returns what complete trials of a shot have measured, the oldest first. A
// trial whose size or launcher or settings are not the shot's own now is left out:
// its times are not the shot's.
func (t *Trials) Of(ctx context.Context, shot shots.Shot) ([]timing.Trial, error) {
	var found []trialRun
	if err := t.query(ctx).Where("trials.shot = ? AND runs.state = 'complete'", shot.Name).Order("runs.created_at, runs.id").Scan(&found).Error; err != nil {
		return nil, err
	}
	rows, err := t.rows(ctx, idsOf(found))
	if err != nil {
		return nil, err
	}
	var out []timing.Trial
	for _, f := range found {
		if !sameSettings(f.Settings, settings(shot.Spec, nil)) {
			continue
		}
		r := record(f, rows[f.RunID])
		if r.Summary.Frames > 0 {
			out = append(out, timing.Trial{Host: f.Host, Crew: f.Crew, Models: f.Models, Summary: timing.Summary{
				Frames: r.Summary.Frames, Median: r.Summary.MedianS, Mean: r.Summary.MeanS, Low: r.Summary.LowS, High: r.Summary.HighS, Spread: r.Summary.Spread,
			}})
		}
	}
	return out, nil
}

func sameSettings(then, now map[string]string) bool {
	for name, value := range now {
		if then[name] != value {
			return false
		}
	}
	for name := range then {
		if _, still := now[name]; !still && name != "backend" {
			return false
		}
	}
	return true
}
