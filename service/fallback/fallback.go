// Package fallback decides what follows from tries that failed: where a frame goes that ran out
// of memory, and which crew gets no more frames of a shot. Package queue does it.
package fallback

import (
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/memory"
	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/shots"
	"rotanex.example/service/tries"
)

// Failed is a try that failed.
type Failed struct {
	Run        uuid.UUID
	Shot       string
	Host, Crew string
	Mode       string // of memory, that it was rendered in
	Trial      bool
}

// oftenOut is how many frames of a shot may run out of memory on a crew before the
// crew gets no more of them.
const oftenOut = 2

// Memory is what is done about a frame that ran out of memory.
type Memory struct {
	Step   memory.Step
	Places []string // that alone may have it; none: all
	Why    string
	Known  bool // false: the crew has no booking any more, and nothing is known
}

// Mode is the mode of memory that the frame is rendered in from now on.
func (m Memory) Mode() string {
	if m.SameCrew() {
		return string(m.Step)
	}
	return ""
}

// SameCrew reports whether the crew may have it again, in another mode.
func (m Memory) SameCrew() bool { return m.Step == memory.Spill || m.Step == memory.CPU }

// Answer finds where a frame goes that ran out of memory, by what its shot permits: to a
// smaller crew, to other devices, to the same crew with textures spilled or on the CPU; or it
// is held for a person. Wall and now are the real time and the service's.
func Answer(tx *gorm.DB, f Failed, m *timing.Measurement, wall, now time.Time) (out Memory, err error) {
	spec, err := specOf(tx, f.Run, f.Shot)
	if err != nil {
		return out, err
	}
	all, err := candidates(tx, f, spec, m, wall, now)
	if err != nil {
		return out, err
	}
	own := func(c memory.Candidate) bool { return c.Host == f.Host && c.Crew == f.Crew }
	i := slices.IndexFunc(all, own)
	if i < 0 {
		return out, nil
	}
	failed := all[i]
	step, to := memory.Answer(memory.StepsLeft(shots.Permits(spec), f.Mode), failed, slices.DeleteFunc(all, own))
	out = Memory{Step: step, Places: []string{}, Why: memory.Explain(step, failed.Fit, to), Known: true}
	for _, c := range to {
		out.Places = append(out.Places, dispatch.Place(c.Host, c.Crew))
	}
	return out, nil
}

// candidates lists the crews that have bookings of the shot, with their fit for what
// it is now known to need: more than the crew had that it ran out on.
func candidates(tx *gorm.DB, f Failed, spec shots.Spec, m *timing.Measurement, wall, now time.Time) ([]memory.Candidate, error) {
	need := shots.Need(spec)
	if m != nil && m.DevicePeakBytes > 0 {
		need.Observed, need.AtLeast = memory.Bytes(m.DevicePeakBytes), true
	}
	all, err := bookings.OfRun(tx, wall, f.Run, f.Shot)
	if err != nil {
		return nil, err
	}
	var out []memory.Candidate
	for _, c := range all {
		own := c.Host == f.Host && c.Name == f.Crew
		seen := slices.ContainsFunc(out, func(o memory.Candidate) bool { return o.Host == c.Host && o.Crew == c.Name })
		if seen || c.Farm || !own && c.Stands(now).When == dispatch.Never {
			continue // who takes no more frames is nobody to tie one to
		}
		x := memory.Candidate{Host: c.Host, Crew: c.Name, Devices: c.Devices}
		if x.Fit, x.Falls, err = hosts.Fit(tx, c.Host, c.Name, need, spec.Launcher); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// OftenOut says why a crew gets no more frames of a shot, as they keep running out of memory on
// it; "" if it gets more. Instead it may have to render them all as this one is to be.
func OftenOut(tx *gorm.DB, f Failed, m Memory) (why string, err error) {
	before, err := tries.On(tx, f.Run, f.Shot, f.Host, f.Crew)
	if err != nil || before.OutOfMemory+1 < oftenOut || f.Trial {
		return "", err
	}
	if m.SameCrew() {
		return "", bookings.SetMemoryMode(tx, f.Run, f.Shot, f.Host, f.Crew, m.Mode())
	}
	return fmt.Sprintf("%d frames of %s ran out of memory on it", before.OutOfMemory+1, f.Shot), nil
}

// oftenUnable is how often a renderer may fail to start on a crew that has given no
// frame of the shot before the crew gets no more of them.
const oftenUnable = 3

// OftenUnable says why a crew gets no more frames of a shot, as its renderer never starts there:
// else it would fail every frame once. "" if it gets more.
func OftenUnable(tx *gorm.DB, f Failed, cause string) (why string, err error) {
	if f.Trial {
		return "", nil
	}
	before, err := tries.On(tx, f.Run, f.Shot, f.Host, f.Crew)
	if err != nil || before.Unable+1 < oftenUnable || before.Other > 0 {
		return "", err
	}
	return fmt.Sprintf("the renderer of %s did not start on it %d times (%s)", f.Shot, before.Unable+1, cause), nil
}
