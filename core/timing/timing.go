// Package timing turns timed frames into what a frame takes: a measured figure with
// its spread for a crew that was tried, and for those that were not a predicted one,
// always marked and with its interval, from a model of where the time goes. It tells
// differences from noise, says how to divide a host into crews, and which trial would
// tell most. docs/timing.md derives the model.
package timing

import (
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"

	"rotanex.example/core/starts"
)

// Summary is what several timed frames say together. Times are in seconds.
type Summary struct {
	Frames int     `json:"frames"` // how many were timed; the warm-up is not among them
	Median float64 `json:"median_s"`
	Mean   float64 `json:"mean_s"` // what a frame takes on average, which a plan of many frames adds up
	Low    float64 `json:"low_s"`  // the fastest
	High   float64 `json:"high_s"` // the slowest
	Spread float64 `json:"spread"` // standard deviation over mean; 0 for a single frame
}

// Summarise returns what the times of frames, in seconds, say together; false
// where there is none.
func Summarise(seconds []float64) (Summary, bool) {
	if len(seconds) == 0 {
		return Summary{}, false
	}
	sorted := slices.Clone(seconds)
	slices.Sort(sorted)
	s := Summary{
		Frames: len(sorted), Mean: stat.Mean(sorted, nil),
		Low: sorted[0], High: sorted[len(sorted)-1],
		Median: median(sorted),
	}
	if len(sorted) > 1 && s.Mean > 0 {
		s.Spread = stat.StdDev(sorted, nil) / s.Mean
	}
	return s, true
}

// median of sorted values: the middle one, or the mean of the middle two.
func median(sorted []float64) float64 {
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}

// Basis says where an estimate comes from.
type Basis string

// What an estimate rests on.
const (
	Measured  Basis = "measured"  // timed on this very crew
	Predicted Basis = "predicted" // by the timing model
)

// Estimate is what a frame is expected to take.
type Estimate struct {
	Seconds float64 `json:"seconds"`
	Low     float64 `json:"low_s"` // of the 90 % interval
	High    float64 `json:"high_s"`
	Basis   Basis   `json:"basis"`
	Opening float64 `json:"opening_s,omitempty"` // of the scene, once a start; 0 is not known
	InStart int     `json:"in_start,omitempty"`  // frames of a start, that share it in Seconds; 0 is 1
}

// Off is by how much it may be off: the standard deviation of its logarithm, of which its interval holds nine in ten;
// 0 is not known.
func (e Estimate) Off() float64 {
	if e.Low <= 0 || e.High <= e.Low {
		return 0
	}
	return math.Log(e.High/e.Low) / (2 * 1.645)
}

// Sharing is an estimate of a frame alone as one of a shot's frames in starts of several, which
// share opening the scene.
func (e Estimate) Sharing(opening float64, frames int) Estimate {
	if opening <= 0 || e.Seconds <= 0 {
		return e
	}
	own := max(0, e.Seconds-opening)
	n := min(starts.Enough(duration(opening), duration(own)), max(1, frames))
	e.Opening, e.InStart = opening, n
	return e.scaled((own + opening/float64(n)) / e.Seconds)
}

// Alone is what a frame takes that has a start for itself.
func (e Estimate) Alone() Estimate {
	if e.InStart < 2 || e.Seconds <= 0 {
		return e
	}
	out := e.scaled((e.Seconds + e.Opening*(1-1/float64(e.InStart))) / e.Seconds)
	out.InStart = 1
	return out
}

// Shares is what a frame that took so long alone takes as one of a start like the estimate's: opening is what opening the
// scene took of that; 0 is not known.
func (e Estimate) Shares(alone, opening float64) float64 {
	if e.InStart < 2 || alone <= 0 {
		return alone
	}
	if opening <= 0 {
		opening = e.Opening
	}
	opening = min(opening, alone)
	return alone - opening + opening/float64(e.InStart)
}

func (e Estimate) scaled(by float64) Estimate {
	e.Seconds, e.Low, e.High = e.Seconds*by, e.Low*by, e.High*by
	return e
}

func duration(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
