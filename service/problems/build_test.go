package problems

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/planning"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/candidates"
	"rotanex.example/service/hosts"
	"rotanex.example/service/shots"
)

func TestACrewDeclaredWhileAPlanIsMadeIsLeftOut(t *testing.T) {
	t.Parallel()
	b := builder{}
	viewedBefore := plannedShot{Shot: shots.Shot{Name: "lamp"}}
	_, usable := b.estimate(viewedBefore, "bellows", stock.Crew{ID: "g0"}, time.Second)
	assert.False(t, usable)
	assert.Equal(t, []LeftOut{{Shot: "lamp", Place: "bellows", Crew: "g0", Why: "it was declared while this was planned", Fix: "plan again"}}, b.notes.LeftOut)
}

// Frames of one start share what a start takes beyond rendering; a frame with a start for itself has all of it.
func TestATurnaroundIsSharedByAStart(t *testing.T) {
	t.Parallel()
	for inStart, want := range map[int]planning.Millis{0: 6000, 1: 6000, 10: 5100, 250: 5004} {
		candidate := candidates.Candidate{Place: hosts.Place{Name: "bellows"}, Crew: stock.Crew{ID: "g0"}, Known: true, Estimate: timing.Estimate{Seconds: 5, InStart: inStart}}
		shot := plannedShot{Shot: shots.Shot{Name: "lamp"}, view: candidates.View{All: []candidates.Candidate{candidate}}}
		b := builder{}
		b.notes.Basis = map[string]timing.Estimate{}
		frame, usable := b.estimate(shot, "bellows", stock.Crew{ID: "g0"}, time.Second)
		assert.True(t, usable, "%v", b.notes.LeftOut)
		assert.Equal(t, want, frame, inStart)
	}
}
