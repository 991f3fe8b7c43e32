// Package memory judges whether a shot fits a crew: what it needs on each device and
// in the host, what the crew has, and what can be done where that is too little.
package memory

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Bytes is an amount of memory. A gigabyte is 10^9 bytes.
type Bytes int64

// GB returns an amount given in gigabytes.
func GB(n float64) Bytes { return Bytes(math.Round(n * 1e9)) }

// GB returns the amount in gigabytes.
func (b Bytes) GB() float64 { return float64(b) / 1e9 }

func (b Bytes) String() string { return fmt.Sprintf("%.1f GB", b.GB()) }

// Verdict is the fit of a shot on a crew.
type Verdict string

// The verdicts, from the best to the worst.
const (
	Fits       Verdict = "fits"
	Shares     Verdict = "shares"       // between two devices over their memory link
	Spills     Verdict = "spills"       // textures to host memory: slower
	FallsBack  Verdict = "falls back"   // to the CPU
	DoesNotFit Verdict = "does not fit" //
)

// Step is what a shot permits when a crew's memory does not do, in the order in
// which its owner prefers it.
type Step string

// The steps.
const (
	SmallerCrew  Step = "smaller-crew"  // the crew without its smallest devices
	LargerDevice Step = "larger-device" // another crew, whose smallest device has at least as much
	Spill        Step = "spill"         // textures to host memory, where the renderer can
	CPU          Step = "cpu"           // the host's CPU instead
	Hold         Step = "hold"          // nothing: a person decides
)

// DefaultSteps is what a shot permits that says nothing of it: nothing that would
// change how it renders.
var DefaultSteps = []Step{SmallerCrew, LargerDevice}

// Need is what a frame of a shot needs.
type Need struct {
	Scene    Bytes // geometry and textures on a device, as declared
	Textures Bytes // the part of Scene that can be spilled
	Buffers  Bytes // for the picture: see Buffers
	Host     Bytes // of one renderer, in host memory
	// Observed is the largest peak that was seen on a device, buffers included; 0 is
	// none. AtLeast says that the frame ran out of memory there: it needs more.
	Observed Bytes
	AtLeast  bool
	// HostObserved is the largest peak of a renderer in host memory; 0 is none.
	HostObserved Bytes
	Permits      []Step
}

// Buffers is what a device holds of the picture itself: four 32-bit values a pixel
// for each pass.
func Buffers(width, height, passes int) Bytes {
	return Bytes(width) * Bytes(height) * 16 * Bytes(max(1, passes))
}

// Device returns what a frame needs on one device, and whether that was observed. An
// observed peak takes the place of what was declared, but a frame that ran out of
// memory only says that it needs more than there was.
func (n Need) Device() (Bytes, bool) {
	declared := n.Scene + n.Buffers
	switch {
	case n.Observed <= 0:
		return declared, false
	case n.AtLeast:
		return max(declared, n.Observed+n.Observed/50), true
	}
	return n.Observed, true
}

// HostEach returns what one renderer needs of host memory.
func (n Need) HostEach() Bytes { return max(n.Host, n.HostObserved) }

// Device is a GPU as far as memory goes.
type Device struct {
	ID    string
	Total Bytes
	Held  Bytes // by a display or another program
}

// Free is what is left for a frame.
func (d Device) Free() Bytes { return max(0, d.Total-d.Held) }

// Crew is a crew as far as memory goes.
type Crew struct {
	Devices []Device // its GPUs; none for the CPU alone
	Linked  bool     // its two devices share a memory link
	Host    Bytes    // all memory of the host
	// What the renderer can do.
	CanShare, CanSpill, CanFallBack bool
}

// sharedTwice is the part of a shared scene that must be on both devices: what both
// trace against all the time.
const sharedTwice = 0.3

// tight is the head-room, as a part of the memory, below which a renderer spends
// time on making room.
const tight = 0.05

