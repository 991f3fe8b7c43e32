package samples

import (
	"context"
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/hosts"
	"rotanex.example/service/store"
)

// Thin thins samples that are not new.
func (q *Samples) Thin(ctx context.Context) error {
	return q.store.WithContext(ctx).Exec(`
		DELETE FROM samples s WHERE wall < $1 AND EXISTS (
			SELECT 1 FROM samples o WHERE o.host = s.host AND o.at < s.at AND o.wall > s.wall - $2::interval
			  AND date_bin($2::interval, o.wall, 'epoch') = date_bin($2::interval, s.wall, 'epoch'))`,
		q.clock.WallNow().Add(-fullFor), thin).Error
}

// Prune deletes up to so many samples of before a time, and says how many there were.
func Prune(tx *gorm.DB, before time.Time, most int) (int64, error) {
	return store.Prune(tx, "samples", "wall < ?", before, most)
}

func (q *Samples) series(ctx context.Context, host hosts.Host, from time.Time, step float64) ([]Series, error) {
	crews, err := q.crews(ctx, host.Name, from)
	if err != nil {
		return nil, err
	}
	rows, err := q.store.WithContext(ctx).Raw(`
		SELECT d->>'device', date_bin(make_interval(secs => $3), at, 'epoch') AS bin, avg((d->>'use')::float8), max((d->>'memory_bytes')::float8),
		       max((d->>'celsius')::float8), avg((d->>'watts')::float8), avg((d->>'mhz')::float8)
		FROM samples, jsonb_array_elements(data) AS d WHERE host = $1 AND at >= $2 GROUP BY 1, 2 ORDER BY 1, 2`, host.Name, from, step).Rows()
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	out := []Series{}
	for rows.Next() {
		var device string
		var at time.Time
		var use, memory, celsius, watts, mhz *float64
		if err := rows.Scan(&device, &at, &use, &memory, &celsius, &watts, &mhz); err != nil {
			return nil, err
		}
		if len(out) == 0 || out[len(out)-1].Device != device {
			out = append(out, seriesOf(host.Spec, device))
		}
		s := &out[len(out)-1]
		s.At = append(s.At, at.UTC())
		s.Use = append(s.Use, orZero(use))
		s.MemoryBytes = append(s.MemoryBytes, int64(orZero(memory)))
		s.Celsius = append(s.Celsius, orZero(celsius))
		s.Watts = append(s.Watts, orZero(watts))
		s.MHz = append(s.MHz, orZero(mhz))
		s.Crew = append(s.Crew, crewAt(crews, device, at, step))
	}
	return out, rows.Err()
}

// crews lists what the host's crews rendered since a time, by device.
func (q *Samples) crews(ctx context.Context, host string, from time.Time) (map[string][]stint, error) {
	rows, err := q.store.WithContext(ctx).Raw(`
		SELECT a.crew, f.devices, a.started_at, a.ended_at FROM tries a JOIN frames f ON f.id = a.frame_id
		WHERE a.host = $1 AND a.ended_at >= $2
		UNION ALL SELECT crew, devices, leased_at, $3 FROM frames WHERE host = $1 AND state = 'rendering' AND begun`, host, from, q.clock.Now()).Rows()
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	out := map[string][]stint{}
	for rows.Next() {
		var s stint
		var devices []string
		if err := rows.Scan(&s.crew, store.JSON(&devices), &s.from, &s.to); err != nil {
			return nil, err
		}
		for _, d := range devices {
			out[d] = append(out[d], s)
		}
	}
	return out, rows.Err()
}

func add(tx *gorm.DB, all []row) error {
	hosts, at, wall, data := make([]string, len(all)), make([]time.Time, len(all)), make([]time.Time, len(all)), make([]string, len(all))
	for i, r := range all {
		hosts[i], at[i], wall[i], data[i] = r.host, r.at, r.wall, r.data
	}
	return tx.Exec("INSERT INTO samples (host, at, wall, data) SELECT * FROM unnest($1::text[], $2::timestamptz[], $3::timestamptz[], $4::jsonb[]) ON CONFLICT DO NOTHING", hosts, at, wall, data).Error
}
