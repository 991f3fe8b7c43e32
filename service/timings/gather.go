// Package timings brings together every timed frame there is: those of trials, the
// finished frames of runs and the times that were imported; and keeps the timing
// model fitted to them.
package timings

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/frames"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/rental"
	"rotanex.example/service/runs"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// Timings looks after them.
type Timings struct {
	store *store.Store
	clock clock.Clock
	hosts *hosts.Hosts
	kept  kept
}

// New makes it.
func New(s *store.Store, c clock.Clock, h *hosts.Hosts) *Timings {
	return &Timings{store: s, clock: c, hosts: h}
}

// Row is one timed frame with all that is known of it.
type Row struct {
	timing.Time
	Number   int  // of the frame; meaningless for an import without one
	Trial    bool // a test frame, not one of a run
	Warm     bool // the first frame of a trial
	Imported bool
	Measured timing.Measurement
	At       time.Time
	try      int64 // its number; 0 for an import
}

// newest is how many finished frames are learnt from at most.
const newest = 50_000

// stretches is into how many parts of its length a shot is divided to see which of
// it is heavy.
const stretches = 8

// Stretch is a part of a shot: its frames from First to Last.
type Stretch struct {
	Name        string
	First, Last int
}

// Stretches divides a set of frames into parts of about the same length.
func Stretches(set frames.Set) []Stretch {
	n := set.Len()
	if n == 0 {
		return nil
	}
	count := min(stretches, n)
	var out []Stretch
	for i := range count {
		out = append(out, Stretch{fmt.Sprint(i + 1), set.At(i * n / count), set.At((i+1)*n/count - 1)})
	}
	return out
}

func stretchOf(all []Stretch, frame int) string {
	for _, s := range all {
		if frame <= s.Last {
			return s.Name
		}
	}
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1].Name
}

type attemptRow struct {
	ID       int64
	RunID    uuid.UUID
	Kind     string
	Shot     string
	Host     string
	Crew     string
	Frame    int
	WarmUp   bool
	Seconds  float64
	EndedAt  time.Time
	Measured *timing.Measurement `gorm:"serializer:json"`
}

// row returns the attempt as a timed frame; false where its host is not known any more.
func (a attemptRow) row(spec *shotOfRun, host stock.Host) (Row, bool) {
	crew, ok := host.FindCrew(a.Crew)
	if !ok || spec == nil {
		return Row{}, false
	}
	frame := a.Frame
	r := Row{
		Time: timing.Time{
			Shot: a.Shot, Host: a.Host, Devices: crew.Devices, Models: crew.Models, Backend: hosts.Backend(crew, spec.Spec.Backend), Seconds: a.Seconds, Renderer: spec.Spec.Launcher,
			Frame: &frame, WarmUp: a.WarmUp, Settings: shots.Settings(spec.Spec), Stretch: stretchOf(spec.stretches, a.Frame),
		},
		try: a.ID, Number: a.Frame, Trial: a.Kind == runs.KindTrial, Warm: a.WarmUp, At: a.EndedAt,
	}
	for _, m := range hosts.TimingPlace(host, crew, "", "").Members {
		r.Links = append(r.Links, m.Link)
	}
	if m := a.Measured; m != nil {
		r.Measured, r.Conditions = *m, m.Conditions
		r.Seconds += m.OpeningS - m.OpeningPartS // as if it had had a start for itself: what all times have in common
		r.Fixed, r.Load = m.Stages["prepare"]+m.Stages["finish"], m.Stages["load"]
		if m.Stages["prepare"] == 0 || m.Stages["finish"] == 0 {
			r.Fixed = 0 // half of it says nothing of the whole
		}
	}
	return r, true
}

type shotOfRun struct {
	runs.Shot
	stretches []Stretch
}

// specs returns shots as they were in runs, by run and name.
func (t *Timings) specs(ctx context.Context, of []uuid.UUID) (map[string]*shotOfRun, error) {
	var all []runs.Shot
	if err := t.store.WithContext(ctx).Select("run_id", "shot", "spec").Where("run_id IN ?", of).Find(&all).Error; err != nil {
		return nil, err
	}
	out := map[string]*shotOfRun{}
	for _, s := range all {
		set, err := frames.Parse(s.Spec.Frames)
		if err != nil {
			continue // its frames are left out with it
		}
		out[s.RunID.String()+" "+s.Shot] = &shotOfRun{s, Stretches(set)}
	}
	return out, nil
}