// Fit is the verdict on a crew with its numbers.
type Fit struct {
	Verdict  Verdict `json:"verdict"`
	Need     Bytes   `json:"need_bytes"`      // on each device
	Observed bool    `json:"observed"`        // need was seen, not only declared
	Limit    Bytes   `json:"limit_bytes"`     // what the smallest device has free
	HeadRoom Bytes   `json:"head_room_bytes"` // limit less need; below 0 where it does not fit
	Limiting string  `json:"limiting"`        // the device that is the limit; "" for the CPU
	Spilled  Bytes   `json:"spilled_bytes"`   // to host memory
	// Slowdown is how many times longer a frame takes for it; 1 where it fits.
	Slowdown float64 `json:"slowdown"`
	Tight    bool    `json:"tight"` // it fits, but runs close to the limit
	// Without is what the crew would have without its limiting device; nil if that is
	// its only one, or the others are no larger.
	Without *Without `json:"without,omitempty"`
	// HostNeed is what one renderer takes of host memory; Renderers is how many of
	// them the host holds at once.
	HostNeed  Bytes  `json:"host_need_bytes"`
	HostLimit Bytes  `json:"host_limit_bytes"`
	Renderers int    `json:"renderers"`
	Why       string `json:"why"` // the verdict in words, with the numbers
}

// Without is a crew that leaves a device out.
type Without struct {
	Device  string  `json:"device"`
	Limit   Bytes   `json:"limit_bytes"`
	Verdict Verdict `json:"verdict"`
}

// Judge returns the fit of a need on a crew.
func Judge(n Need, c Crew) Fit {
	f := n.judge(c)
	if f.Limiting != "" && len(c.Devices) > 1 {
		rest := c
		rest.Linked = false
		rest.Devices = slices.DeleteFunc(slices.Clone(c.Devices), func(d Device) bool { return d.ID == f.Limiting })
		if other := n.judge(rest); other.Limit > f.Limit {
			f.Without = &Without{f.Limiting, other.Limit, other.Verdict}
		}
	}
	return f
}

func (n Need) judge(c Crew) Fit {
	need, observed := n.Device()
	f := Fit{Need: need, Observed: observed, Slowdown: 1, HostNeed: n.HostEach(), HostLimit: c.Host}
	f.Renderers = renderers(f.HostNeed, c.Host)
	if f.Renderers == 0 {
		f.Verdict, f.HeadRoom = DoesNotFit, c.Host-f.HostNeed
		f.Why = fmt.Sprintf("a renderer needs %s of host memory, the host has %s", f.HostNeed, c.Host)
		return f
	}
	if len(c.Devices) == 0 {
		f.Verdict, f.Need, f.Observed, f.HeadRoom = Fits, 0, false, c.Host-f.HostNeed
		f.Why = fmt.Sprintf("renders in host memory: needs %s of %s", f.HostNeed, c.Host)
		return f
	}
	smallest := c.Devices[0]
	for _, d := range c.Devices[1:] {
		if d.Free() < smallest.Free() {
			smallest = d
		}
	}
	f.Limiting, f.Limit = smallest.ID, smallest.Free()
	f.HeadRoom = f.Limit - need
	has := fmt.Sprintf("%s has %s free", f.Limiting, f.Limit)
	if smallest.Held > 0 {
		has += fmt.Sprintf(" (%s of %s are held)", smallest.Held, smallest.Total)
	}
	short := fmt.Sprintf("needs %s on each device, %s", need, has)
	shared := Bytes(float64(need) * (sharedTwice + (1-sharedTwice)/2))
	spilled := need - f.Limit
	switch {
	case f.HeadRoom >= 0:
		f.Verdict, f.Why = Fits, short
		if f.Tight = float64(f.HeadRoom) < tight*float64(f.Limit); f.Tight {
			f.Slowdown = 1.05
			f.Why += ": close to the limit"
		}
	case c.Linked && c.CanShare && len(c.Devices) == 2 && shared <= f.Limit:
		f.Verdict, f.Need, f.HeadRoom, f.Slowdown = Shares, shared, f.Limit-shared, 1.08
		f.Why = fmt.Sprintf("%s as a whole, shared over the memory link %s on each; %s", need, shared, has)
	case slices.Contains(n.Permits, Spill) && c.CanSpill && spilled <= n.Textures && c.Host-f.HostNeed >= spilled:
		f.Verdict, f.Spilled, f.HeadRoom = Spills, spilled, 0
		f.Slowdown = 1 + 3*float64(spilled)/float64(need)
		f.Why = fmt.Sprintf("%s; %s of its textures go to host memory", short, spilled)
	case slices.Contains(n.Permits, CPU) && c.CanFallBack:
		f.Verdict = FallsBack
		f.Why = short + "; the CPU renders it instead, as the shot permits"
	default:
		f.Verdict, f.Why = DoesNotFit, short
	}
	return f
}

