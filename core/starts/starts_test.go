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
	assert.Equal(t, 1, starts.Enough(3*s, 60*s), "it costs 4.8 % of one")
	assert.Equal(t, 2, starts.Enough(4*s, 60*s))
	assert.Equal(t, 114, starts.Enough(3*s, s/2))
	assert.Equal(t, starts.Most, starts.Enough(time.Hour, s))
}

func TestNobodySitsOnFramesThatOthersCouldRender(t *testing.T) {
	t.Parallel()
	heavy := starts.Crew{Opening: 3 * s, Frame: s / 2}
	three := []starts.Crew{heavy, heavy, heavy}
	busy := []starts.Crew{{Free: 50 * s, Opening: 3 * s, Frame: s / 2}}
	assert.Equal(t, 100, starts.Frames(heavy, three, 400))
	assert.Equal(t, 100, starts.Frames(heavy, nil, 100))
	assert.Equal(t, 75, starts.Frames(heavy, nil, 150), "two of a size, not one of 114 and one of 36")
	assert.Equal(t, 100, starts.Frames(heavy, busy, 100), "the other one is just as far when all are done")
	assert.Equal(t, 63, starts.Frames(heavy, busy, 150), "two starts of 125 frames: of what is beyond that the other one has half")
	assert.Equal(t, 1, starts.Frames(heavy, three, 2))
	assert.Equal(t, 1, starts.Frames(starts.Crew{Opening: 3 * s, Frame: 60 * s}, nil, 400))
	assert.Equal(t, 1, starts.Frames(heavy, nil, 0))
}

func TestSpread(t *testing.T) {
	t.Parallel()
	assert.Equal(t, s/2+3*s/114, starts.Spread(3*s, s/2, 400))
	assert.Equal(t, s/2+3*s/12, starts.Spread(3*s, s/2, 12))
	assert.Equal(t, 10*s, starts.Spread(0, 10*s, 400))
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
		if end := slices.Max(ends); end > best*20/19+opening+slowest {
			t.Fatalf("ends after %s, the best is %s", end, best)
		}
	})
}
