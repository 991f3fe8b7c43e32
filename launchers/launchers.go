// Package launchers describes how renderers are started and read. A launcher is
// data, kept on the host where it is used: an argument list, never a shell line,
// with typed placeholders; and patterns that read progress, stage times and
// causes of failure from what the renderer prints. Nobody outside the host can
// add to it: a lease names a launcher and gives typed values, nothing else.
package launchers

import (
	"embed"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
)

//go:embed *.yaml
var shipped embed.FS

// Format is the format name in a launcher file.
const Format = "rotanex-launcher-1"

// Launcher is how one renderer is started and read.
type Launcher struct {
	FormatName  string             `yaml:"format"`
	Name        string             `yaml:"name"`
	Program     string             `yaml:"program"` // found on the agent's PATH
	Devices     string             `yaml:"devices"` // cpu: renders only on a crew that is the CPU; any
	Args        []string           `yaml:"args"`
	Environment map[string]string  `yaml:"environment"`
	Settings    map[string]Setting `yaml:"settings"`
	Output      string             `yaml:"output"`      // the ending of the file that it writes, or {setting.NAME} of a choice among endings
	Picture     string             `yaml:"picture"`     // where below {folder} the picture is, as beauty/{frame:4}.exr; "": it is {output}, or as several says
	Files       map[string]File    `yaml:"files"`       // that it writes for each frame beside the picture, by name
	Opened      string             `yaml:"opened"`      // pattern of what it says once the scene is open and the first frame begins
	Several     *Several           `yaml:"several"`     // how one start renders several frames; nil: it renders one
	StaysOpen   *StaysOpen         `yaml:"stays_open"`  // how it is given frame after frame; nil: it is not
	Progress    string             `yaml:"progress"`    // pattern with a group named percent
	Stages      map[string]string  `yaml:"stages"`      // patterns with a group named seconds
	DevicePeak  string             `yaml:"device_peak"` // pattern with a group named bytes
	Causes      []CauseRule        `yaml:"causes"`
	QuietS      int                `yaml:"quiet_s"`   // real seconds without a word after which it counts as hung
	MemoryGB    float64            `yaml:"memory_gb"` // of the host's memory that it may hold with all that it starts; 0: any
	About       About              `yaml:"about"`
	// DeviceState is a pattern of what the renderer says a device does: a group named
	// device and any of use (0 to 1), bytes, celsius, watts, mhz.
	DeviceState string `yaml:"device_state"`
	// Lacks lists, by device mode (gpu, cpu, hybrid), features that the renderer leaves
	// out without a word: the picture would silently differ.
	Lacks     map[string][]string `yaml:"lacks"`
	Shares    bool                `yaml:"shares"`     // shares a scene over a memory link
	Spills    bool                `yaml:"spills"`     // spills textures to host memory, told by {memory_mode}
	FallsBack bool                `yaml:"falls_back"` // falls back to the CPU, told by {memory_mode}

	picture                                                    pattern
	progress, devicePeak, deviceState, version, plugin, opened *regexp.Regexp
	stages                                                     map[string]*regexp.Regexp
}

// About is how a renderer is asked what it is.
type About struct {
	Args    []string `yaml:"args"`
	Version string   `yaml:"version"` // pattern with a group named version
	Plugin  string   `yaml:"plugin"`  // pattern with a group named plugin, for each that it has
}

// causes are the causes of a failure that a renderer can tell.
var causes = []string{"out-of-memory", "licence-lost", "cannot-start", "bad-picture", "crashed"}

// CauseRule names the cause of a failure by exit status or by what was printed.
type CauseRule struct {
	Cause   string `yaml:"cause"`
	Exit    []int  `yaml:"exit"`
	Pattern string `yaml:"pattern"`

	pattern *regexp.Regexp
}

// Shipped returns the launchers that come with Rotanex, by name.
func Shipped() (map[string]Launcher, error) {
	out := map[string]Launcher{}
	entries, err := shipped.ReadDir(".")
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		data, err := shipped.ReadFile(e.Name())
		if err != nil {
			return nil, err
		}
		l, err := Parse(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name(), err)
		}
		out[l.Name] = l
	}
	return out, nil
}

