package timings

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/timing"
	"rotanex.example/service/runs"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// columns are those of a timed frame of a try a, its frame f and its run r.
const columns = "a.id, f.run_id, r.kind, f.shot, a.host, a.crew, f.frame, f.warm_up, a.seconds, a.ended_at, a.measured"

// timed is which tries say how long a frame takes.
const timed = "a.outcome = 'done' AND f.state = 'done' AND f.fence = a.fence AND a.seconds > 0 AND f.memory_mode = ''"

// triesAfter reads the timed frames of tries after one, the oldest first; if there are too many, the newest of them.
func (t *Timings) triesAfter(ctx context.Context, after int64) (out []attemptRow, err error) {
	err = t.store.WithContext(ctx).Raw("SELECT "+columns+" FROM tries a JOIN frames f ON f.id = a.frame_id JOIN runs r ON r.id = f.run_id WHERE a.id > ? AND "+timed+
		" ORDER BY a.id DESC LIMIT ?", after, newest).Scan(&out).Error
	slices.Reverse(out)
	return out, err
}

// Of how many runs and trials, and of how many tries of each, timed frames are read when nothing is known yet.
const (
	lastTrials = 5000
	lastRuns   = 500
	ofEach     = 10_000
)

// newestTries reads timed frames of the last trials and runs, of each the newest, the oldest first.
func (t *Timings) newestTries(ctx context.Context, _ int64) (out []attemptRow, err error) {
	for kind, last := range map[string]int{runs.KindTrial: lastTrials, runs.KindRun: lastRuns} {
		var some []attemptRow
		err := t.store.WithContext(ctx).Raw("SELECT x.* FROM (SELECT id, kind FROM runs WHERE kind = ? ORDER BY created_at DESC LIMIT ?) r, LATERAL (SELECT "+columns+
			" FROM tries a JOIN frames f ON f.id = a.frame_id WHERE a.run_id = r.id AND "+timed+" ORDER BY a.id DESC LIMIT ?) x LIMIT ?", kind, last, ofEach, newest).Scan(&some).Error
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	slices.SortFunc(out, func(a, b attemptRow) int { return cmp.Compare(a.ID, b.ID) })
	return out, nil
}

// triesOf reads the timed frames of a shot, the newest there are, the oldest first.
func (t *Timings) triesOf(ctx context.Context, shot string) (out []attemptRow, err error) {
	err = t.store.WithContext(ctx).Raw("SELECT "+columns+" FROM run_shots s JOIN frames f ON f.run_id = s.run_id AND f.shot = s.shot JOIN tries a ON a.frame_id = f.id JOIN runs r ON r.id = s.run_id WHERE s.shot = ? AND "+
		timed+" ORDER BY a.id DESC LIMIT ?", shot, newest).Scan(&out).Error
	slices.Reverse(out)
	return out, err
}

// usable leaves out rows that nothing can be learnt from: they are older than the bounds that times have.
func usable(ctx context.Context, rows []Row) []Row {
	all := len(rows)
	rows = slices.DeleteFunc(rows, func(r Row) bool {
		return !(timing.IsTime(r.Seconds) && len(r.Devices) > 0 && r.Fixed >= 0 && r.Fixed <= timing.Longest && r.Load >= 0 && r.Load <= timing.Longest)
	})
	if left := all - len(rows); left > 0 {
		slog.WarnContext(ctx, "timed frames are left out: no frame can have taken that long", "frames", left, "of", all)
	}
	return rows
}

// peak is the most memory that frames of a shot took, as it was then, by how they ended.
type peak struct {
	Spec    shots.Spec `gorm:"serializer:json"`
	Outcome string
	Device  int64
	Host    int64
}

// peaks reads what frames of a shot took of memory on single devices.
func (t *Timings) peaks(ctx context.Context, shot string) (seen []peak, err error) {
	return seen, t.store.WithContext(ctx).Raw(`
		SELECT s.spec, a.outcome, max((a.measured->>'device_peak_bytes')::bigint) AS device, max((a.measured->>'peak_memory_bytes')::bigint) AS host
		FROM tries a JOIN frames f ON f.id = a.frame_id JOIN run_shots s ON s.run_id = f.run_id AND s.shot = f.shot
		WHERE f.shot = ? AND (a.outcome = 'done' AND f.memory_mode = '' OR a.cause = 'out-of-memory')
		  AND jsonb_array_length(coalesce(f.devices, '[]')) < 2
		GROUP BY 1, 2`, shot).Scan(&seen).Error
}

// state tells one state of what tells times apart beside tries from another: of the stock, and of shots and of what was imported.
func (t *Timings) state(ctx context.Context) (stock, others string, err error) {
	return stock, others, t.store.WithContext(ctx).Raw(`SELECT concat_ws(' ', (SELECT count(*) FROM hosts WHERE NOT server), (SELECT count(*) FROM offers)),
		concat_ws(' ', (SELECT max(id) FROM times), (SELECT max(updated_at) FROM shots))`).Row().Scan(&stock, &others)
}

// lastTry is the number of the last try that gave a frame.
func (t *Timings) lastTry(ctx context.Context) (id int64, err error) {
	return id, t.store.WithContext(ctx).Raw("SELECT coalesce(max(id), 0) FROM tries WHERE outcome = 'done'").Scan(&id).Error
}

// Turnaround is for how long a start takes a crew up beyond its renderer's own time: until the renderer is started, and its (last)
// picture checked, sent and taken in.
type Turnaround struct {
	hosts map[string]time.Duration
	all   time.Duration // of all hosts
}

// On is the turnaround of a host; of one of which little was seen, that of all.
func (t Turnaround) On(host string) time.Duration {
	if d, known := t.hosts[host]; known {
		return d
	}
	return t.all
}

// Of the last finished frames so many are looked at, and of a host at least so many have to
// be among them.
const (
	lastTurnarounds   = 2000
	fewestTurnarounds = 3
)

// Turnaround reads how long crews were taken up of late beyond rendering: the median by
// host, in the service's time. A farm's frames say nothing of that, nor do those of a start of several, which are
// handed in while the next is rendered.
func (t *Timings) Turnaround(ctx context.Context) (Turnaround, error) {
	type row struct {
		host    *string
		seconds float64
		n       int
	}
	rows, err := store.Rows(t.store.WithContext(ctx).Raw(`
		SELECT x.host, coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY x.beyond), 0), count(*) FROM (
			SELECT a.frame_id, a.host, greatest(0, extract(epoch FROM a.ended_at - a.started_at)::float8 - a.seconds) AS beyond FROM tries a
			WHERE a.outcome = 'done' AND a.seconds > 0 AND NOT EXISTS (SELECT FROM farm_jobs j WHERE j.run_id = a.run_id AND j.farm = a.host)
			ORDER BY a.id DESC LIMIT $1) x JOIN frames f ON f.id = x.frame_id AND f.start = 0 GROUP BY GROUPING SETS ((x.host), ())`, lastTurnarounds), func(r store.Row) (x row, err error) {
		return x, r.Scan(&x.host, &x.seconds, &x.n)
	})
	out := Turnaround{hosts: map[string]time.Duration{}}
	for _, x := range rows {
		switch d := time.Duration(x.seconds * float64(time.Second)); {
		case x.host == nil:
			out.all = d
		case x.n >= fewestTurnarounds:
			out.hosts[*x.host] = d
		}
	}
	return out, err
}

// PruneImports deletes up to so many records of files that were taken in before a time, by which one is known that is sent again,
// and says how many there were. The times themselves stay.
func PruneImports(tx *gorm.DB, before time.Time, most int) (int64, error) {
	return store.Prune(tx, "imports", "at < ?", before, most)
}
