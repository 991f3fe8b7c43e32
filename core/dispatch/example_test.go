package dispatch_test

import (
	"fmt"
	"time"

	"rotanex.example/core/dispatch"
)

// A crew takes what it was booked for. One that has done so helps only if more frames wait
// than the others will finish by their planned ends.
func ExampleTakes() {
	now := time.Date(2031, 3, 7, 20, 0, 0, 0, time.UTC)
	booked := &dispatch.Crew{ID: 1, Host: "bellows", Name: "g0", Place: "bellows/g0", Frames: 40, Taken: 10, Start: now.Add(-time.Hour), End: now.Add(time.Hour), Frame: time.Minute}
	helper := &dispatch.Crew{ID: 2, Host: "eddy", Name: "g0", Place: "eddy/g0", Start: now.Add(-time.Hour), End: now.Add(time.Hour), Frame: time.Minute}
	all := []*dispatch.Crew{booked, helper}
	dispatch.Sort(all)
	frames := &dispatch.Kind{Waiting: 30}
	for _, c := range all {
		v := dispatch.Takes(c, frames, all, frames.Waiting, now)
		fmt.Printf("%s %v: %s\n", c.Place, v.When, v.Why())
	}
	// Output:
	// bellows/g0 now: was booked for it
	// eddy/g0 later: has done what it was booked for, and the others will do the rest by their planned ends
}
