// Package timing turns timed frames into what a frame takes: a measured figure with
// its spread for a crew that was tried, and for those that were not a predicted one,
// always marked and with its interval, from a model of where the time goes. It tells
// differences from noise, says how to divide a host into crews, and which trial would
// tell most. docs/timing.md derives the model.
package timing

import (
	"slices"

	"gonum.org/v1/gonum/stat"
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
}
