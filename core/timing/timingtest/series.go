// Package timingtest makes series of frame times with known truth, for tests and benchmarks of
// package timing. The truth is not of the model's family: it is what a small mechanical picture
// of a renderer gives. A frame is prepared on the CPU, its scene is copied to each GPU over a bus
// that they share in part, and its work is cut into tiles that devices fetch. Each tile costs
// the CPU something as well, so that there is a rate beyond which no device helps; a slow device
// that fetched the last tile lets all others wait; a scene that nearly fills a device's memory is
// slow there; what several devices draw together lowers their clocks.
package timingtest

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"

	"rotanex.example/core/timing"
)

// Kind is what binds a scene.
type Kind string

// Kinds of scenes.
const (
	WorkBound   Kind = "bound by its work"
	CPUBound    Kind = "bound by the CPU"
	Light       Kind = "light, loading outweighs it"
	MemoryBound Kind = "memory nearly full"
	NarrowLinks Kind = "narrow links"
	CPUBeside   Kind = "CPU beside, as it comes"
)

// Kinds lists them.
var Kinds = []Kind{WorkBound, CPUBound, Light, MemoryBound, NarrowLinks, CPUBeside}

// Series is what was timed on one host.
type Series struct {
	Kind  Kind // of its first shot
	Shots []string
	Every []timing.Place // crews that the host can form
	truth map[string]scene
	rig   rig
}

type rig struct {
	name     string
	lanes    float64
	models   []string // of its GPUs
	rate     map[string]float64
	cpu      float64 // rate of the CPU alone
	feed     float64 // tiles a second that the CPU can feed, of an ordinary scene
	bus      float64 // 0: loads go side by side, 1: one after the other
	clock    float64 // by how much each GPU more lowers all clocks
	copies   float64
	backends map[string]float64
}

type scene struct {
	kind                          Kind
	prepare, load, finish         float64 // seconds
	tiles, tile                   float64 // how many, and how much work each is
	feeds                         float64 // how much of the CPU a tile takes, beside an ordinary one
	likes                         map[string]float64
	crowded                       float64 // how many times as long work takes on one GPU alone
	cpuKeeps, cpuTakes, cpuHelped float64 // of its rate beside GPUs, of theirs, and whether it waits for its last tile
}

func between(r *rand.Rand, low, high float64) float64 { return low * math.Pow(high/low, r.Float64()) }

// Make makes a series whose first shot is of a kind and whose others, so many more, are of any.
func Make(r *rand.Rand, name string, kind Kind, gpus, others int) Series {
	s := Series{Kind: kind, truth: map[string]scene{}, rig: makeRig(r, name, kind, gpus)}
	for i := range others + 1 {
		k := kind
		if i > 0 {
			k = Kinds[r.IntN(len(Kinds))]
		}
		shot := fmt.Sprintf("%s-%d", name, i)
		s.Shots, s.truth[shot] = append(s.Shots, shot), makeScene(r, k, s.rig)
	}
	s.Every = s.rig.crews()
	return s
}

func makeRig(r *rand.Rand, name string, kind Kind, gpus int) rig {
	g := rig{
		name: name, lanes: []float64{16, 16, 8}[r.IntN(3)], rate: map[string]float64{}, cpu: between(r, 0.05, 0.4),
		feed: between(r, 6, 30), bus: r.Float64(), clock: between(r, 0.003, 0.03), copies: between(r, 0.6, 0.9), backends: map[string]float64{"": 1},
	}
	if kind == NarrowLinks {
		g.lanes = []float64{1, 1, 2, 4}[r.IntN(4)]
	}
	alike := r.Float64() < 0.6
	for i := range gpus {
		model := name + " A"
		if i > 0 && !alike && r.IntN(2) == 0 {
			model = name + " B"
		}
		g.models = append(g.models, model)
		if g.rate[model] == 0 {
			g.rate[model] = between(r, 0.5, 2.2)
		}
	}
	if r.IntN(3) == 0 {
		g.backends = map[string]float64{"older": 1, "newer": between(r, 1.05, 2)}
	}
	return g
}

