package timings

import (
	"context"
	"slices"

	"rotanex.example/service/shots"
)

// Rows returns the timed frames of a shot, or of all with "", the oldest first.
func (t *Timings) Rows(ctx context.Context, shot string) ([]Row, error) {
	var tries []attemptRow
	err := t.store.WithContext(ctx).Raw(`
		SELECT f.run_id, r.kind, f.shot, a.host, a.crew, f.frame, f.warm_up, a.seconds, a.ended_at, a.measured
		FROM tries a JOIN frames f ON f.id = a.frame_id AND f.fence = a.fence JOIN runs r ON r.id = f.run_id
		WHERE a.outcome = 'done' AND f.state = 'done' AND a.seconds > 0 AND (? = '' OR f.shot = ?) AND f.memory_mode = ''
		ORDER BY a.id DESC LIMIT ?`, shot, shot, newest).Scan(&tries).Error
	if err != nil {
		return nil, err
	}
	slices.Reverse(tries)
	specs, err := t.specs(ctx)
	if err != nil {
		return nil, err
	}
	machines, err := t.machines(ctx)
	if err != nil {
		return nil, err
	}
	var out []Row
	for _, a := range tries {
		spec := specs[a.RunID.String()+" "+a.Shot]
		if row, ok := a.row(spec, machines[a.Host]); ok {
			out = append(out, row)
		}
	}
	imported, err := t.imported(ctx, shot)
	return append(out, imported...), err
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

// state tells one state of everything that is known of times from another.
func (t *Timings) state(ctx context.Context) (of string, err error) {
	return of, t.store.WithContext(ctx).Raw(`SELECT concat_ws(' ',
		(SELECT max(id) FROM tries WHERE outcome = 'done'), (SELECT max(id) FROM times), (SELECT max(updated_at) FROM shots),
		(SELECT count(*) FROM hosts), (SELECT count(*) FROM offers))`).Scan(&of).Error
}