// renderers is how many renderers of a need a host holds.
func renderers(each, host Bytes) int {
	if each <= 0 {
		return math.MaxInt32
	}
	return int(host / each)
}

// Candidate is a crew to which a frame that ran out of memory could go.
type Candidate struct {
	Host, Crew string
	Devices    []string
	Fit        Fit
	Falls      bool // its renderer can fall back to the CPU
}

// Answer says where a frame goes that ran out of memory on a crew: the first step
// that the shot permits and that some candidate allows, with the candidates it may
// go to. Spill and CPU mean the same crew again, rendering otherwise. Hold, which is
// also the answer where nothing else helps, means none.
func Answer(permits []Step, failed Candidate, candidates []Candidate) (Step, []Candidate) {
	fit := func(may func(Candidate) bool) (out []Candidate) {
		for _, c := range candidates {
			if (c.Fit.Verdict == Fits || c.Fit.Verdict == Shares) && may(c) {
				out = append(out, c)
			}
		}
		return out
	}
	for _, step := range permits {
		var to []Candidate
		switch step {
		case SmallerCrew:
			to = fit(func(c Candidate) bool { return c.Host == failed.Host && within(c.Devices, failed.Devices) })
		case LargerDevice:
			to = fit(func(c Candidate) bool { return c.Fit.Limit >= failed.Fit.Limit || c.Fit.Limiting == "" })
		case Spill:
			if failed.Fit.Verdict == Spills {
				to = []Candidate{failed}
			}
		case CPU:
			if failed.Falls {
				to = []Candidate{failed}
			}
		case Hold:
			return Hold, nil
		}
		if len(to) > 0 {
			return step, to
		}
	}
	return Hold, nil
}

// within reports whether a is a proper part of b.
func within(a, b []string) bool {
	if len(a) >= len(b) {
		return false
	}
	for _, x := range a {
		if !slices.Contains(b, x) {
			return false
		}
	}
	return true
}

// ParseSteps reads a shot's steps, or says which is none.
func ParseSteps(words []string) ([]Step, error) {
	known := []Step{SmallerCrew, LargerDevice, Spill, CPU, Hold}
	if len(words) == 0 {
		return DefaultSteps, nil
	}
	var out []Step
	for _, w := range words {
		if !slices.Contains(known, Step(w)) || slices.Contains(out, Step(w)) {
			return nil, fmt.Errorf("out_of_memory %q: want each of %s at most once, in the order in which to try them", w, strings.Trim(fmt.Sprint(known), "[]"))
		}
		out = append(out, Step(w))
	}
	return out, nil
}

// Explain says in words where a frame goes that ran out of memory on a crew of that fit:
// what Answer answered.
func Explain(step Step, failed Fit, to []Candidate) string {
	var where []string
	for _, c := range to {
		where = append(where, c.Host+"/"+c.Crew)
	}
	switch step {
	case Hold:
		return fmt.Sprintf("out of memory: %s; nothing that the shot permits helps, so the frame is held", failed.Why)
	case Spill, CPU:
		return fmt.Sprintf("out of memory: %s; tried again there with %s, as the shot permits", failed.Why, step)
	}
	return fmt.Sprintf("out of memory: %s; it goes to %s (%s)", failed.Why, strings.Join(where, " or "), step)
}

// StepsLeft are the steps that a shot permits less the mode of memory that the frame was
// already rendered with; "" is none.
func StepsLeft(permits []Step, mode string) []Step {
	return slices.DeleteFunc(slices.Clone(permits), func(s Step) bool { return string(s) == mode })
}
