// Package simulator simulates what Rotanex works with and what a demo or a test
// cannot have: GPUs of given memory and speed with a renderer on them, and a
// rented-server service. The renderer takes the time, holds the memory, fails on
// demand and writes a real picture.
package simulator

import (
	_ "embed"
	"errors"
	"fmt"
	"hash/fnv"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"rotanex.example/core/memory"
	"rotanex.example/core/stock"
)

//go:embed models.yaml
var modelsFile []byte

var machines struct {
	LaneGBs   float64            `yaml:"lane_gb_s"`
	Backends  map[string]float64 `yaml:"backends"`
	Crowding  float64            `yaml:"crowding"`
	Feeding   float64            `yaml:"feeding"`
	CPUKept   float64            `yaml:"cpu_kept"`
	Installed map[string]struct {
		Version string   `yaml:"version"`
		Plugins []string `yaml:"plugins"`
	} `yaml:"installed"`
	Models map[string]struct {
		Rate float64 `yaml:"rate"`
	} `yaml:"models"`
}

func init() {
	if err := yaml.Unmarshal(modelsFile, &machines); err != nil {
		panic(err) // it is embedded: a test reads it
	}
}

// Scene is a scene file of the simulated renderer.
type Scene struct {
	Title          string  `yaml:"title"`
	PrepareS       float64 `yaml:"prepare_s"` // on the CPU, whatever the crew
	LoadGB         float64 `yaml:"load_gb"`   // to each device
	WorkS          float64 `yaml:"work_s"`    // of a middling frame at 128 samples on a rate of 1
	FinishS        float64 `yaml:"finish_s"`
	Variation      float64 `yaml:"variation"`        // how much heavier the heaviest frames are, as a share
	Noise          float64 `yaml:"noise"`            // from one time to the next, as a share
	DeviceMemoryGB float64 `yaml:"device_memory_gb"` // on each device
	TexturesGB     float64 `yaml:"textures_gb"`      // the part of it that can be spilled
	Frames         int     `yaml:"frames"`           // over which the animation runs
	Hue            float64 `yaml:"hue"`              // of the picture, 0 to 1
	lampless       bool    // the renderer lacks the lamp
}

// ReadScene reads a scene file.
func ReadScene(path string) (Scene, error) {
	var s Scene
	data, err := os.ReadFile(path)
	if err == nil {
		err = yaml.UnmarshalWithOptions(data, &s, yaml.Strict())
	}
	if err == nil && (s.WorkS <= 0 || s.Frames < 1) {
		err = errors.New("work_s and frames: want above 0")
	}
	return s, err
}

// weight is how heavy a frame is beside a middling one: a slow swell over the
// shot, with a bump where most moves.
func (s Scene) weight(frame int) float64 {
	t := float64(frame) / float64(s.Frames)
	swell := math.Sin(math.Pi * t)
	bump := math.Exp(-math.Pow((t-0.62)/0.08, 2))
	return 1 + s.Variation*(0.6*swell+0.4*bump-0.4)
}

// jitter is the run-to-run difference, the same for the same frame on the same
// devices at the same second.
func (s Scene) jitter(seed string) float64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(seed))
	u := float64(h.Sum64()%10_000) / 10_000
	return 1 + s.Noise*(2*u-1)
}

// stage is a part of a frame's time.
type stage struct {
	name    string
	seconds float64
}

// lastToOpen is the stage with which the scene is open.
const lastToOpen = "load"

// opening reports whether the stage is one of opening the scene, once a start.
func (s stage) opening() bool { return s.name == "prepare" || s.name == lastToOpen }

// outOfMemory says which device has too little.
type outOfMemory struct {
	text string
	at   memory.Bytes // what the device had
}

func (e outOfMemory) Error() string { return e.text }

// stages returns what a frame takes on devices of a host: prepare, the loads one
// after another, the work shared among the devices' rates, and finish.
func (r Render) stages(s Scene, host stock.Host, now time.Time) ([]stage, error) {
	slower, err := r.memory(s, host)
	if err != nil {
		return nil, err
	}
	devices := r.Devices
	if slower < 0 { // fell back
		devices, slower = []string{stock.CPUDevice}, 1
	}
	rate, load, err := r.rate(s, host, devices)
	if err != nil {
		return nil, err
	}
	seed := fmt.Sprint(host.Name, devices, r.Frame, now.Unix())
	work := s.WorkS * s.weight(r.Frame) * float64(r.Samples) / 128 / rate * s.jitter(seed) * slower
	if r.AdaptiveError > 0 {
		// Quiet pixels stop early: a coarser threshold leaves fewer samples to take.
		work *= max(0.12, 1/(1+9*math.Sqrt(r.AdaptiveError)))
	}
	finish := s.FinishS
	switch {
	case r.Denoise == "smooth" && r.DenoiseDevice == "cpu":
		finish += 0.06 * s.WorkS
	case r.Denoise == "smooth":
		finish += 0.015 * s.WorkS
	}
	if r.Bucket > 0 && r.Bucket < 64 {
		work *= 1 + 4/float64(r.Bucket) // small tiles leave devices waiting
	}
	return []stage{{"prepare", s.PrepareS}, {"load", load}, {"work", work}, {"finish", finish}}, nil
}

