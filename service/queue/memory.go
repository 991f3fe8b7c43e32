package queue

import (
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/memory"
	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/shots"
)

// oftenOut is how many frames of a shot may run out of memory on a crew before the
// crew gets no more of them.
const oftenOut = 2

// ranOut counts a try that ran out of memory. The frame goes where it fits, by what
// its shot permits: to a smaller crew, to other devices, to the same crew with
// textures spilled or on the CPU; or it is held for a person.
func (q *Queue) ranOut(tx *gorm.DB, l leased, tail string, m *timing.Measurement) error {
	spec, err := specOf(tx, l.run, l.shot)
	if err != nil {
		return err
	}
	all, err := q.candidates(tx, l, spec, m)
	if err != nil {
		return err
	}
	own := func(c memory.Candidate) bool { return c.Host == l.host && c.Crew == l.crew }
	i := slices.IndexFunc(all, own)
	if i < 0 {
		return q.fail(tx, l, outOfMemory, tail, m)
	}
	failed := all[i]
	step, to := memory.Answer(memory.StepsLeft(shots.Permits(spec), l.mode), failed, slices.DeleteFunc(all, own))
	tail = strings.TrimSpace(tail + "\n" + memory.Explain(step, failed.Fit, to))
	if err := q.excludeOrRoute(tx, l, step); err != nil {
		return err
	}
	same, mode := step == memory.Spill || step == memory.CPU, ""
	if same {
		mode = string(step)
	}
	places := []string{}
	for _, c := range to {
		places = append(places, dispatch.Place(c.Host, c.Crew))
	}
	state, err := setRanOut(tx, l, step == memory.Hold, same, places, mode)
	if err != nil {
		return err
	}
	return q.free(tx, l, triedFailed, outOfMemory, tail, state, m)
}

// candidates lists the crews that have bookings of the shot, with their fit for what
// it is now known to need: more than the crew had that it ran out on.
func (q *Queue) candidates(tx *gorm.DB, l leased, spec shots.Spec, m *timing.Measurement) ([]memory.Candidate, error) {
	need := shots.Need(spec)
	if m != nil && m.DevicePeakBytes > 0 {
		need.Observed, need.AtLeast = memory.Bytes(m.DevicePeakBytes), true
	}
	all, err := bookings.OfRun(tx, q.clock.WallNow(), l.run, l.shot)
	if err != nil {
		return nil, err
	}
	var out []memory.Candidate
	for _, c := range all {
		own := c.Host == l.host && c.Name == l.crew
		seen := slices.ContainsFunc(out, func(o memory.Candidate) bool { return o.Host == c.Host && o.Crew == c.Name })
		if seen || c.Farm || !own && c.Stands(q.clock.Now()).When == dispatch.Never {
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

// excludeOrRoute keeps further frames of the shot from a crew on which they keep running out, or
// has them all rendered as this one is to be.
func (q *Queue) excludeOrRoute(tx *gorm.DB, l leased, step memory.Step) error {
	before, _, _, err := triesThere(tx, l)
	if err != nil {
		return err
	}
	if before+1 < oftenOut || l.trial {
		return nil
	}
	if step == memory.Spill || step == memory.CPU {
		return bookings.SetMemoryMode(tx, l.run, l.shot, l.host, l.crew, string(step))
	}
	return q.excludeCrew(tx, l, fmt.Sprintf("%d frames of %s ran out of memory on it", before+1, l.shot), outOfMemory)
}

// excludeCrew keeps further frames of the shot from the crew. Frames that nobody is left to
// render are failed with the cause, not forgotten.
func (q *Queue) excludeCrew(tx *gorm.DB, l leased, why, cause string) error {
	if err := bookings.Exclude(tx, l.run, l.shot, l.host, l.crew, why); err != nil {
		return err
	}
	return failForsaken(tx, l.run, l.shot, cause)
}

// oftenUnable is how often a renderer may fail to start on a crew that has given no
// frame of the shot before the crew gets no more of them.
const oftenUnable = 3

// excludeUnable keeps further frames of a shot from a crew on which its renderer never
// starts: else it would fail every frame once.
func (q *Queue) excludeUnable(tx *gorm.DB, l leased, cause string) error {
	if l.trial || cause != refused && cause != cannotStart {
		return nil
	}
	_, unable, other, err := triesThere(tx, l)
	if err != nil {
		return err
	}
	if unable+1 < oftenUnable || other > 0 {
		return nil
	}
	return q.excludeCrew(tx, l, fmt.Sprintf("the renderer of %s did not start on it %d times (%s)", l.shot, unable+1, cause), string(cause))
}
