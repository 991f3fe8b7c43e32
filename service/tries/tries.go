// Package tries keeps how each lease of a frame ended: who had it, for how long, and what was
// measured of it. Nothing in it changes; last words are dropped after a time.
package tries

import (
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/timing"
)

// How a try ended.
const (
	Done    = "done"
	Failed  = "failed"
	Lost    = "lost"    // with its agent
	Revoked = "revoked" // taken back or given back: it has not failed
)

// Try is one lease of a frame that was rendered under it, or was to be.
type Try struct {
	Frame      int64 // its number in the queue
	Fence      int64
	Run        uuid.UUID
	Host, Crew string
	Booking    int64
	Outcome    string
	Cause      string // of a failure
	Tail       string // the renderer's last words, or why it was taken back
	From, To   time.Time
	Seconds    float64
	Measured   *timing.Measurement // nil: nothing was
}

// opening is what of Seconds went into opening the scene.
func (t Try) opening() float64 {
	if t.Measured == nil {
		return 0
	}
	return t.Measured.OpeningPartS
}