// rate is what the devices do together, and the seconds of their loads.
func (r Render) rate(s Scene, host stock.Host, devices []string) (rate, load float64, err error) {
	gpus := 0.0
	for _, id := range devices {
		if d := host.Device(id); d != nil {
			own, err := rateOf(d.Model)
			if err != nil {
				return 0, 0, err
			}
			rate += own
			load += s.LoadGB / (machines.LaneGBs * float64(max(1, d.LinkWidth)))
			gpus++
		} else if id != stock.CPUDevice {
			return 0, 0, fmt.Errorf("host %s has no device %s", host.Name, id)
		}
	}
	if speed, known := machines.Backends[r.Backend]; known && gpus > 0 {
		rate *= speed
	}
	rate *= 1 - machines.Crowding*max(0, gpus-1)
	if slices.Contains(devices, stock.CPUDevice) {
		own, err := rateOf(host.CPU.Model)
		if err != nil {
			return 0, 0, err
		}
		if gpus > 0 {
			rate, own = rate*(1-machines.Feeding*gpus), own*machines.CPUKept
		}
		rate += own
	}
	return rate, load, nil
}

// memory returns how many times slower the work is for want of memory; below 0 the
// frame falls back to the CPU.
func (r Render) memory(s Scene, host stock.Host) (float64, error) {
	need := memory.Need{Scene: memory.GB(s.DeviceMemoryGB), Textures: memory.GB(s.TexturesGB)}
	switch r.MemoryMode {
	case "spill":
		need.Permits = []memory.Step{memory.Spill}
	case "cpu":
		need.Permits = []memory.Step{memory.CPU}
	}
	c := memory.Crew{Host: memory.GB(host.MemoryGB), CanShare: true, CanSpill: true, CanFallBack: true}
	for _, id := range r.Devices {
		d := host.Device(id)
		if d == nil {
			continue
		}
		c.Devices = append(c.Devices, memory.Device{ID: id, Total: memory.GB(d.MemoryGB), Held: memory.GB(d.InUseGB)})
		c.Linked = len(r.Devices) == 2 && slices.Contains(r.Devices, d.LinkedTo)
	}
	if len(c.Devices) == 0 {
		return 1, nil
	}
	f := memory.Judge(need, c)
	switch f.Verdict {
	case memory.DoesNotFit:
		d := host.Device(f.Limiting)
		return 0, outOfMemory{fmt.Sprintf("out of device memory on %s (%s): the scene needs %s, %s are free", f.Limiting, d.Model, f.Need, f.Limit), f.Limit}
	case memory.FallsBack:
		return -1, nil
	}
	return f.Slowdown, nil
}

// peak is what the fullest GPU holds of the scene; 0 on the CPU alone.
func (r Render) peak(s Scene, host stock.Host) memory.Bytes {
	need := memory.GB(s.DeviceMemoryGB)
	if !slices.ContainsFunc(r.Devices, func(id string) bool { return id != stock.CPUDevice }) {
		return 0
	}
	if len(r.Devices) == 2 {
		if d := host.Device(r.Devices[0]); d != nil && d.LinkedTo == r.Devices[1] && need > memory.GB(d.MemoryGB-d.InUseGB) {
			return memory.Judge(memory.Need{Scene: need}, memory.Crew{
				Devices: []memory.Device{{ID: "a", Total: memory.GB(d.MemoryGB)}, {ID: "b", Total: memory.GB(d.MemoryGB)}}, Linked: true, CanShare: true, Host: need,
			}).Need
		}
	}
	least := need
	for _, id := range r.Devices {
		if d := host.Device(id); d != nil {
			least = min(least, memory.GB(d.MemoryGB-d.InUseGB))
		}
	}
	return least
}

// installedOn is what the simulator claims to have installed on a host.
func installedOn(host string) (version string, plugins []string) {
	have, known := machines.Installed[host]
	if !known {
		have = machines.Installed[""]
	}
	return have.Version, have.Plugins
}

func rateOf(model string) (float64, error) {
	m, ok := machines.Models[model]
	if !ok {
		return 0, fmt.Errorf("the simulation has no device model %q", model)
	}
	return m.Rate, nil
}

// failures on demand, by the word that asks for them.
var failures = []string{"out-of-memory", "crash", "licence-lost", "hang", "half-written", "blank", "dim"}

// failFor reads a list such as crash@12,hang@20@punt: the failure that is asked
// for of this frame on this host, or "".
func failFor(list string, frame int, host string) (string, error) {
	for item := range strings.SplitSeq(list, ",") {
		if item == "" {
			continue
		}
		parts := strings.Split(item, "@")
		if len(parts) < 2 || len(parts) > 3 || !slices.Contains(failures, parts[0]) {
			return "", fmt.Errorf("fail %q: want WHAT@FRAME or WHAT@FRAME@HOST with WHAT one of %s", item, strings.Join(failures, ", "))
		}
		n, err := strconv.Atoi(parts[1])
		if err != nil {
			return "", fmt.Errorf("fail %q: %q is not a frame", item, parts[1])
		}
		if n == frame && (len(parts) == 2 || parts[2] == host) {
			return parts[0], nil
		}
	}
	return "", nil
}
