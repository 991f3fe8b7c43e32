// Package leadtimes holds what a source says against what it did: how long a server
// takes to be up, how long a farm's first frame lets one wait, how often what was
// ordered never came.
//
//	k := leadtimes.Learn([]float64{1.2, 1.1, 1.3}, leadtimes.Boot)
//	lead := k.Typical * declared
package leadtimes

import (
	"math"
	"time"
)

// Standard deviations of the logarithm of a wait over what was declared, where
// nothing was seen yet.
const (
	Boot  = 0.20 // of a server
	Queue = 0.50 // of a farm
)

// What is assumed counts as much as so many that were seen: for the typical wait, for
// how waits differ, and for how many never come.
const (
	trustTypical = 2
	trustSpread  = 4
	trustComing  = 10
	assumedNever = 0.01
)

// Kept is how a declared wait was kept.
type Kept struct {
	Typical float64 `json:"typical"` // of the wait, over what was declared; 1 where nothing was seen
	Spread  float64 `json:"spread"`  // standard deviation of the logarithm of the next wait, the doubt about Typical in it
	Seen    int     `json:"seen"`    // how many waits it rests on
	Never   float64 `json:"never"`   // the chance that what is ordered never comes; 0 where nothing was ordered
}

// Learn estimates how the next wait will be from waits over what was declared, and
// from the spread that is assumed. Logarithms of waits are taken as normally
// distributed, mean and variance unknown, with the conjugate prior (Gelman et al.,
// Bayesian Data Analysis, 3rd ed., section 3.3). Ratios that are not above zero are
// left out.
func Learn(ratios []float64, assumed float64) Kept {
	var n, sum, squares float64
	for _, r := range ratios {
		if r > 0 && !math.IsInf(r, 1) {
			x := math.Log(r)
			n, sum, squares = n+1, sum+x, squares+x*x
		}
	}
	if n == 0 {
		return Kept{Typical: 1, Spread: assumed}
	}
	mean := sum / n
	typical := sum / (trustTypical + n)
	spread := trustSpread*assumed*assumed + squares - n*mean*mean + trustTypical*n/(trustTypical+n)*mean*mean
	variance := spread / (trustSpread + n) * (1 + 1/(trustTypical+n))
	return Kept{Typical: math.Exp(typical), Spread: math.Sqrt(math.Max(variance, 0)), Seen: int(n)}
}

// Coming adds how many of those ordered never came.
func (k Kept) Coming(ordered, never int) Kept {
	if ordered > 0 {
		k.Never = (float64(never) + assumedNever*trustComing) / float64(ordered+trustComing)
	}
	return k
}

// GivenUp is after how long a server is given up that was to be up after lead.
func GivenUp(lead time.Duration) time.Duration { return 2*lead + 10*time.Minute }
