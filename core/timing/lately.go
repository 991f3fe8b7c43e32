package timing

import (
	"math"
	"slices"
)

const (
	// fewestLately is how many frames say something of how a crew does of late.
	fewestLately = 4
	// doubtLately is how many frames as expected are reckoned in with those that were seen.
	doubtLately = 4
	// leastLately is by how much a crew has to be off for it to count.
	leastLately = 0.05
)

// Lately is by what factor a crew's frames take longer than expected of it, or shorter,
// judged by the last ones: somebody works on its host, say, or it is hot. Ratios are what each
// frame took over what was expected of it. It is the median, drawn towards 1 by as much as
// a few frames prove little; 1 where there are too few, or it is off by less than 5 %.
//
// It holds for the crew's near future only, and is no part of what is learnt of it.
func Lately(ratios []float64) float64 {
	var logs []float64
	for _, r := range ratios {
		if r > 0 && !math.IsInf(r, 0) {
			logs = append(logs, math.Log(r))
		}
	}
	if len(logs) < fewestLately {
		return 1
	}
	slices.Sort(logs)
	middle := (logs[(len(logs)-1)/2] + logs[len(logs)/2]) / 2
	factor := math.Exp(middle * float64(len(logs)) / float64(len(logs)+doubtLately))
	if math.Abs(factor-1) < leastLately {
		return 1
	}
	return factor
}
