// Package samples keeps what devices do over time: use, memory, temperature, power
// and clock, as agents report them with every heartbeat.
package samples

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"rotanex.example/core/stock"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/store"
)

// Samples looks after them.
type Samples struct {
	store *store.Store
	clock clock.Clock
	hosts *hosts.Hosts

	mu     sync.Mutex
	latest map[string]Latest
}

// Sample is what a device does at a moment, as its agent can tell; "cpu" is the processor
// with the host's memory.
type Sample struct {
	Device      string  `json:"device"`
	Use         float64 `json:"use,omitzero"` // of it, 0 to 1
	MemoryBytes int64   `json:"memory_bytes,omitzero"`
	Celsius     float64 `json:"celsius,omitzero"`
	Watts       float64 `json:"watts,omitzero"`
	MHz         float64 `json:"mhz,omitzero"`
}

// Series is what a device did over time: its slices have a value for each of At.
type Series struct {
	Device           string
	Model            string
	MemoryLimitBytes int64
	At               []time.Time
	Use              []float64
	MemoryBytes      []int64
	Celsius          []float64
	Watts            []float64
	MHz              []float64
	Crew             []string // that it was rendering for; "": none
}

// Latest is the newest samples of a host.
type Latest struct {
	Devices []Sample
	At      time.Time // by the wall clock
}

// New makes it.
func New(s *store.Store, c clock.Clock, h *hosts.Hosts) *Samples {
	return &Samples{store: s, clock: c, hosts: h, latest: map[string]Latest{}}
}

// Of real time: kept in full for fullFor, then thinned to one in thin, and forgotten
// after keptFor.
const (
	fullFor = 6 * time.Hour
	thin    = 5 * time.Minute
	keptFor = 14 * 24 * time.Hour
)

// Keep stores what an agent reported.
func (q *Samples) Keep(ctx context.Context, host string, devices []Sample) error {
	if len(devices) == 0 {
		return nil
	}
	wall := q.clock.WallNow()
	q.mu.Lock()
	q.latest[host] = Latest{devices, wall}
	q.mu.Unlock()
	data, err := json.Marshal(devices)
	if err != nil {
		return err
	}
	return q.store.WithContext(ctx).Exec("INSERT INTO samples (host, at, wall, data) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", host, q.clock.Now(), wall, data).Error
}

// Newest returns the newest samples of each host that this process was told.
func (q *Samples) Newest() map[string]Latest {
	q.mu.Lock()
	defer q.mu.Unlock()
	out := map[string]Latest{}
	for host, l := range q.latest {
		if q.clock.WallNow().Sub(l.At) < hosts.Lost {
			out[host] = l
		}
	}
	return out
}

// Prune thins and forgets old samples.
func (q *Samples) Prune(ctx context.Context) error {
	now := q.clock.WallNow()
	return q.store.WithContext(ctx).Exec(`
		DELETE FROM samples s WHERE wall < $1 OR (wall < $2 AND EXISTS (
			SELECT 1 FROM samples o WHERE o.host = s.host AND o.at < s.at AND o.wall > s.wall - $3::interval
			  AND date_bin($3::interval, o.wall, 'epoch') = date_bin($3::interval, s.wall, 'epoch')))`,
		now.Add(-keptFor), now.Add(-fullFor), thin).Error
}

// points is how many points a series has at most.
const points = 240

// Of returns the samples of a host's devices over the last minutes, each point the mean of
// a step of so many seconds.
func (q *Samples) Of(ctx context.Context, name string, minutes int) (all []Series, step float64, err error) {
	host, err := q.hosts.Find(ctx, name)
	if err != nil {
		return nil, 0, err
	}
	step = float64(minutes) * 60 / points
	all, err = q.series(ctx, host, q.clock.Now().Add(-time.Duration(minutes)*time.Minute), step)
	return all, step, err
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

func seriesOf(host stock.Host, device string) Series {
	s := Series{Device: device, Model: host.CPU.Model, MemoryLimitBytes: int64(host.MemoryGB * 1e9)}
	if d := host.Device(device); d != nil {
		s.Model, s.MemoryLimitBytes = d.Model, int64(d.MemoryGB*1e9)
	}
	return s
}

func orZero(p *float64) float64 {
	if p == nil {
		return 0
	}
	return *p
}

// stint is a crew rendering a frame.
type stint struct {
	crew     string
	from, to time.Time
}

// crews lists what the host's crews rendered since a time, by device.
func (q *Samples) crews(ctx context.Context, host string, from time.Time) (map[string][]stint, error) {
	rows, err := q.store.WithContext(ctx).Raw(`
		SELECT a.crew, f.devices, a.started_at, a.ended_at FROM tries a JOIN frames f ON f.id = a.frame_id
		WHERE a.host = $1 AND a.ended_at >= $2
		UNION ALL SELECT crew, devices, leased_at, $3 FROM frames WHERE host = $1 AND state = 'rendering'`, host, from, q.clock.Now()).Rows()
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

func crewAt(all map[string][]stint, device string, at time.Time, step float64) string {
	end := at.Add(time.Duration(step * float64(time.Second)))
	for _, s := range all[device] {
		if s.from.Before(end) && s.to.After(at) {
			return s.crew
		}
	}
	return ""
}
