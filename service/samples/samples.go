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
	"rotanex.example/service/gather"
	"rotanex.example/service/hosts"
	"rotanex.example/service/store"
)

// Samples looks after them.
type Samples struct {
	store *store.Store
	clock clock.Clock
	hosts *hosts.Hosts

	rows *gather.Gather[row, struct{}]

	mu     sync.Mutex
	latest map[string]Latest
}

// row is what an agent reported at a time.
type row struct {
	host     string
	at, wall time.Time
	data     string
}

// together is for how long rows are gathered.
const together = 20 * time.Millisecond

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
	q := &Samples{store: s, clock: c, hosts: h, latest: map[string]Latest{}}
	q.rows = gather.New(together, 500, 5*time.Second, func(ctx context.Context, all []row) ([]struct{}, error) {
		return make([]struct{}, len(all)), add(q.store.WithContext(ctx), all)
	})
	return q
}

// Of real time: kept in full for fullFor, then thinned to one in thin; service/storage forgets them.
const (
	fullFor = 6 * time.Hour
	thin    = 5 * time.Minute
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
	_, err = q.rows.Do(ctx, row{host, q.clock.Now(), wall, string(data)})
	return err
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

func crewAt(all map[string][]stint, device string, at time.Time, step float64) string {
	end := at.Add(time.Duration(step * float64(time.Second)))
	for _, s := range all[device] {
		if s.from.Before(end) && s.to.After(at) {
			return s.crew
		}
	}
	return ""
}
