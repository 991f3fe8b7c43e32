// Package timing turns timed frames into what a frame takes: a measured figure
// with its spread for a crew that was tried, and a predicted one, always marked,
// for crews of the same devices that were not.
package timing

import (
	"math"
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
	Predicted Basis = "predicted" // timed on a crew of the same device models elsewhere
)

// Trial is what was measured of one shot on one crew. Models are the crew's
// device models, in any order.
type Trial struct {
	Host, Crew string
	Models     []string
	Summary    Summary
}

// Estimate is what a frame is expected to take, in seconds.
type Estimate struct {
	Seconds float64 `json:"seconds"`
	Basis   Basis   `json:"basis"`
	From    string  `json:"from"` // the HOST/CREW that was timed
}

// EstimateFor returns what a frame takes on a crew by the trials of the shot, the
// newest last: the mean of the newest trial on the crew itself, else of the
// slowest newest trial on a crew of the same models on another host, else false.
// Which devices can be predicted from others is no guess: only like from like.
func EstimateFor(host, crew string, models []string, trials []Trial) (Estimate, bool) {
	own, like := Estimate{}, Estimate{}
	newest := map[string]Trial{}
	for _, t := range trials {
		newest[t.Host+"/"+t.Crew] = t
	}
	want := slices.Sorted(slices.Values(models))
	for place, t := range newest {
		switch {
		case t.Host == host && t.Crew == crew:
			own = Estimate{t.Summary.Mean, Measured, place}
		case slices.Equal(want, slices.Sorted(slices.Values(t.Models))):
			if t.Summary.Mean > like.Seconds || (t.Summary.Mean == like.Seconds && place < like.From) {
				like = Estimate{t.Summary.Mean, Predicted, place}
			}
		}
	}
	if own.Seconds > 0 {
		return own, true
	}
	return like, like.Seconds > 0 && !math.IsInf(like.Seconds, 0)
}
