package timing

import (
	"math"
	"math/rand/v2"
	"strings"
)

// made is a set of times with the truth that they were made from. The truth is not
// drawn from the model's own priors: parts are in seconds, rates differ from scene to
// scene, GPUs feed from the CPU, crews interfere.
type made struct {
	rows  []Observation
	truth func(shot string, p Place) float64 // seconds without noise
	shots []string
	every []Place
}

type rig struct {
	gpus  []Member
	cpu   Member
	shots int
	noise float64
	// holes is the share of crews that were not timed.
	holes    float64
	backends []string
}

type madeShot struct{ prepare, load, work, finish, share float64 }

func (r rig) make(rnd *rand.Rand) made {
	between := func(low, high float64) float64 { return low * math.Pow(high/low, rnd.Float64()) }
	rates := map[string]float64{}
	models := []string{r.cpu.Model}
	for _, g := range r.gpus {
		if rates[g.Model] == 0 {
			models = append(models, g.Model)
			rates[g.Model] = between(0.5, 2.2)
		}
	}
	rates[r.cpu.Model] = between(0.06, 0.5)
	backend := map[string]float64{"": 1}
	for i, b := range r.backends {
		backend[b] = math.Pow(between(1.1, 1.9), float64(i))
	}
	feed, interfere := between(0.01, 0.08), between(0.002, 0.04)
	m := made{}
	shots := map[string]madeShot{}
	scene := map[string]float64{} // how a model does at a shot
	for i := range r.shots {
		name := string(rune('a' + i))
		m.shots = append(m.shots, name)
		work := between(8, 700)
		shots[name] = madeShot{between(0.5, 20), between(0.2, 4), work, between(0.3, 5), between(0.4, 1)}
		for _, model := range models {
			spread := 0.06
			if model == r.cpu.Model {
				spread = 0.2
			}
			scene[name+model] = math.Exp(spread * rnd.NormFloat64())
		}
	}
	m.truth = func(shot string, p Place) float64 {
		s := shots[shot]
		gpus, cpu := p.devices()
		t, rate := s.prepare+s.finish, 0.0
		for _, d := range p.Members {
			if d.CPU {
				continue
			}
			n, ok := lanes(d.Link)
			if !ok {
				n = 16
			}
			t += s.load * math.Pow(16/n, 0.7)
			rate += rates[d.Model] * scene[shot+d.Model] * backend[p.Backend]
		}
		rate *= 1 - interfere*float64(max(0, gpus-1))
		if cpu {
			own := rates[r.cpu.Model] * scene[shot+r.cpu.Model]
			if gpus > 0 {
				own = own*s.share - feed*rate*float64(gpus)
			}
			rate += own
		}
		return t + s.work/rate
	}
	backends := r.backends
	if len(backends) == 0 {
		backends = []string{""}
	}
	for _, b := range backends {
		for set := 1; set < 1<<(len(r.gpus)+1); set++ {
			p := Place{Host: "h", Backend: b}
			var ids []string
			for i, g := range r.gpus {
				if set&(1<<i) != 0 {
					p.Members, ids = append(p.Members, g), append(ids, "g"+string(rune('0'+i)))
				}
			}
			if set&(1<<len(r.gpus)) != 0 {
				p.Members, ids = append(p.Members, r.cpu), append(ids, "cpu")
			}
			p.Crew = strings.Join(ids, "+")
			m.every = append(m.every, p)
		}
	}
	for _, shot := range m.shots {
		for _, p := range m.every {
			if rnd.Float64() < r.holes {
				continue
			}
			m.rows = append(m.rows, Observation{Subject: shot, Place: p, Seconds: m.truth(shot, p) * math.Exp(r.noise*rnd.NormFloat64())})
		}
	}
	return m
}

func gpus(link string, models ...string) (out []Member) {
	for _, m := range models {
		out = append(out, Member{Model: m, Link: link})
	}
	return out
}

var keel = Member{Model: "Keel 16", CPU: true}

// rigs are the kinds of machines that the model must do well on.
var rigs = map[string]rig{
	"four alike":         {gpus: gpus("16", "A", "A", "A", "A"), cpu: keel, shots: 3, noise: 0.02, holes: 0.4},
	"four on one lane":   {gpus: gpus("1", "A", "A", "A", "A"), cpu: keel, shots: 2, noise: 0.03, holes: 0.5},
	"unequal pair":       {gpus: gpus("16", "A", "B"), cpu: keel, shots: 4, noise: 0.03, holes: 0.2},
	"one shot":           {gpus: gpus("", "A", "A", "A"), cpu: keel, shots: 1, noise: 0.02, holes: 0.3},
	"two backends":       {gpus: gpus("", "A", "A"), cpu: keel, shots: 3, noise: 0.02, holes: 0.3, backends: []string{"old", "new"}},
	"one card and a CPU": {gpus: gpus("16", "A"), cpu: keel, shots: 5, noise: 0.03, holes: 0.1},
	"noisy":              {gpus: gpus("8", "A", "B", "B"), cpu: keel, shots: 3, noise: 0.06, holes: 0.5},
}
