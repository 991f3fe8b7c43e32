// Package trials times test frames. A trial is carried out as a run of its own:
// a warm-up frame, which loads kernels and data and does not count, then several
// timed frames from across the shot, all on the one crew it is about.
package trials

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/frames"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
	"rotanex.example/service/runs"
	"rotanex.example/service/shots"
	"rotanex.example/service/states"
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

// Wanted is a trial as a person asks for it. What is 0 is the usual.
type Wanted struct {
	Shot, Host, Crew string
	Frames           int     // timed, from across the shot
	Precision        float64 // repeat until the median is known to within it; 0: no repeats
	MaxRepeats       int
	MaxS             float64 // service seconds after which no repeat begins
	Request          []byte
}

// Create begins a trial that a person asks for.
func (t *Trials) Create(ctx context.Context, id uuid.UUID, want Wanted) (Outcome, error) {
	shot, err := t.shots.Find(ctx, want.Shot)
	if err != nil {
		return Outcome{}, err
	}
	n := Ask{ID: id, Shot: shot, Host: want.Host, Crew: want.Crew, Request: want.Request, Repeats: 1}
	count := want.Frames
	if want.Precision > 0 {
		n.Precision, n.Repeats = &want.Precision, max(1, want.MaxRepeats)
		if want.MaxRepeats == 0 {
			n.Repeats = defaultRepeats
		}
		count = max(1, count)
	} else if count == 0 {
		count = defaultFrames
	}
	if want.MaxS > 0 {
		n.MaxS = &want.MaxS
	}
	n.Frames = shot.Frames().Sample(count)
	if err := t.Begin(ctx, n); err != nil {
		return Outcome{}, err
	}
	return t.Find(ctx, id)
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
	if n.Frames, err = t.fed(ctx, n.Shot, n.Frames); err != nil {
		return err
	}
	now := t.clock.Now()
	b := runs.Beginning{
		Run:    runs.Run{ID: n.ID, Kind: runs.KindTrial, Request: n.Request, Tries: tries, CreatedAt: now},
		Shots:  []runs.Shot{{RunID: n.ID, Shot: n.Shot.Name, Spec: n.Shot.Spec}},
		Frames: []queue.Asked{{Shot: n.Shot.Name, Frames: frames.Of(n.Frames.At(0)), WarmUp: true}, {Shot: n.Shot.Name, Frames: n.Frames, Repeats: n.Repeats}},
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
	b.Bookings = []bookings.Booking{{
		RunID: n.ID, Shot: n.Shot.Name, Host: host.Name, Crew: crew.ID, Devices: crew.Devices,
		Frames: b.Frames[0].Count() + b.Frames[1].Count(), StartAt: now, EndAt: now.Add(patience),
	}}
	return t.runs.Begin(ctx, b)
}

// Cancel ends a trial: frames that are timed stay, the one that is rendered is given up.
func (t *Trials) Cancel(ctx context.Context, id uuid.UUID) error {
	return t.runs.SetState(ctx, id, states.RunCancelled)
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

// fed are the frames of those asked for for which the passes are rendered that a shot needs, by whatever run or trial; where none
// of them is, as many others.
func (t *Trials) fed(ctx context.Context, shot shots.Shot, asked frames.Set) (frames.Set, error) {
	if len(shot.Spec.After) == 0 {
		return asked, nil
	}
	found, err := t.rendered(ctx, shot.Spec.After)
	if err != nil {
		return asked, err
	}
	there := shot.Frames().Minus(shot.Frames().Minus(frames.Of(found...)))
	if there.Len() == 0 {
		return asked, httpapi.Conflict(fmt.Sprintf("%s needs the frames of %s, and there is no frame that all of them have: time those first, such as with rotanex trials run %s --host HOST",
			shot.Name, strings.Join(shot.Spec.After, " and "), shot.Spec.After[0]))
	}
	if some := asked.Minus(asked.Minus(there)); some.Len() > 0 {
		return some, nil
	}
	return there.Sample(asked.Len()), nil
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
		if r.State == queue.Done && !r.WarmUp {
			byFrame[r.Frame] = append(byFrame[r.Frame], *r.Seconds)
		}
	}
	late := trial.MaxS != nil && t.clock.Now().Sub(trial.CreatedAt).Seconds() >= *trial.MaxS && len(byFrame) > 0
	if !late && !timing.Precise(byFrame, *trial.Precision) {
		return nil
	}
	return queue.DropWaiting(t.store.WithContext(ctx), run)
}

// Row is a frame of a trial with what was measured.
type Row struct {
	RunID    uuid.UUID
	Frame    int
	Repeat   int
	WarmUp   bool
	State    queue.State
	Cause    string
	Seconds  *float64
	LogTail  string
	Measured *timing.Measurement `gorm:"serializer:json"`
}

type trialRun struct {
	Trial
	State     states.Run
	CreatedAt time.Time
}

// Outcome is a trial with what it has found so far.
type Outcome struct {
	trialRun
	Rows []Row // the warm-up first, then in the order in which they are timed
}

// Open reports whether it is not over.
func (o Outcome) Open() bool { return o.State.Open() }

// Summary sums its timed frames up; false: there are none yet.
func (o Outcome) Summary() (timing.Summary, bool) {
	var seconds []float64
	for _, r := range o.Rows {
		if r.State == queue.Done && !r.WarmUp {
			seconds = append(seconds, *r.Seconds)
		}
	}
	return timing.Summarise(seconds)
}

func (t *Trials) query(ctx context.Context) *gorm.DB {
	return t.store.WithContext(ctx).Table("trials").
		Select("trials.*, runs.state, runs.created_at").Joins("JOIN runs ON runs.id = trials.run_id")
}

// Find returns a trial, or a problem that names it.
func (t *Trials) Find(ctx context.Context, id uuid.UUID) (Outcome, error) {
	found, err := t.Of(ctx, "trials.run_id = ?", id)
	if err == nil && len(found) == 0 {
		err = httpapi.NotFound(fmt.Sprintf("there is no trial %s; rotanex trials list shows them", id))
	}
	if err != nil {
		return Outcome{}, err
	}
	return found[0], nil
}

// page returns a page of trials, of one shot if it is named, newest first.
func (t *Trials) page(ctx context.Context, shot, cursor *string, limit *int) ([]Outcome, string, error) {
	query := t.query(ctx)
	if shot != nil {
		query = query.Where("trials.shot = ?", *shot)
	}
	found, next, err := httpapi.Newest(query, "runs.created_at", "runs.id",
		func(x trialRun) (time.Time, uuid.UUID) { return x.CreatedAt, x.RunID }, cursor, limit)
	if err != nil {
		return nil, "", err
	}
	out, err := t.outcomes(ctx, found)
	return out, next, err
}

func (t *Trials) outcomes(ctx context.Context, found []trialRun) ([]Outcome, error) {
	rows, err := t.rows(ctx, idsOf(found))
	out := make([]Outcome, len(found))
	for i, f := range found {
		out[i] = Outcome{f, rows[f.RunID]}
	}
	return out, err
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
func (t *Trials) Of(ctx context.Context, where string, args ...any) ([]Outcome, error) {
	var found []trialRun
	if err := t.query(ctx).Where(where, args...).Order("runs.created_at, runs.id").Scan(&found).Error; err != nil {
		return nil, err
	}
	return t.outcomes(ctx, found)
}
