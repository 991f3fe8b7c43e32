package forecast

import (
	"math"

	"rotanex.example/core/planning"
)

// Start is what opening a scene takes before the first frame of a start of the renderer, and how
// many frames one start renders where so many wait.
type Start struct {
	Opening planning.Millis
	Frames  int
}

// opening is how a crew's frames are told apart from opening their scene. The zero value: they
// are not, and a frame's time is its own.
type opening struct {
	takes   float64 // over the typical time of all frames that are drawn together
	inStart float64 // frames of a start; 0: it is not known
}

// openingOf says it of a row of so many milliseconds, of as many frames as are drawn together:
// its time has each frame's part of opening.
func openingOf(s Start, frame, size float64) opening {
	if s.Opening <= 0 || s.Frames < 1 || frame <= 0 {
		return opening{}
	}
	out := opening{takes: float64(s.Opening) / frame, inStart: float64(s.Frames)}
	out.takes = math.Min(out.takes, out.inStart/size) // opening is no more than all of the time
	return out
}

// own is the part of the typical time that frames take once their scene is open.
func (o opening) own(size float64) float64 {
	if o.inStart == 0 {
		return 1
	}
	return 1 - o.takes*size/o.inStart
}

// begun is how many starts a crew begins for frames that are drawn together, and how
// many frames of the last one are left then; so many were of the one before.
func (o opening) begun(size, left float64) (starts, after float64) {
	if o.inStart == 0 {
		return 0, 0
	}
	starts = math.Max(0, math.Ceil((size-left)/o.inStart-1e-9))
	return starts, left + starts*o.inStart - size
}
