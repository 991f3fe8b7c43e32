package problems

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/stock"
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
