package cli

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/api"
)

func TestAMapOfFramesIsRead(t *testing.T) {
	t.Parallel()
	for states, want := range map[string]string{"2d1r1f2w": "ddrfww", "6w": "wwwwww", "5d": "", "7d": "dddddd", "": "", "99999999999999999999d": "dddddd", "d": ""} {
		got := mapOf(api.FrameMap{Shots: []api.ShotMap{{Shot: "coda-060", Frames: "1-5,9", States: states}}})
		assert.Equal(t, want, string(got["coda-060"].states), states)
	}
	assert.Empty(t, mapOf(api.FrameMap{Shots: []api.ShotMap{{Shot: "coda-060", Frames: "none", States: "1d"}}}))
}

// Of frames that share a place, one that failed is seen whatever the others are.
func TestWhatFailedIsSeenInAnyRoom(t *testing.T) {
	t.Parallel()
	for states, want := range map[string]byte{"ddddf": 'f', "ddrdd": 'r', "ddd": 'd', "wdw": partly, "www": 'w', "rf": 'f'} {
		assert.Equal(t, string(want), string(most([]byte(states))), states)
	}
	states := []byte(strings.Repeat("d", 5000) + "f" + strings.Repeat("w", 5000))
	for places := 1; places < 200; places++ {
		drawn := stripped(grouped(states, places))
		assert.Len(t, []rune(drawn), places)
		assert.Contains(t, drawn, "✕")
	}
}

// Forty shots fit a window: those that lag come first, and what failed is listed.
func TestFortyShotsFitAWindow(t *testing.T) {
	t.Parallel()
	var run api.Run
	var m api.FrameMap
	for n := range 40 {
		done := 60 * n
		run.Shots = append(run.Shots, api.RunShot{Shot: fmt.Sprintf("coda-%03d", n), Counts: api.FrameCounts{Done: done, Waiting: 2500 - done}})
		m.Shots = append(m.Shots, api.ShotMap{Shot: fmt.Sprintf("coda-%03d", n), Frames: "1-2500", States: fmt.Sprintf("%dd%dw", done, 2500-done)})
		m.Failed = append(m.Failed, api.FailedFrames{Cause: "timeout", Shot: fmt.Sprintf("coda-%03d", n), Frames: "4", Count: 1})
	}
	var out strings.Builder
	lines := drawFrames(&out, run, m, 100, 20)
	text := stripped(out.String())
	assert.Equal(t, strings.Count(text, "\n"), lines)
	assert.LessOrEqual(t, lines, 28)
	assert.Less(t, strings.Index(text, "coda-000"), strings.Index(text, "coda-001"))
	assert.Contains(t, text, "and 22 more shots, further on")
	assert.Contains(t, text, "timeout: 40 frames of 40 shots: coda-000, coda-001")
}
