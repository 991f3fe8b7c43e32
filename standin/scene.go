// Package standin simulates what Rotanex works with and what a demo or a test
// cannot have: GPUs of given memory and speed with a renderer on them, and a
// rented-server service. The renderer takes the time, holds the memory, fails on
// demand and writes a real picture.
package standin

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

	"rotanex.example/core/stock"
)

//go:embed models.yaml
var modelsFile []byte

var machines struct {
	LaneGBs float64 `yaml:"lane_gb_s"`
	Models  map[string]struct {
		Rate float64 `yaml:"rate"`
	} `yaml:"models"`
}

func init() {
	if err := yaml.Unmarshal(modelsFile, &machines); err != nil {
		panic(err) // it is embedded: a test reads it
	}
}

// Scene is a scene file of the stand-in renderer.
type Scene struct {
	Title          string  `yaml:"title"`
	PrepareS       float64 `yaml:"prepare_s"` // on the CPU, whatever the crew
	LoadGB         float64 `yaml:"load_gb"`   // to each device
	WorkS          float64 `yaml:"work_s"`    // of a middling frame at 128 samples on a rate of 1
	FinishS        float64 `yaml:"finish_s"`
	Variation      float64 `yaml:"variation"`        // how much heavier the heaviest frames are, as a share
	Noise          float64 `yaml:"noise"`            // from one time to the next, as a share
	DeviceMemoryGB float64 `yaml:"device_memory_gb"` // on each device
	Frames         int     `yaml:"frames"`           // over which the animation runs
	Hue            float64 `yaml:"hue"`              // of the picture, 0 to 1
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

// outOfMemory says which device has too little.
type outOfMemory struct{ text string }

func (e outOfMemory) Error() string { return e.text }

// stages returns what a frame takes on devices of a host: prepare, the loads one
// after another, the work shared among the devices' rates, and finish.
func (s Scene) stages(host stock.Host, devices []string, frame, samples int, now time.Time) ([]stage, error) {
	load, rate := 0.0, 0.0
	for _, id := range devices {
		if id == stock.CPUDevice {
			r, err := rateOf(host.CPU.Model)
			if err != nil {
				return nil, err
			}
			rate += r
			continue
		}
		d := host.Device(id)
		if d == nil {
			return nil, fmt.Errorf("host %s has no device %s", host.Name, id)
		}
		if free := d.MemoryGB - d.HeldGB; s.DeviceMemoryGB > free {
			return nil, outOfMemory{fmt.Sprintf("out of device memory on %s (%s): the scene needs %.1f GB, %.1f GB are free", id, d.Model, s.DeviceMemoryGB, free)}
		}
		r, err := rateOf(d.Model)
		if err != nil {
			return nil, err
		}
		rate += r
		load += s.LoadGB / (machines.LaneGBs * float64(max(1, d.LinkWidth)))
	}
	seed := fmt.Sprint(host.Name, devices, frame, now.Unix())
	work := s.WorkS * s.weight(frame) * float64(samples) / 128 / rate * s.jitter(seed)
	return []stage{{"prepare", s.PrepareS}, {"load", load}, {"work", work}, {"finish", s.FinishS}}, nil
}

func rateOf(model string) (float64, error) {
	m, ok := machines.Models[model]
	if !ok {
		return 0, fmt.Errorf("the simulation has no device model %q", model)
	}
	return m.Rate, nil
}

// failures on demand, by the word that asks for them.
var failures = []string{"out-of-memory", "crash", "licence-lost", "hang", "half-written", "blank"}

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
