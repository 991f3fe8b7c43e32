package timing

import "math"

// regime is another kind of scene than the ordinary one, as far as one parameter of it goes: its
// prior is a mixture of two normal distributions, of the ordinary scenes' and of the regime's
// (finite mixture priors: McLachlan and Peel, "Finite mixture models", 2000). How common each
// regime is, is learnt over all subjects.
type regime int

const (
	ordinary    regime = iota // there is none
	cpuBound                  // preparing on the CPU outweighs the work that devices share
	loadBound                 // copying the scene to each device outweighs it
	feedBound                 // the CPU feeds no more than one or two devices
	crowded                   // one GPU alone is slow: its memory is nearly full, or its clock limited
	cpuIdle                   // the CPU adds next to nothing beside GPUs
	cpuInTheWay               // or takes away from them
	cpuWanted                 // or from all that it does for them
	regimes
)

// firstRegime is where the parameter lies in each regime, beside its mean in ordinary scenes, and
// the first guess of the part of scenes that are so, which counts for so many of them.
var firstRegime = [regimes]struct{ shift, spread, weight, count float64 }{
	cpuBound:    {4.4, 1.7, 0.20, 12},
	loadBound:   {3.4, 1.0, 0.13, 12},
	feedBound:   {4.2, 1.0, 0.10, 12},
	crowded:     {0.30, 0.15, 0.25, 12},
	cpuIdle:     {-3.0, 1.5, 0.15, 6},
	cpuInTheWay: {2.3, 0.9, 0.20, 6},
	cpuWanted:   {0.2, 0.15, 0.14, 12},
}

// either is the prior of a parameter about its mean: a normal distribution, or one of two.
type either struct {
	spread         float64
	shift, other   float64 // of the regime; other is 0 without
	weight         float64 // of the regime
	logOne, logTwo float64 // logs of the components' factors
}

func (m *Model) prior(p parameter) either {
	e := either{spread: m.spreadOf(p)}
	if p.regime == ordinary {
		return e
	}
	e.shift, e.other, e.weight = firstRegime[p.regime].shift, firstRegime[p.regime].spread, m.weights[p.regime]
	e.logOne, e.logTwo = math.Log((1-e.weight)/e.spread), math.Log(e.weight/e.other)
	return e
}

// log is that of its density at d from the mean, but for a constant, and the chance that d is of the regime.
func (e either) log(d float64) (log, inRegime float64) {
	one := d / e.spread
	if e.other == 0 {
		return -one * one / 2, 0
	}
	two := (d - e.shift) / e.other
	a, b := e.logOne-one*one/2, e.logTwo-two*two/2
	if a > b {
		x := math.Exp(b - a)
		return a + math.Log1p(x), x / (1 + x)
	}
	x := math.Exp(a - b)
	return b + math.Log1p(x), 1 / (1 + x)
}

// pull is the curvature and the slope by which it draws a parameter at d, as a step of expectation maximisation has them.
func (e either) pull(d float64) (precision, slope float64) {
	_, r := e.log(d)
	precision, slope = (1-r)/(e.spread*e.spread), -(1-r)*d/(e.spread*e.spread)
	if r > 0 {
		precision, slope = precision+r/(e.other*e.other), slope+r*(e.shift-d)/(e.other*e.other)
	}
	return precision, slope
}

// draw makes of a standard normal deviate, and a chance, one from it.
func (e either) draw(z, chance float64) float64 {
	if chance < e.weight {
		return e.shift + e.other*z
	}
	return e.spread * z
}

// inRegime is the chance that a parameter is of the regime which is known to be about d, with a variance: in the mean of that
// distribution, so that one of which nothing is known says nothing.
func (e either) inRegime(d, variance float64) (chance float64) {
	if e.other == 0 {
		return 0
	}
	spread, step := math.Sqrt(variance), sampleSize/16
	for i := step / 2; i < sampleSize; i += step {
		_, r := e.log(d + spread*evenly[i])
		chance += r / 16
	}
	return chance
}
