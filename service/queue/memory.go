package queue

import (
	"errors"
	"strings"

	"gorm.io/gorm"

	"rotanex.example/core/memory"
	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/fallback"
	"rotanex.example/service/tries"
)

func (l leased) failed() fallback.Failed {
	return fallback.Failed{Run: l.run, Shot: l.shot, Host: l.host, Crew: l.crew, Mode: l.mode, Trial: l.trial}
}

// ranOut counts a try that ran out of memory. The frame goes where it fits.
func (q *Queue) ranOut(tx *gorm.DB, l leased, tail string, m *timing.Measurement) error {
	to, err := fallback.Answer(tx, l.failed(), m, q.clock.WallNow(), q.clock.Now())
	if err != nil {
		return err
	}
	if !to.Known {
		return q.fail(tx, l, outOfMemory, tail, m)
	}
	why, err := fallback.OftenOut(tx, l.failed(), to)
	if err == nil && why != "" {
		err = q.excludeCrew(tx, l, why, outOfMemory)
	}
	if err != nil {
		return err
	}
	state, err := setRanOut(tx, l, to.Step == memory.Hold, to.SameCrew(), to.Places, to.Mode())
	if err != nil {
		return err
	}
	return q.free(tx, l, tries.Failed, outOfMemory, strings.TrimSpace(tail+"\n"+to.Why), state, m)
}

// excludeCrew keeps further frames of the shot from the crew. Frames that nobody is left to
// render are failed with the cause, not forgotten.
func (q *Queue) excludeCrew(tx *gorm.DB, l leased, why, cause string) error {
	if err := bookings.Exclude(tx, l.run, l.shot, l.host, l.crew, why); err != nil {
		return err
	}
	return errors.Join(failForsaken(tx, l.run, l.shot, cause), q.giveUpBlocked(tx, l))
}

// excludeUnable keeps further frames of a shot from a crew on which its renderer never starts.
func (q *Queue) excludeUnable(tx *gorm.DB, l leased, cause string) error {
	if cause != refused && cause != cannotStart {
		return nil
	}
	why, err := fallback.OftenUnable(tx, l.failed(), cause)
	if err == nil && why != "" {
		err = q.excludeCrew(tx, l, why, cause)
	}
	return err
}