// machines returns hosts by name, rented servers that are gone and farms among them.
func (t *Timings) machines(ctx context.Context, named []string) (map[string]stock.Host, error) {
	out := map[string]stock.Host{}
	var all []hosts.Host
	if err := t.store.WithContext(ctx).Where("name IN ?", named).Find(&all).Error; err != nil {
		return nil, err
	}
	offers, err := t.hosts.Offers(ctx)
	if err != nil {
		return nil, err
	}
	var servers []rental.Server
	if err := t.store.WithContext(ctx).Where("host IN ?", named).Find(&servers).Error; err != nil {
		return nil, err
	}
	for _, s := range servers {
		for _, o := range offers {
			if o.Name == s.Offer {
				out[s.Host] = o.Spec.Server(s.Host)
			}
		}
	}
	farms, err := t.hosts.Farms(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range farms {
		out[f.Name] = f.Spec.Node()
	}
	for _, h := range all {
		out[h.Name] = h.Spec
	}
	return out, nil
}

// rowsOf returns tries as timed frames; those of hosts and shots that are not known any more are left out.
func (t *Timings) rowsOf(ctx context.Context, tries []attemptRow) ([]Row, error) {
	if len(tries) == 0 {
		return nil, nil
	}
	of, named := map[uuid.UUID]bool{}, map[string]bool{}
	for _, a := range tries {
		of[a.RunID], named[a.Host] = true, true
	}
	specs, err := t.specs(ctx, slices.Collect(maps.Keys(of)))
	if err != nil {
		return nil, err
	}
	machines, err := t.machines(ctx, slices.Collect(maps.Keys(named)))
	if err != nil {
		return nil, err
	}
	var out []Row
	for _, a := range tries {
		if row, ok := a.row(specs[a.RunID.String()+" "+a.Shot], machines[a.Host]); ok {
			out = append(out, row)
		}
	}
	return usable(ctx, out), nil
}

// Imported is the record of a time that was measured elsewhere.
type Imported struct {
	ID       int64 `gorm:"primaryKey"`
	ImportID uuid.UUID
	Shot     string
	Data     timing.Time `gorm:"serializer:json"`
	At       time.Time
}

// File is a file of times that was taken in.
type File struct {
	ID      uuid.UUID
	Request []byte // its fingerprint
	Rows    int
	At      time.Time
}

// TableName is GORM's hook.
func (File) TableName() string { return "imports" }

// TableName is GORM's hook.
func (Imported) TableName() string { return "times" }

// imported returns imported times. What they do not say of the settings is taken to
// be as the shot has it now.
func (t *Timings) imported(ctx context.Context, shot string) ([]Row, error) {
	var all []Imported
	query := t.store.WithContext(ctx).Order("id")
	if shot != "" {
		query = query.Where("shot = ?", shot)
	}
	if err := query.Find(&all).Error; err != nil || len(all) == 0 {
		return nil, err
	}
	var known []shots.Shot
	if err := t.store.WithContext(ctx).Find(&known).Error; err != nil {
		return nil, err
	}
	settings, parts := map[string]map[string]string{}, map[string][]Stretch{}
	renderers := map[string]string{}
	for _, s := range known {
		settings[s.Name], parts[s.Name], renderers[s.Name] = shots.Settings(s.Spec), Stretches(s.Frames()), s.Spec.Launcher
	}
	var out []Row
	for _, x := range all {
		r := Row{Time: x.Data, Imported: true, Warm: x.Data.WarmUp, At: x.At}
		merged := map[string]string{}
		for name, value := range settings[x.Shot] {
			merged[name] = value
		}
		for name, value := range x.Data.Settings {
			merged[name] = value
		}
		r.Settings, r.Renderer = merged, renderers[x.Shot]
		if x.Data.Frame != nil {
			r.Number, r.Stretch = *x.Data.Frame, stretchOf(parts[x.Shot], *x.Data.Frame)
		}
		out = append(out, r)
	}
	return out, nil
}

// Import stores times that were measured elsewhere, all or none. Under an id that was
// used before it stores nothing again; with another file it is a conflict.
func (t *Timings) Import(ctx context.Context, id uuid.UUID, text string) (int, error) {
	rows, err := timing.ReadTimes(strings.NewReader(text))
	if err != nil {
		return 0, httpapi.BadField("body", "", err.Error())
	}
	file := File{ID: id, Request: httpapi.Fingerprint(text), Rows: len(rows), At: t.clock.Now()}
	err = t.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// Of two that come at once the second waits here for the first.
		made := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&file)
		if made.Error != nil {
			return made.Error
		}
		if made.RowsAffected == 0 {
			var before File
			if err := tx.Take(&before, "id = ?", id).Error; err != nil {
				return err
			}
			return httpapi.SameRequest(before.Request, file.Request)
		}
		records := make([]Imported, len(rows))
		for i, r := range rows {
			records[i] = Imported{ImportID: id, Shot: r.Shot, Data: r, At: file.At}
		}
		const batch = 1000
		return tx.CreateInBatches(records, batch).Error
	})
	return len(rows), err
}

// Export returns times as a file has them: those of a shot, or with "" the newest of all.
func (t *Timings) Export(ctx context.Context, shot string) ([]timing.Time, error) {
	read := func() ([]attemptRow, error) { return t.triesOf(ctx, shot) }
	if shot == "" {
		read = func() ([]attemptRow, error) { return t.triesAfter(ctx, 0) }
	}
	tries, err := read()
	if err != nil {
		return nil, err
	}
	rows, err := t.rowsOf(ctx, tries)
	if err != nil {
		return nil, err
	}
	imported, err := t.imported(ctx, shot)
	rows = append(rows, usable(ctx, imported)...)
	out := make([]timing.Time, len(rows))
	for i, r := range rows {
		out[i] = r.Time
	}
	return out, err
}