// Load returns the shipped launchers and those in *.yaml files of a folder, which
// take the place of shipped ones of the same name. An empty folder name means none.
func Load(folder string) (map[string]Launcher, error) {
	out, err := Shipped()
	if err != nil || folder == "" {
		return out, err
	}
	files, err := filepath.Glob(filepath.Join(folder, "*.yaml"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		l, err := Parse(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		out[l.Name] = l
	}
	return out, nil
}

// Parse reads one launcher and says what is wrong with it.
func Parse(data []byte) (Launcher, error) {
	var l Launcher
	if err := yaml.UnmarshalWithOptions(data, &l, yaml.Strict()); err != nil {
		return Launcher{}, err
	}
	if l.FormatName != Format {
		return Launcher{}, fmt.Errorf("format %q: want %q", l.FormatName, Format)
	}
	if l.Name == "" || l.Program == "" {
		return Launcher{}, errors.New("name and program are needed")
	}
	if l.QuietS <= 0 {
		l.QuietS = 600
	}
	var faults []error
	if l.MemoryGB < 0 || math.IsNaN(l.MemoryGB) || l.MemoryGB > mostMemoryGB {
		faults = append(faults, fmt.Errorf("memory_gb %g: want gigabytes, or leave it out", l.MemoryGB))
	}
	compile := func(what, pattern, group string) *regexp.Regexp {
		if pattern == "" {
			return nil
		}
		re, err := regexp.Compile(pattern)
		if err != nil {
			faults = append(faults, fmt.Errorf("%s: %w", what, err))
			return nil
		}
		if group != "" && re.SubexpIndex(group) < 0 {
			faults = append(faults, fmt.Errorf("%s: pattern %q has no group (?P<%s>…)", what, pattern, group))
		}
		return re
	}
	l.progress = compile("progress", l.Progress, "percent")
	l.devicePeak = compile("device_peak", l.DevicePeak, "bytes")
	l.deviceState = compile("device_state", l.DeviceState, "device")
	l.opened = compile("opened", l.Opened, "")
	if s := l.Several; s != nil {
		s.files, s.finished = compile("several: files", s.Files, "frame"), compile("several: finished", s.Finished, "")
		faults = append(faults, s.check(l.Args, l.Picture)...)
	}
	faults = append(faults, l.checkFiles()...)
	if l.StaysOpen != nil {
		faults = append(faults, l.StaysOpen.check(&l)...)
	}
	l.version = compile("about: version", l.About.Version, "version")
	l.plugin = compile("about: plugin", l.About.Plugin, "plugin")
	l.stages = map[string]*regexp.Regexp{}
	for name, pattern := range l.Stages {
		l.stages[name] = compile("stage "+name, pattern, "seconds")
	}
	for i := range l.Causes {
		if !slices.Contains(causes, l.Causes[i].Cause) {
			faults = append(faults, fmt.Errorf("causes: %q: want %s", l.Causes[i].Cause, strings.Join(causes, ", ")))
		}
		l.Causes[i].pattern = compile("cause "+l.Causes[i].Cause, l.Causes[i].Pattern, "")
	}
	for _, arg := range slices.Concat(l.Args, l.About.Args) {
		for _, hole := range placeholder.FindAllStringSubmatch(arg, -1) {
			setting, isSetting := strings.CutPrefix(hole[1], "setting.")
			if _, known := l.Settings[setting]; isSetting && !known || !isSetting && !slices.Contains(holes, hole[1]) {
				faults = append(faults, fmt.Errorf("argument %q: no placeholder {%s}; there are %s and {setting.NAME}", arg, hole[1], strings.Join(holes, ", ")))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(l.Settings)) {
		if err := l.Settings[name].declared(name); err != nil {
			faults = append(faults, err)
		}
	}
	if err := l.checkOutput(); err != nil {
		faults = append(faults, err)
	}
	return l, errors.Join(faults...)
}

var placeholder = regexp.MustCompile(`\{([a-z_.]+)\}`)

var holes = []string{"scene", "frame", "first", "last", "step", "frames", "width", "height", "threads", "devices", "output", "folder", "stock", "clock_factor", "backend", "memory_mode", "inputs"}

// Start is the typed values for one start.
type Start struct {
	Scene         string // path of the scene file, already made sure to lie in the scene folder
	Frames        []int  // at least one, ascending; several only as Takes allows
	Width, Height int
	Threads       int
	Devices       []string
	Output        string // path of the file to write, in a folder of its own; of several files that from which they have their names
	Stock         string // path of a file that describes this host's devices, as JSON
	ClockFactor   float64
	Backend       string
	MemoryMode    string // "", spill or cpu
	Inputs        string // folder of the frames of other passes that these need: see Input
	Settings      map[string]string
	Paths         map[string]string // of the files that settings name, by what they are set to
}

// Arguments returns the argument list for a start. No value can become more than
// a part of the one argument that it stands in.
func (l Launcher) Arguments(f Start) ([]string, error) {
	settings, err := l.Settle(f.Settings)
	if err != nil {
		return nil, err
	}
	values := map[string]string{
		"scene": f.Scene, "width": strconv.Itoa(f.Width), "height": strconv.Itoa(f.Height),
		"threads": strconv.Itoa(max(1, f.Threads)), "devices": strings.Join(f.Devices, ","), "output": f.Output,
		"backend": f.Backend, "memory_mode": f.MemoryMode, "stock": f.Stock, "inputs": f.Inputs, "folder": filepath.Dir(f.Output), "clock_factor": strconv.FormatFloat(f.ClockFactor, 'f', -1, 64),
	}
	for name, value := range settings {
		values["setting."+name] = l.Settings[name].argument(value, f.Paths)
	}
	maps.Copy(values, numbers(f.Frames))
	return filled(l.given(values), values), nil
}

// given are the arguments without those that are a setting alone and for its value nothing.
func (l Launcher) given(values map[string]string) (out []string) {
	for _, arg := range l.Args {
		hole := placeholder.FindStringSubmatch(arg)
		if hole != nil && hole[0] == arg && values[hole[1]] == "" {
			if s := l.Settings[strings.TrimPrefix(hole[1], "setting.")]; s.Type == "flag" || s.Type == "choice" || s.Type == "path" {
				continue
			}
		}
		out = append(out, arg)
	}
	return out
}

func filled(args []string, values map[string]string) []string {
	out := make([]string, len(args))
	for i, arg := range args {
		out[i] = placeholder.ReplaceAllStringFunc(arg, func(hole string) string { return values[hole[1:len(hole)-1]] })
	}
	return out
}

// AboutArguments returns the argument list that asks the renderer what it is; none
// where it cannot be asked.
func (l Launcher) AboutArguments(stock string) []string {
	return filled(l.About.Args, map[string]string{"stock": stock})
}

// ReadAbout reads what the renderer says it is.
func (l Launcher) ReadAbout(text string) (version string, plugins []string) {
	for line := range strings.Lines(text) {
		if m := match(l.version, "version", line); m != "" && version == "" {
			version = m
		}
		if m := match(l.plugin, "plugin", line); m != "" {
			plugins = append(plugins, m)
		}
	}
	return version, plugins
}

func match(pattern *regexp.Regexp, group, line string) string {
	if pattern == nil {
		return ""
	}
	m := pattern.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
	if m == nil {
		return ""
	}
	return m[pattern.SubexpIndex(group)]
}

// mostMemoryGB is more than any host has.
const mostMemoryGB = 1 << 20

// MemoryBytes is how much of the host's memory it may hold with all that it starts.
func (l Launcher) MemoryBytes() int64 { return int64(l.MemoryGB * 1e9) }

// Quiet is how long, in real time, the renderer may say nothing before it counts as hung.
func (l Launcher) Quiet() time.Duration { return time.Duration(l.QuietS) * time.Second }
