// Package dispatch is the rule by which a crew that is free takes its next frame
// while a plan is carried out. The service asks it for every lease, and a
// forecast plays by it.
package dispatch

import "time"

// Booking is what a plan gave one crew to do for one shot, as it stands now.
type Booking struct {
	Frames int           // booked
	Taken  int           // done or being rendered by this crew under this booking
	Start  time.Time     // not before
	End    time.Time     // planned
	Frame  time.Duration // expected for one frame
	Live   bool          // its host is known to be up
}

// Owed is how many booked frames the crew has not yet taken.
func (b Booking) Owed() int { return max(0, b.Frames-b.Taken) }

// reach is how many of the frames still owed the crew is expected to finish by
// the booking's planned end.
func (b Booking) reach(now time.Time) int {
	if !b.Live || b.Frame <= 0 {
		return 0
	}
	from := now
	if b.Start.After(now) {
		from = b.Start
	}
	return min(b.Owed(), max(0, int(b.End.Sub(from)/b.Frame)))
}

// MayTake decides whether a free crew may take a frame of a shot of which
// `waiting` frames wait. Own is the crew's booking of the shot, others are all
// other bookings of it in the run.
//
// A crew takes what it was booked for as soon as its booking starts. When that
// is done, it helps: it takes a frame beyond its booking only if more frames wait
// than the others will finish by their planned ends. So the plan's division of
// the work, and its cost, stand while all goes well; and no slow, late or dead
// crew keeps a frame from being rendered.
func MayTake(own Booking, others []Booking, waiting int, now time.Time) bool {
	if waiting <= 0 || own.Start.After(now) {
		return false
	}
	if own.Owed() > 0 {
		return true
	}
	reached := 0
	for _, b := range others {
		reached += b.reach(now)
	}
	return waiting > reached
}
