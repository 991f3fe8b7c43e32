package starts_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/starts"
)

const s = time.Second

func TestAStartIsAsLongAsOpeningAsksFor(t *testing.T) {
	t.Parallel()
	assert.Equal(t, 1, starts.Enough(0, 10*s))
	assert.Equal(t, 1, starts.Enough(3*s, 0), "what a frame takes is not known")
	assert.Equal(t, 1, starts.Enough(s, 60*s), "it costs 1.6 % of one")
	assert.Equal(t, 2, starts.Enough(2*s, 60*s))
	assert.Equal(t, 98, starts.Enough(s, s/2))
	assert.Equal(t, starts.Most, starts.Enough(time.Hour, s))
}

func TestNobodySitsOnFramesThatOthersCouldRender(t *testing.T) {
	t.Parallel()
	heavy := starts.Crew{Opening: s, Frame: s / 2}
	three := []starts.Crew{heavy, heavy, heavy}
	busy := []starts.Crew{{Free: 50 * s, Opening: s, Frame: s / 2}}
	assert.Equal(t, 90, starts.Frames(heavy, three, 360))
	assert.Equal(t, 90, starts.Frames(heavy, nil, 90))
	assert.Equal(t, 75, starts.Frames(heavy, nil, 150), "two of a size, not one of 98 and one of 52")
	assert.Equal(t, 90, starts.Frames(heavy, busy, 90), "the other one comes when all are done")
	assert.Equal(t, 63, starts.Frames(heavy, busy, 150), "two starts of 125 frames: of what is beyond that the other one has half")
	assert.Equal(t, 1, starts.Frames(heavy, three, 2))
	assert.Equal(t, 1, starts.Frames(starts.Crew{Opening: s, Frame: 60 * s}, nil, 400))
	assert.Equal(t, 1, starts.Frames(heavy, nil, 0))
}

// Crews that ask whenever they are free end within a twentieth of the best division of a shot,
// and an opening and a frame of the slowest behind it.
func TestTheLastFrameEndsCloseToTheBestDivision(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		frames := rapid.IntRange(1, 2000).Draw(t, "frames")
		crews := make([]starts.Crew, rapid.IntRange(1, 6).Draw(t, "crews"))
		rate, slowest, fastest := 0.0, time.Duration(0), time.Hour
		for i := range crews {
			crews[i] = starts.Crew{Frame: time.Duration(rapid.Float64Range(0.3, 30).Draw(t, "frame_s") * float64(s))}
			rate += 1 / crews[i].Frame.Seconds()
			slowest, fastest = max(slowest, crews[i].Frame), min(fastest, crews[i].Frame)
		}
		// With Most frames it costs less than Share.
		opening := time.Duration(rapid.Float64Range(0, starts.Most*starts.Share).Draw(t, "opening") * float64(fastest))
		for i := range crews {
			crews[i].Opening = opening
		}
		ends := make([]time.Duration, len(crews))
		for left := frames; left > 0; {
			c := slices.Index(ends, slices.Min(ends))
			var others []starts.Crew
			for i, o := range crews {
				if o.Free = ends[i] - ends[c]; i != c {
					others = append(others, o)
				}
			}
			n := min(left, starts.Frames(crews[c], others, left))
			if n < 1 {
				t.Fatalf("%d frames for crew %d", n, c)
			}
			ends[c] += opening + time.Duration(n)*crews[c].Frame
			left -= n
		}
		best := opening + time.Duration(float64(frames)/rate*float64(s))
		if end := slices.Max(ends); end > best*50/49+opening+slowest {
			t.Fatalf("ends after %s, the best is %s", end, best)
		}
	})
}

func TestWhoIsFreeTakesFramesThatASlowStartHolds(t *testing.T) {
	t.Parallel()
	free := starts.Crew{Opening: 3 * s, Frame: s / 2}
	held := func(n int, frame, first time.Duration) starts.Holder {
		return starts.Holder{Crew: starts.Crew{Free: first, Opening: 3 * s, Frame: frame}, Unbegun: n}
	}
	assert.Equal(t, []int{38}, starts.Shift(free, []starts.Holder{held(60, s, s)}), "both end after 22 s: it opens the scene and renders 38")
	assert.Equal(t, []int{0, 18}, starts.Shift(free, []starts.Holder{held(2, s, s), held(30, s, s)}), "the one that is nearly done keeps its own")
	assert.Equal(t, []int{0}, starts.Shift(free, []starts.Holder{held(6, s, 0)}), "not worth opening the scene for")
	assert.Empty(t, starts.Shift(free, nil))
}

// All are done sooner for it, and nobody gives up more than it holds.
func TestAShiftNeverMakesItLater(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		seconds := func(name string, most float64) time.Duration {
			return time.Duration(rapid.Float64Range(0.1, most).Draw(t, name) * float64(s))
		}
		to := starts.Crew{Opening: seconds("opening", 60), Frame: seconds("frame", 20)}
		var from []starts.Holder
		was, is := time.Duration(0), time.Duration(0)
		for range rapid.IntRange(1, 5).Draw(t, "holders") {
			h := starts.Holder{Crew: starts.Crew{Free: seconds("free", 30), Opening: to.Opening, Frame: seconds("frame", 20)}, Unbegun: rapid.IntRange(0, 250).Draw(t, "unbegun")}
			from, was = append(from, h), max(was, h.Free+time.Duration(h.Unbegun)*h.Frame)
		}
		moved := 0
		for i, n := range starts.Shift(to, from) {
			if n < 0 || n > from[i].Unbegun {
				t.Fatalf("holder %d gives up %d of %d", i, n, from[i].Unbegun)
			}
			is, moved = max(is, from[i].Free+time.Duration(from[i].Unbegun-n)*from[i].Frame), moved+n
		}
		if moved > 0 {
			is = max(is, to.Opening+time.Duration(moved)*to.Frame)
		}
		if is > was {
			t.Fatalf("ends after %s, was %s", is, was)
		}
	})
}