func makeScene(r *rand.Rand, kind Kind, g rig) scene {
	s := scene{
		kind: kind, prepare: between(r, 0.3, 8), load: between(r, 0.1, 1.5), finish: between(r, 0.2, 3), tiles: between(r, 40, 400),
		feeds: between(r, 0.1, 1.5), likes: map[string]float64{}, crowded: 1, cpuKeeps: between(r, 0.5, 1), cpuTakes: between(r, 0.005, 0.06),
	}
	work := between(r, 30, 600)
	switch kind {
	case CPUBound:
		if r.IntN(2) == 0 { // it is prepared for as long as it is rendered, or longer
			s.prepare = work * between(r, 0.7, 5)
		} else { // or its tiles take more of the CPU than it has
			s.feeds = between(r, 1.5, 6) * g.feed / (s.tiles / work) / g.rate[g.models[0]]
		}
	case Light:
		work = between(r, 1, 8)
		s.load, s.tiles = work*between(r, 0.15, 1.2), between(r, 20, 80)
	case MemoryBound:
		s.crowded = between(r, 1.08, 1.6)
	case NarrowLinks:
		work = between(r, 5, 150)
		s.load = between(r, 0.2, 2)
	case CPUBeside:
		switch r.IntN(3) {
		case 0:
			s.cpuKeeps, s.cpuTakes = 1, between(r, 0.001, 0.01)
		case 1:
			s.cpuKeeps = between(r, 0.01, 0.2)
		default:
			s.cpuKeeps, s.cpuTakes, s.cpuHelped = between(r, 0.2, 1), between(r, 0.05, 0.35), 1
		}
	}
	s.tile = work / s.tiles
	for _, m := range append([]string{"cpu"}, g.models...) {
		if s.likes[m] == 0 {
			s.likes[m] = math.Exp(map[bool]float64{true: 0.2, false: 0.06}[m == "cpu"] * r.NormFloat64())
		}
	}
	return s
}

// crews lists every crew of each backend; a CPU by itself has none.
func (g rig) crews() (out []timing.Place) {
	for backend := range g.backends {
		for set := 1; set < 1<<(len(g.models)+1); set++ {
			p := timing.Place{Host: g.name, Backend: backend}
			var ids []string
			for i, m := range g.models {
				if set&(1<<i) != 0 {
					p.Members, ids = append(p.Members, timing.Member{Model: m, Link: fmt.Sprint(g.lanes)}), append(ids, fmt.Sprint("g", i))
				}
			}
			if set&(1<<len(g.models)) != 0 {
				p.Members, ids = append(p.Members, timing.Member{Model: g.name + " CPU", CPU: true}), append(ids, "cpu")
			}
			if p.Crew = strings.Join(ids, "+"); p.Crew == "cpu" {
				p.Backend = ""
			}
			out = append(out, p)
		}
	}
	return out
}

// Truth is what a frame takes without noise, in seconds.
func (s Series) Truth(shot string, p timing.Place) float64 {
	x, g := s.truth[shot], s.rig
	n, cpu := 0, false
	rate := 0.0
	for _, m := range p.Members {
		if m.CPU {
			cpu = true
			continue
		}
		n++
		rate += g.rate[m.Model] * x.likes[m.Model] * g.backends[p.Backend]
	}
	own := g.cpu * x.likes["cpu"]
	work, least := x.tile*x.tiles, 0.0
	if n == 0 {
		return x.prepare + work/own + x.finish
	}
	if n == 1 {
		rate /= x.crowded
	}
	rate *= 1 - g.clock*float64(n-1)
	load := x.load * math.Pow(16/g.lanes, g.copies)
	loads := load * (g.bus*float64(n) + 1 - g.bus)
	feed := g.feed / x.feeds // tiles a second
	if cpu {
		rate = rate*(1-x.cpuTakes*float64(n)) + own*x.cpuKeeps
		feed *= 0.8
		least = x.cpuHelped * x.tile / own
	}
	// The CPU feeds while devices render: what takes longer bounds, softly.
	rendering := math.Pow(math.Pow(work/rate, 6)+math.Pow(x.tiles/feed, 6), 1.0/6)
	return x.prepare + loads + math.Max(rendering, least) + x.finish
}

// Time times a shot on a crew, once.
func (s Series) Time(r *rand.Rand, shot string, p timing.Place) timing.Observation {
	return timing.Observation{Subject: shot, Place: p, Seconds: s.Truth(shot, p) * math.Exp(0.02*r.NormFloat64())}
}
