package agent

import (
	"context"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/stock"
)

// samples says what each device does now: by its driver, or where that does not tell,
// as with simulated devices, by what the renderers on it say.
func (a *Agent) samples(ctx context.Context) []api.DeviceSample {
	var out []api.DeviceSample
	for _, s := range a.sampler.Sample(ctx) {
		out = append(out, api.DeviceSample{Device: s.Device, Use: s.Use, MemoryBytes: s.MemoryBytes, Celsius: s.Celsius, Watts: s.Watts, Mhz: s.MHz})
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for x := range a.starts {
		x.mu.Lock()
		for i := range out {
			if said, ok := x.reading.Devices[out[i].Device]; ok {
				out[i].Use, out[i].Celsius, out[i].Watts, out[i].Mhz = said.Use, said.Celsius, said.Watts, said.MHz
				out[i].MemoryBytes = max(out[i].MemoryBytes, said.Bytes)
			}
		}
		x.mu.Unlock()
	}
	for _, s := range out {
		for x := range a.starts {
			x.used(s)
		}
	}
	return out
}

// sampleEvery is how often devices are looked at, in real time.
const sampleEvery = 500 * time.Millisecond

// sample looks at the devices until ctx ends.
func (a *Agent) sample(ctx context.Context) {
	ticks := time.NewTicker(sampleEvery)
	defer ticks.Stop()
	for {
		now := a.samples(ctx)
		a.latest.Store(&now)
		select {
		case <-ctx.Done():
			return
		case <-ticks.C:
		}
	}
}

// sampled is what the devices did when they were last looked at.
func (a *Agent) sampled() []api.DeviceSample {
	if now := a.latest.Load(); now != nil {
		return *now
	}
	return nil
}

// use adds up how much a crew's devices were used while it rendered.
type use struct{ sum, count float64 }

// used takes in a sample if its device is the crew's. The CPU is shared with all else on
// the host and does not count beside GPUs.
func (s *start) used(x api.DeviceSample) {
	for _, id := range s.of.Devices {
		if id == x.Device && (id != stock.CPUDevice || len(s.of.Devices) == 1) {
			s.mu.Lock()
			s.use.sum += x.Use
			s.use.count++
			s.mu.Unlock()
		}
	}
}

// mean is how much the crew's devices were used, 0 where that was not seen.
func (u use) mean() float64 {
	if u.count == 0 {
		return 0
	}
	return min(1, u.sum/u.count)
}
